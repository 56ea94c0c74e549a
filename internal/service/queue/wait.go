package queue

import (
	"fmt"
	"slices"
	"strings"

	"vexillum/internal/core/engine"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/recipe"
	"vexillum/internal/service/refusal"
)

// mostWaits bounds the runs that one waits for.
const mostWaits = 64

// await finds the runs that a submission waits for, and returns the state that it begins
// in, alone and as it is told.
func (t *transaction) await(
	spec *farm.Spec, sub Submission, before *together,
) (state farm.RunState, told string, err error) {
	if len(sub.After) > mostWaits {
		return "", "", refusal.New(refusal.Invalid, "after", "a run waits for at most %d others", mostWaits)
	}
	for _, w := range sub.After {
		other, err := t.waitedFor(w, spec.Project, sub.sight(t.State), before)
		if err != nil {
			return "", "", err
		}
		if w.Reads && spec.From == 0 {
			spec.From = other.ID
		}
		spec.After = append(spec.After, farm.After{Run: other.ID, Frames: w.Frames})
		if err := t.State.CheckWait(*spec, len(spec.After)-1, other); err != nil {
			return "", "", refusal.New(refusal.Invalid, "after", "%v", err)
		}
	}
	state, broken := t.State.Begins(*spec)
	if broken != nil {
		return "", "", refusal.New(refusal.Conflict, "after", "%s", engine.BrokenReason(broken))
	}
	if len(before.records) > 0 && waitsWithin(*spec, before.records) {
		state = farm.RunWaiting
	}
	told = string(state)
	if sub.Held {
		state, told = farm.RunHeld, string(farm.RunHeld)
	}
	return state, told, nil
}

// waitsWithin reports whether a run waits for one that is submitted with it.
func waitsWithin(spec farm.Spec, before []farm.RunSubmitted) bool {
	for _, a := range spec.After {
		if a.Run >= before[0].Run {
			return true
		}
	}
	return false
}

// waitedFor finds a run that a submission waits for.
func (t *transaction) waitedFor(
	w Wait, project string, sight farm.Sight, before *together,
) (*farm.Run, error) {
	if w.Of >= 0 {
		if w.Of >= len(before.records) {
			return nil, fmt.Errorf("job %d waits for job %d, which stands behind it", len(before.records), w.Of)
		}
		return before.run(w.Of), nil
	}
	found := slices.DeleteFunc(t.State.Named(w.Name), func(run *farm.Run) bool {
		return !sight.Sees(run.Spec.Project)
	})
	for _, run := range found { // that of the own project before those of others
		if run.Spec.Project == project {
			return run, nil
		}
	}
	switch len(found) {
	case 0:
		return nil, refusal.New(
			refusal.Invalid,
			"after",
			"it waits for %.80q, and there is no run of that name",
			w.Name,
		)
	case 1:
		return found[0], nil
	}
	return nil, refusal.New(
		refusal.Invalid, "after", "it waits for %.80q, which %d projects have; put the project and a slash before it",
		w.Name, len(found),
	)
}

// sight returns which projects its actor sees.
func (sub *Submission) sight(s *farm.State) farm.Sight {
	return s.SightOf(farm.Person{Name: sub.Actor, Role: sub.Role})
}

// reads returns the place among what a submission waits for of the run whose frames it
// reads; below 0: of none.
func (sub *Submission) reads() int {
	return slices.IndexFunc(sub.After, func(w Wait) bool { return w.Reads })
}

// checkReads looks whether a submission reads what its recipe makes something of.
func (sub *Submission) checkReads(r *recipe.Recipe) error {
	at := sub.reads()
	sub.Reads = r.Reads
	switch {
	case r.Reads == "":
		if sub.Spec.Scene == "" {
			return refusal.New(refusal.Invalid, "scene", "the recipe %s reads a scene; name it", r.Name)
		}
		return nil
	case at < 0:
		return refusal.New(
			refusal.Invalid,
			"from",
			"the recipe %s makes something of the frames of another run; name that with --from",
			r.Name,
		)
	case r.Reads == recipe.ReadsFrames:
		sub.After[at].Frames = true
		return nil
	}
	sub.After[at].Frames = false
	if sub.Spec.Frames.Empty() {
		sub.Spec.Frames = frames.One(1)
	}
	if sub.Spec.Frames.Len() > 1 {
		return refusal.New(
			refusal.Invalid, "frames", "the recipe %s makes one file of all frames of %s; leave the frames out", r.Name,
			sub.After[at].Name,
		)
	}
	return nil
}

// read takes over from the run whose frames a submission reads what nobody has said: the
// size, the frames, and how many there are in a second.
func (t *transaction) read(spec *farm.Spec, sub Submission, before *together) error {
	at := sub.reads()
	if at < 0 {
		return nil
	}
	from, err := t.waitedFor(sub.After[at], spec.Project, sub.sight(t.State), before)
	if err != nil {
		return err
	}
	var taken []string
	if spec.Frames.Empty() {
		spec.Frames = from.Spec.Frames
		taken = append(taken, "frames "+spec.Frames.String())
	}
	if !sub.sized {
		spec.Width, spec.Height = from.Spec.Width, from.Spec.Height
		taken = append(taken, fmt.Sprintf("size %dx%d", spec.Width, spec.Height))
	}
	if pass := spec.Values["from_pass"]; pass != "" && !slices.Contains(from.Spec.PassNames(), pass) {
		return refusal.New(refusal.Invalid, "values", "%s has no pass %.40q", from.Spec.Name(), pass)
	}
	if _, takes := spec.Values["fps"]; takes && !slices.Contains(sub.Given, "fps") {
		if fps := from.Spec.Values["fps"]; fps != "" {
			spec.Values["fps"] = fps
			taken = append(taken, fps+" frames a second")
		}
	}
	if len(taken) > 0 {
		before.taken[len(before.records)] = fmt.Sprintf("From %s: %s.", from.Spec.Name(), strings.Join(taken, ", "))
	}
	return nil
}
