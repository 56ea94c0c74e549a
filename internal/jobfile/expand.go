package jobfile

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/farm"
	"vexillum/internal/fileschema"
	"vexillum/internal/wire"
)

// Run is one run that a file comes to.
type Run struct {
	Job       // with all that holds for it; Each, After and From are resolved
	Entry int // of File.Jobs from which it comes
	// Named says that the file names its job; else Name is what it is called as long as no
	// other scene has that name.
	Named bool
	// Variant tells it from the others that the entry comes to. It is in the Name, and not in
	// the Output.
	Variant []string
	plain   string // name of the entry
	Waits   []Wait
}

// Submit returns what is submitted for the run. The error is a *[WrongError].
func (r Run) Submit() (wire.Submit, error) {
	in := wire.Submit{
		Variant: r.Variant, Project: r.Project, Kind: r.Kind, Bundle: r.Bundle, Recipe: r.Recipe, Scene: r.Scene,
		Tiles: r.Tiles, Overlap: r.Overlap, DropTiles: r.Drop, OneByOne: r.OneByOne, With: r.With, Frames: string(r.Frames),
		Shot: string(r.Shot), Output: r.Output, Preset: r.Preset, Due: r.Due,
	}
	if r.Named {
		in.Job = r.plain
	}
	if r.Held != nil {
		in.Held = *r.Held
	}
	return in, r.Settings.Apply(&in)
}

// Wait is what a run waits for.
type Wait struct {
	Of    int    // place of another run of the file, which stands before it; below 0: see Name
	Name  string // of a run that there is already
	Frame bool   // each frame waits for the same frame alone
	Reads bool   // it reads the frames of that run
}

// Expand returns the runs that a file comes to: each after those that it waits for, else
// in the order of the file. The mistakes tell where in the file they are.
func (f *File) Expand() ([]Run, []fileschema.Wrong) {
	x := expansion{file: f, byName: map[string][]int{}}
	for i, job := range f.Jobs {
		x.job(i, job)
		if len(x.wrong) > 0 && len(x.runs) > MostRuns {
			return nil, x.wrong
		}
	}
	x.wait()
	if len(x.wrong) == 0 {
		x.order()
	}
	if len(x.wrong) > 0 {
		return nil, x.wrong
	}
	return x.runs, nil
}

type expansion struct {
	file   *File
	runs   []Run
	byName map[string][]int // runs by the name of a job, as written and once expanded
	wrong  []fileschema.Wrong
	waits  int // of all runs together
}

func (x *expansion) mistake(entry int, field []string, text string, args ...any) {
	at := append([]string{"jobs", strconv.Itoa(entry)}, field...)
	x.wrong = append(x.wrong, fileschema.Wrong{Path: at, What: fmt.Sprintf(text, args...)})
}

// job expands one job.
func (x *expansion) job(entry int, job Job) {
	base := Job{Project: x.file.Project}
	if x.file.All != nil {
		base = base.over(*x.file.All)
	}
	if job.From != "" { // these it takes over from what it reads
		base.Scene, base.Frames, base.Shot, base.Size, base.Scale = "", "", "", "", ""
	}
	job = base.over(job)
	if job.Scene == "" && job.From == "" {
		x.mistake(entry, nil, "it has no scene, and reads no frames of another job")
		return
	}
	if job.Project == "" {
		x.mistake(entry, nil, "it has no project; write project: above the jobs, or here")
		return
	}
	named := job.Name != ""
	if !named {
		if job.Name = farm.JobNameOf(job.Scene); job.Scene == "" {
			from, _, _ := strings.Cut(job.From, "/")
			job.Name = strings.TrimPrefix(from, "#") + "_" + cmp.Or(job.Recipe, "from")
		}
	}
	count := 1
	names := slices.Sorted(maps.Keys(job.Each))
	for _, name := range names {
		if count *= len(job.Each[name]); count > MostRuns || len(x.runs)+count > MostRuns {
			x.mistake(
				entry, []string{"each"}, "the file comes to more than %d runs; split it", MostRuns,
			)
			x.runs = append(x.runs, make([]Run, MostRuns)...)
			return
		}
	}
	for i := range count {
		x.add(entry, job, names, i, named)
	}
}

// add adds one combination of what a job has each of.
func (x *expansion) add(entry int, job Job, names []string, combination int, named bool) {
	run := Run{Job: job, Entry: entry, Named: named, plain: job.Name}
	run.Each = nil
	var parts []string
	for _, name := range slices.Backward(names) {
		list := job.Each[name]
		value := list[combination%len(list)]
		combination /= len(list)
		run.Values = together(run.Values, map[string]Text{name: value})
		parts = append(parts, plain(string(value)))
	}
	if len(parts) > 0 {
		slices.Reverse(parts)
		run.Variant = parts
		run.Name = job.Name + "_" + strings.Join(parts, "_")
	}
	for _, at := range x.byName[run.Name] {
		if other := &x.runs[at]; other.Name == run.Name && other.Project == run.Project &&
			(other.Named || run.Named || other.Scene == run.Scene) && kindOf(other.Job) == kindOf(run.Job) {
			x.mistake(entry, []string{"name"}, "two jobs are called %s; each needs a name of its own", run.Name)
			break
		}
	}
	x.byName[run.Name] = append(x.byName[run.Name], len(x.runs))
	if run.Name != job.Name {
		x.byName[job.Name] = append(x.byName[job.Name], len(x.runs))
	}
	x.runs = append(x.runs, run)
}

