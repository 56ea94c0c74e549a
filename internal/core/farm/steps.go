package farm

import (
	"fmt"
	"slices"

	"vexillum/internal/core/frames"
)

// After is a run that another waits for.
type After struct {
	Run RunID `json:"run"`
	// Frames: each frame waits for the same frame of that run alone, rather than for all of it.
	Frames bool `json:"frames,omitempty"`
}

// HeldStep says that a run which another waits for has ended without all of its frames.
const HeldStep HeldFor = "step"

// Gate is whether a run may begin that waits for others.
type Gate string

// The gates.
const (
	GateOpen   Gate = "open"   // it has frames that wait for nothing
	GateShut   Gate = "shut"   // what it waits for may still come
	GateBroken Gate = "broken" // what it waits for does not come any more without a person
)

// Gate returns whether a run may begin, and of one that may not the run that it waits
// for. A run that waits for none, or was told not to, is open.
func (s *State) Gate(run *Run) (Gate, *Run) {
	if run.Terms.Freed || len(run.Spec.After) == 0 {
		return GateOpen, nil
	}
	var shut *Run
	for _, a := range run.Spec.After {
		other := s.Runs[a.Run]
		if other == nil {
			continue
		}
		switch {
		case other.State == RunDone:
		case other.State.Closed():
			if !a.Frames || !run.Later.Minus(other.Done).Empty() {
				return GateBroken, other
			}
		case !a.Frames || run.ToDo.Empty() && !run.Later.Empty():
			if shut == nil {
				shut = other
			}
		}
	}
	if shut != nil {
		return GateShut, shut
	}
	return GateOpen, nil
}

// Begins returns the state in which a run begins that waits for others which are there, or
// the run that does not bring any more what it waits for.
func (s *State) Begins(spec Spec) (state RunState, broken *Run) {
	if len(spec.After) == 0 {
		return RunQueued, nil
	}
	run := RunSubmitted{Spec: spec}.Opened()
	s.Await(run)
	switch gate, other := s.Gate(run); gate {
	case GateBroken:
		return RunHeld, other
	case GateShut:
		return RunWaiting, nil
	}
	return RunQueued, nil
}

// Followers returns the runs that wait for a run or have done so, by their ids. The
// caller must not change the slice.
func (s *State) Followers(id RunID) []RunID { return s.followers[id] }

// Await works out which frames of a run wait for those of others. It is for loaders, too.
func (s *State) Await(run *Run) {
	run.Later = frames.Set{}
	if run.Terms.Freed || run.State.Closed() {
		return
	}
	for _, a := range run.Spec.After {
		if other := s.Runs[a.Run]; a.Frames && other != nil {
			run.Later = run.Later.Union(run.ToDo.Minus(other.Done))
		}
	}
	run.ToDo = run.ToDo.Minus(run.Later)
}

// follow lets runs go on, frame by frame, that wait for a frame that is done.
func (s *State) follow(done *Run, frame int) {
	for _, id := range s.followers[done.ID] {
		run := s.Runs[id]
		if !run.Later.Has(frame) {
			continue
		}
		ready := !slices.ContainsFunc(run.Spec.After, func(a After) bool {
			other := s.Runs[a.Run]
			return a.Frames && other != nil && !other.Done.Has(frame)
		})
		if ready {
			one := frames.One(frame)
			run.Later, run.ToDo = run.Later.Minus(one), run.ToDo.Union(one)
		}
	}
}

// unfollow lets frames of other runs wait again whose own are rendered once more.
func (s *State) unfollow(of *Run, again frames.Set) {
	for _, id := range s.followers[of.ID] {
		run := s.Runs[id]
		for _, a := range run.Spec.After {
			if a.Run == of.ID && a.Frames && !run.Terms.Freed && !run.State.Closed() {
				wait := run.ToDo.Intersect(again)
				run.ToDo, run.Later = run.ToDo.Minus(wait), run.Later.Union(wait)
			}
		}
	}
}

// free ends all waiting of a run for others.
func (r *Run) free() {
	r.ToDo, r.Later = r.ToDo.Union(r.Later), frames.Set{}
}

// checkAfter returns an error that says why a run cannot wait for others as it is told to.
func (s *State) checkAfter(spec Spec) error {
	for i, a := range spec.After {
		other := s.Runs[a.Run]
		if other == nil {
			return fmt.Errorf("it waits for run %d, and there is none", a.Run)
		}
		if err := s.CheckWait(spec, i, other); err != nil {
			return err
		}
	}
	return nil
}

// CheckWait returns an error that says why a run cannot wait for another, which is the one
// of its After at a place, as it is told to.
func (s *State) CheckWait(spec Spec, at int, other *Run) error {
	after := spec.After[at]
	for _, before := range spec.After[:at] {
		if before.Run == after.Run {
			return fmt.Errorf("it waits for %s twice; name it once", other.Spec.Name())
		}
	}
	if other.State == RunCancelled || other.State == RunFailed {
		return fmt.Errorf(
			"it waits for %s, which is %s and brings nothing any more", other.Spec.Name(), other.State,
		)
	}
	if !after.Frames {
		return nil
	}
	if missing := spec.Frames.Minus(other.Spec.Frames); !missing.Empty() {
		return fmt.Errorf(
			"its frames %s wait for frames that %s does not have", missing.Brief(), other.Spec.Name(),
		)
	}
	return nil
}
