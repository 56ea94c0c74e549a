package queue

import (
	"cmp"
	"context"
	"fmt"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/triage"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// Steering is what a person may do to a run.
type Steering string

// The ways to steer a run.
const (
	Hold    Steering = "hold"
	Release Steering = "release"
	Cancel  Steering = "cancel"
	Retry   Steering = "retry"
)

// How says how a run is steered.
type How struct {
	Now    bool   // a hold stops frames in flight, too
	Reason string // told with what became of the run; may be empty
	// Scene is what a run goes on with that is released and was held as its scene has changed;
	// empty: what was found then.
	Scene string
}

// told adds the reason to what is told.
func (h How) told(what string) string {
	if h.Reason == "" {
		return what
	}
	return what + ": " + h.Reason
}

// Steer holds, releases or cancels a run, or retries its parked frames. An artist may steer
// own runs only, and a lead those of the project. A run that already is as asked stays as it is.
func (d *Desk) Steer(ctx context.Context, id farm.RunID, what Steering, how How, by farm.Person) (wire.Run, error) {
	var view wire.Run
	err := d.do(ctx, func(t *transaction) error {
		run := t.State.Runs[id]
		if run == nil {
			return refusal.New(refusal.NotFound, "run", "there is no run %d", id)
		}
		name, decided := run.Spec.Name(), d.e.Decided()
		if err := t.maySteer(run, by, string(what)+" it"); err != nil {
			return err
		}
		before := run.State
		if err := t.steer(run, what, how, by.Name); err != nil {
			return err
		}
		if d.e.Decided() > decided {
			t.Append(
				farm.Audited{
					Actor: by.Name, Action: string(what) + " run", Subject: name, From: string(before),
					To: string(run.State), Run: id, At: t.Now,
				},
			)
		}
		view = d.views.RunView(run, t.Now)
		return nil
	})
	return view, err
}

// maySteer refuses somebody who may not do something to a run.
func (t *transaction) maySteer(run *farm.Run, by farm.Person, what string) error {
	if t.State.MaySteer(run, by) {
		return nil
	}
	return refusal.New(
		refusal.Forbidden, "", "%s belongs to %s; only a lead of the project %s or a wrangler may %s",
		run.Spec.Name(), run.Spec.Owner, run.Spec.Project, what,
	)
}

// steer decides what steering a run does, in the name of a person.
func (t *transaction) steer(run *farm.Run, what Steering, how How, by string) error {
	name := run.Spec.Name()
	switch what {
	case Hold:
		if run.State.Closed() {
			return refusal.New(refusal.Conflict, "", "%s is %s; there is nothing to hold", name, run.State)
		}
		if run.State != farm.RunHeld {
			t.Append(farm.RunMoved{Run: run.ID, State: farm.RunHeld, Reason: how.told("held by " + by), At: t.Now})
		}
		if how.Now {
			t.endLeases(run, "the run was held at once by "+by)
		}
	case Release:
		if run.State.Closed() {
			return refusal.New(refusal.Conflict, "", "%s is %s and cannot be released", name, run.State)
		}
		if run.Spec.Wait && !run.Terms.Scouted && !run.StartedAt.IsZero() {
			terms := run.Terms
			terms.Scouted = true
			t.Append(
				farm.RunSet{
					Run: run.ID, Terms: terms,
					Reason: by + " has looked at the scouts: the rest may be rendered", At: t.Now,
				},
			)
		}
		if err := t.free(run, how, by); err != nil {
			return err
		}
		if run.State == farm.RunHeld || run.State == farm.RunWaiting && run.Terms.Freed {
			moved := farm.RunMoved{Run: run.ID, State: t.reopened(run), Reason: "released by " + by, At: t.Now}
			if run.FoundScene != "" {
				moved.Scene = cmp.Or(how.Scene, run.FoundScene)
				moved.Reason += ", to go on with the scene as it was found"
			}
			t.Append(moved)
		}
	case Cancel:
		if run.State == farm.RunCancelled {
			break
		}
		if run.State.Closed() {
			return refusal.New(refusal.Conflict, "", "%s is %s; there is nothing to cancel", name, run.State)
		}
		reason := how.told("cancelled by " + by)
		t.endLeases(run, reason)
		t.Append(farm.RunMoved{Run: run.ID, State: farm.RunCancelled, Reason: reason, At: t.Now})
	case Retry:
		parked := run.NeedsHand()
		if parked.Empty() {
			if given := run.GivenUp(); !given.Empty() {
				return refusal.New(
					refusal.Conflict,
					"",
					"%s has no parked frame but %s, which somebody has given up; name them to try them again",
					name,
					triage.FramesText(given),
				)
			}
			return refusal.New(refusal.Conflict, "", "%s has no parked frame", name)
		}
		if run.State == farm.RunCancelled {
			return refusal.New(refusal.Conflict, "", "%s is cancelled; submit it again", name)
		}
		t.retry(run, parked, by)
	}
	return nil
}

// Redo renders frames of a run again that are done. The old pictures stay until
// new ones are verified, and are then kept aside.
func (d *Desk) Redo(ctx context.Context, id farm.RunID, set frames.Set, by farm.Person) (view wire.Run, err error) {
	err = d.do(ctx, func(t *transaction) error {
		run := t.State.Runs[id]
		if run == nil {
			return refusal.New(refusal.NotFound, "run", "there is no run %d", id)
		}
		name := run.Spec.Name()
		switch missing := set.Minus(run.Done); {
		case !t.State.MaySteer(run, by):
			return t.maySteer(run, by, "redo its frames")
		case !missing.Minus(run.Spec.Frames).Empty():
			return refusal.New(
				refusal.Invalid, "frames", "%s has no %s", name, triage.FramesText(missing.Minus(run.Spec.Frames)),
			)
		case !missing.Minus(run.Redo).Empty():
			return refusal.New(
				refusal.Conflict, "frames",
				"only frames that are done can be redone, and of %s %s not; nothing was changed", name,
				isNot(missing.Minus(run.Redo)),
			)
		case run.State == farm.RunCancelled:
			return refusal.New(refusal.Conflict, "", "%s is cancelled; submit it again", name)
		}
		again := set.Intersect(run.Done) // the rest is on its way already
		if !again.Empty() {
			reason := fmt.Sprintf("%s asked for %s to be rendered again", by.Name, triage.FramesText(again))
			if run.State.Closed() {
				t.Append(farm.RunMoved{Run: id, State: farm.RunQueued, Reason: "opened again by " + by.Name, At: t.Now})
			}
			t.Append(
				farm.FramesRedone{Run: id, Frames: again, Reason: reason, At: t.Now},
				farm.Audited{
					Actor: by.Name, Action: "redo frames", Subject: name, To: again.Brief(), Run: id,
					At: t.Now,
				},
			)
		}
		view = d.views.RunView(run, t.Now)
		return nil
	})
	return view, err
}

// isNot names frames for a sentence in which they are not.
func isNot(set frames.Set) string {
	if set.Len() == 1 {
		return triage.FramesText(set) + " is"
	}
	return triage.FramesText(set) + " are"
}

// free lets a run that is released wait for no other any more, where a person says so or
// what it waits for does not come.
func (t *transaction) free(run *farm.Run, how How, by string) error {
	gate, other := t.State.Gate(run)
	reason := by + " has said that it shall not wait any more"
	switch {
	case gate == farm.GateOpen:
		return nil
	case gate == farm.GateBroken:
		reason = fmt.Sprintf("%s has said that it shall go on without %s", by, other.Spec.Name())
	case run.State == farm.RunWaiting && !how.Now:
		return refusal.New(
			refusal.Conflict, "",
			"%s waits for %s; it begins by itself when that is done. To let it begin before, release it with --now",
			run.Spec.Name(), other.Spec.Name(),
		)
	case !how.Now:
		return nil
	}
	terms := run.Terms
	terms.Freed = true
	t.Append(farm.RunSet{Run: run.ID, Terms: terms, Reason: reason, At: t.Now})
	return nil
}

// reopened returns the state of a run that is released.
func (t *transaction) reopened(run *farm.Run) farm.RunState {
	if gate, _ := t.State.Gate(run); gate == farm.GateShut {
		return farm.RunWaiting
	}
	return run.Resumes()
}

func (t *transaction) endLeases(run *farm.Run, reason string) {
	for l := range run.OpenLeases {
		t.Append(farm.LeaseEnded{Lease: l.ID, Node: l.Node, Run: run.ID, Reason: reason, At: t.Now})
	}
}

// Suspects returns what a run was submitted with, and its frames that somebody should look
// at.
func (d *Desk) Suspects(ctx context.Context, id farm.RunID) (spec farm.Spec, set frames.Set, err error) {
	err = d.do(ctx, func(t *transaction) error {
		run := t.State.Runs[id]
		if run == nil {
			return refusal.New(refusal.NotFound, "run", "there is no run %d", id)
		}
		spec, set = run.Spec, run.Suspects()
		return nil
	})
	return spec, set, err
}

// NewestRun returns the newest run of the job of one that is of the same scene and kind; 0 where
// there is none.
func (d *Desk) NewestRun(ctx context.Context, like Submission) (id farm.RunID, spec farm.Spec, err error) {
	err = d.do(ctx, func(t *transaction) error {
		for run := range t.State.RunsBefore(like.Spec, like.Subject) {
			if run.Spec.Kind == like.Spec.Kind && run.ID > id {
				id, spec = run.ID, run.Spec
			}
		}
		return nil
	})
	return id, spec, err
}
