package queue

import (
	"fmt"

	"vexillum/internal/core/engine"
	"vexillum/internal/core/farm"
	"vexillum/internal/service/refusal"
)

// mostWaits bounds the runs that one waits for.
const mostWaits = 64

// await finds the runs that a submission waits for, and returns the state that it begins
// in, alone and as it is told.
func (t *transaction) await(
	spec *farm.Spec, sub Submission, before []farm.RunSubmitted,
) (state farm.RunState, told string, err error) {
	if len(sub.After) > mostWaits {
		return "", "", refusal.New(refusal.Invalid, "after", "a run waits for at most %d others", mostWaits)
	}
	for _, w := range sub.After {
		other, err := t.waitedFor(w, spec.Project, before)
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
	if len(before) > 0 && waitsWithin(*spec, before) {
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
func (t *transaction) waitedFor(w Wait, project string, before []farm.RunSubmitted) (*farm.Run, error) {
	if w.Of >= 0 {
		if w.Of >= len(before) {
			return nil, fmt.Errorf("job %d waits for job %d, which stands behind it", len(before), w.Of)
		}
		return before[w.Of].Opened(), nil
	}
	found := t.State.Named(w.Name)
	for _, run := range found { // that of the own project before those of others
		if run.Spec.Project == project {
			return run, nil
		}
	}
	switch len(found) {
	case 0:
		return nil, refusal.New(refusal.Invalid, "after", "it waits for %.80q, and there is no run of that name", w.Name)
	case 1:
		return found[0], nil
	}
	return nil, refusal.New(
		refusal.Invalid, "after", "it waits for %.80q, which %d projects have; put the project and a slash before it",
		w.Name, len(found),
	)
}
