package farm

import (
	"fmt"
	"path"
	"strings"
)

// Subject is what a job renders. All runs of a job have the same one; what one of them has
// shown, such as how long the shot is or what its frames cost, says nothing of another's.
type Subject struct {
	// Scene is its path inside the project's scene place, or where it lay when it was sent
	// as a bundle; empty: the job makes something of what another renders.
	Scene string
	// Camera and Layer are the look: which of the scene's. Empty: the scene's own.
	Camera, Layer string
	Of            string // job that it reads; empty of one that has a scene
}

// Subject returns what a run is of, as far as the run itself says: not what it reads.
func (s Spec) Subject() Subject {
	scene := s.Scene
	if s.Origin != "" {
		scene = s.Origin
	}
	return Subject{Scene: scene, Camera: s.Values["camera"], Layer: s.Values["layer"]}
}

// Look returns what is chosen of the scene, for names; empty: nothing is.
func (s Subject) Look() string {
	return strings.Trim(s.Camera+"_"+s.Layer, "_")
}

// String says what it is, for sentences.
func (s Subject) String() string {
	out := s.Scene
	if out == "" {
		out = "what " + s.Of + " renders"
	}
	for _, part := range []struct{ name, value string }{{"camera", s.Camera}, {"layer", s.Layer}} {
		if part.value != "" {
			out += fmt.Sprintf(" with the %s %s", part.name, part.value)
		}
	}
	return out
}

// SubjectOf returns what a run is of, together with the job that it reads.
func (s *State) SubjectOf(spec Spec) Subject {
	out := spec.Subject()
	if from := s.Runs[spec.From]; out.Scene == "" && from != nil {
		out.Of = from.Spec.Job
	}
	return out
}

// Before yields the runs of the job of one that are of the same subject, the oldest first. Runs
// from before a job had only one subject may have its name and another subject: they are left
// out.
func (s *State) Before(spec Spec) func(yield func(*Run) bool) {
	return s.RunsBefore(spec, s.SubjectOf(spec))
}

// RunsBefore is Before where it is known what the run is of.
func (s *State) RunsBefore(spec Spec, subject Subject) func(yield func(*Run) bool) {
	return func(yield func(*Run) bool) {
		for _, run := range s.RunsOf(spec.Project, spec.Job) {
			if s.SubjectOf(run.Spec) == subject && !yield(run) {
				return
			}
		}
	}
}

// NewestBefore returns the newest run of the job of one that is of a subject, or nil.
func (s *State) NewestBefore(spec Spec, subject Subject) (newest *Run) {
	for run := range s.RunsBefore(spec, subject) {
		if newest == nil || run.ID > newest.ID {
			newest = run
		}
	}
	return newest
}

// HolderError says that a name is another job's.
type HolderError struct {
	Name   string
	Holder Subject // what that job renders
}

// Error says so, and what to do.
func (e *HolderError) Error() string {
	return fmt.Sprintf(
		"the job %s of this project renders %s, and a job renders one thing; choose another name, or leave it out",
		e.Name, e.Holder,
	)
}

// Naming chooses names for jobs of one project that are submitted together.
type Naming struct {
	State   *State
	Project string
	mine    map[string]Subject // of names that were given, in small letters
}

// holder returns what the job of a name renders, as its newest run has it.
func (n *Naming) holder(name string) (held bool, by Subject, spelled string) {
	if by, held = n.mine[strings.ToLower(name)]; held {
		return true, by, name
	}
	if newest := n.State.NewestOf(n.Project, name); newest != nil {
		return true, n.State.SubjectOf(newest.Spec), newest.Spec.Job
	}
	return false, by, name
}

// Take gives a subject the name that somebody has chosen. A *HolderError says that it is
// another's.
func (n *Naming) Take(name string, of Subject) error {
	if held, by, _ := n.holder(name); held && by != of {
		return &HolderError{name, by}
	}
	n.take(name, of)
	return nil
}

func (n *Naming) take(name string, of Subject) {
	if n.mine == nil {
		n.mine = map[string]Subject{}
	}
	n.mine[strings.ToLower(name)] = of
}

// mostFolders bounds the folders whose names are put before that of a scene, and mostAlike the
// scenes that only a number tells apart.
const (
	mostFolders = 3
	mostAlike   = 10_000
)

// Choose names a job that nobody has named: after its scene, with the look behind it where
// somebody has chosen that, or where another look of the scene has the name; where another
// scene has it, with the scene's folders before it. A job that there is already of the subject
// and could be called so goes on. ending stands behind all that, such as the number of a still.
// It returns the name without the ending, the whole, and, of a new one, who has the plain name; nil: nobody.
func (n *Naming) Choose(base, ending string, chosen bool, of Subject) (plain, name string, other *HolderError) {
	all, fitting := n.candidates(base, ending, chosen, of)
	for i, held := 2, true; i < mostAlike && held; i++ { // where no folder tells them apart
		numbered := fmt.Sprintf("%.70s_%d", base, i)
		held, _, _ = n.holder(numbered + ending)
		all, fitting = append(all, numbered), append(fitting, numbered)
	}
	for _, wanted := range []bool{true, false} { // one that there is already comes first
		names := all
		if !wanted {
			names = fitting
		}
		for _, plain := range names {
			held, by, spelled := n.holder(plain + ending)
			if held && by != of && other == nil {
				other = &HolderError{plain + ending, by}
			}
			if held == wanted && (!held || by == of && spelled == plain+ending) && CheckJobName(plain+ending) == nil {
				n.take(plain+ending, of)
				if wanted { // it has been called so before
					other = nil
				}
				return plain, plain + ending, other
			}
		}
	}
	return base, base + ending, other // where it is refused like a name that somebody gave
}

// candidates returns the names without the ending that a job may have been given, and of these
// the ones that it may be given now, the best first.
func (n *Naming) candidates(base, ending string, chosen bool, of Subject) (all, fitting []string) {
	folder, look := path.Dir(strings.ReplaceAll(of.Scene, `\`, "/")), plainName(of.Look())
	for range mostFolders + 1 {
		_, by, _ := n.holder(base + ending)
		all = append(all, base, base+"_"+look)
		switch {
		case look == "" || ending != "":
			all, fitting = all[:len(all)-1], append(fitting, base)
		case chosen:
			fitting = append(fitting, base+"_"+look, base)
		case by.Scene == of.Scene:
			fitting = append(fitting, base, base+"_"+look)
		default:
			fitting = append(fitting, base)
		}
		before := plainName(path.Base(folder))
		if before == "" {
			break
		}
		base, folder = before+"_"+base, path.Dir(folder)
	}
	return all, fitting
}

// JobNameOf returns what a job is called that nobody names: as its scene, as far as jobs may be
// called so.
func JobNameOf(scene string) string {
	name := path.Base(strings.ReplaceAll(scene, `\`, "/"))
	name = strings.TrimSuffix(name, path.Ext(name))
	if CheckJobName(name) == nil {
		return name
	}
	return fmt.Sprintf("job-%.40s", plainName(name))
}

// plainName returns a text as far as it may stand in the name of a job.
func plainName(text string) string {
	return strings.Trim(strings.Map(func(r rune) rune {
		if r < 128 && (r == '_' || r == '-' || r == '.' || r >= '0' && r <= '9' || r|32 >= 'a' && r|32 <= 'z') {
			return r
		}
		return '-'
	}, text), "-.")
}