func kindOf(j Job) string {
	if j.Kind == "" {
		return "final"
	}
	return j.Kind
}

// plain returns a value as it may stand in the name of a job or folder.
func plain(value string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= 'A' && r <= 'Z', r >= '0' && r <= '9', r == '.', r == '-', r == '_':
			return r
		}
		return '-'
	}, value)
}

// wait finds what each run waits for.
func (x *expansion) wait() {
	for i := range x.runs {
		run := &x.runs[i]
		x.waitsFor(i, After{Job: run.From}, true, []string{"from"})
		for k, a := range run.After {
			x.waitsFor(i, a, false, []string{"after", strconv.Itoa(k)})
		}
		if x.waits > MostWaits {
			x.mistake(
				run.Entry, []string{"after"}, "the runs of the file wait for others more than %d times; split it", MostWaits,
			)
			return
		}
		run.After, run.From = nil, ""
	}
}

func (x *expansion) waitsFor(i int, a After, reads bool, field []string) {
	if a.Job == "" {
		return
	}
	run := &x.runs[i]
	found := x.byName[a.Job]
	if reads && len(found) > 1 {
		x.mistake(
			run.Entry, field, "%s stands for %s, and a run reads the frames of one; name that", a.Job,
			english.Plural(len(found), "run", ""),
		)
		return
	}
	if len(found) == 0 {
		run.Waits = append(run.Waits, Wait{Of: -1, Name: a.Job, Frame: a.By == "frame", Reads: reads})
		return
	}
	for _, of := range found {
		if x.waits++; x.waits > MostWaits {
			return
		}
		if of == i {
			x.mistake(run.Entry, field, "%s waits for itself", run.Name)
			return
		}
		w := Wait{Of: of, Frame: a.By == "frame", Reads: reads}
		at := slices.IndexFunc(run.Waits, func(b Wait) bool { return b.Of == of })
		switch {
		case at < 0:
			run.Waits = append(run.Waits, w)
		case run.Waits[at].Reads: // read frames may be waited for one by one
			run.Waits[at].Frame = w.Frame
		default:
			x.mistake(run.Entry, field, "%s waits for %s twice; name it once", run.Name, x.runs[of].Name)
			return
		}
	}
}

// order puts each run behind those that it waits for, or says where they wait in a circle.
func (x *expansion) order() {
	order, circle := Order(len(x.runs), func(i int) []int {
		var of []int
		for _, w := range x.runs[i].Waits {
			if w.Of >= 0 {
				of = append(of, w.Of)
			}
		}
		return of
	})
	if circle != nil {
		var names []string
		for _, i := range circle {
			names = append(names, x.runs[i].Name)
		}
		names = append(names, names[0])
		x.mistake(
			x.runs[circle[0]].Entry, []string{"after"}, "the jobs wait for one another in a circle: %s",
			strings.Join(names, " waits for "),
		)
		return
	}
	place := make([]int, len(order))
	for at, i := range order {
		place[i] = at
	}
	sorted := make([]Run, len(order))
	for at, i := range order {
		sorted[at] = x.runs[i]
		for k, w := range sorted[at].Waits {
			if w.Of >= 0 {
				sorted[at].Waits[k].Of = place[w.Of]
			}
		}
	}
	x.runs = sorted
}

// Order returns n things so that each stands behind those that it waits for, and else in
// their order; or a circle of things of which each waits for the next, and the last for
// the first.
func Order(n int, waits func(int) []int) (order, circle []int) {
	const (
		fresh = iota
		open
		done
	)
	type step struct {
		of   int
		rest []int
	}
	state := make([]int8, n)
	for first := range n {
		if state[first] != fresh {
			continue
		}
		path := []step{{first, waits(first)}}
		state[first] = open
		for len(path) > 0 {
			top := &path[len(path)-1]
			if len(top.rest) == 0 {
				state[top.of] = done
				order = append(order, top.of)
				path = path[:len(path)-1]
				continue
			}
			next := top.rest[0]
			top.rest = top.rest[1:]
			switch state[next] {
			case fresh:
				state[next] = open
				path = append(path, step{next, waits(next)})
			case open:
				from := slices.IndexFunc(path, func(s step) bool { return s.of == next })
				for _, s := range path[from:] {
					circle = append(circle, s.of)
				}
				return nil, circle
			}
		}
	}
	return order, nil
}
