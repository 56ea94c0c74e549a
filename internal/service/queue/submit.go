package queue

import (
	"context"
	"fmt"
	"path"
	"slices"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// Submission asks for a run.
type Submission struct {
	Spec  farm.Spec // without Number and Mode
	Held  bool
	Dry   bool // check it, and put nothing into the queue
	Own   bool // a test of the farm's own
	First bool // before all of its priority that is in the queue
	// AtOnce gives it all nodes at once; otherwise a new scene starts on few,
	// and the others join when its first frame is verified.
	AtOnce bool
	Key    string         // makes the submit repeatable; may be empty
	Digest string         // of what was asked for under the Key
	Shot   *frames.Span   // all frames of the animation, where somebody says so
	Scene  farm.SceneShot // what a file beside the scene says about it
	// Number is what the run shall be called by. A *TakenError says that it
	// cannot be.
	Number int
	Actor  string
	Role   farm.Role // of the actor
}

// Spec returns what a run was submitted with.
func (d *Desk) Spec(ctx context.Context, id farm.RunID) (farm.Spec, error) {
	var spec farm.Spec
	err := d.do(ctx, func(t *transaction) error {
		run := t.State.Runs[id]
		if run == nil {
			return refusal.New(refusal.NotFound, "run", "there is no run %d", id)
		}
		spec = run.Spec
		return nil
	})
	return spec, err
}

// TakenError says that a run cannot have a number, and which it may have.
type TakenError struct{ Next int }

// Error says so.
func (e *TakenError) Error() string {
	return fmt.Sprintf("the number is taken; the next is %d", e.Next)
}

// Submitted returns the run that was submitted with a key, or false. A *refusal.Refusal
// says that something else was asked for under it.
func (d *Desk) Submitted(ctx context.Context, key, digest string) (out Submitted, known bool, err error) {
	err = d.do(ctx, func(t *transaction) error {
		var run *farm.Run
		if run, err = t.submitted(key, digest); run != nil && err == nil {
			out, known = t.submittedView(run, true), true
		}
		return err
	})
	return out, known, err
}

func (t *transaction) submitted(key, digest string) (*farm.Run, error) {
	run, before := t.State.SubmittedWith(key)
	if run != nil && before != "" && digest != "" && before != digest {
		return nil, refusal.New(
			refusal.Invalid, "Idempotency-Key",
			"%s was submitted with this Idempotency-Key, and something else was asked for then; give another key",
			run.Spec.Name(),
		)
	}
	return run, nil
}

// outputOf returns the folder of a run, inside its frame place.
func outputOf(spec farm.Spec) string {
	return path.Join(spec.Output, fmt.Sprintf("%s-%d", spec.Kind, spec.Number))
}

// NextNumber returns the least number from one on that a run may have, and the
// folder that it then writes into: no other run writes there.
func (d *Desk) NextNumber(ctx context.Context, spec farm.Spec, from int) (number int, output string, err error) {
	err = d.do(ctx, func(t *transaction) error {
		spec.Number = t.nextNumber(spec, from)
		number, output = spec.Number, outputOf(spec)
		return nil
	})
	return number, output, err
}

// nextNumber finds the least number whose folder is no other run's. Capitals do
// not tell folders apart.
func (t *transaction) nextNumber(spec farm.Spec, from int) int {
	spec.Number = max(from, t.State.NextNumber(spec.Project, spec.Job, spec.Kind))
	taken := func() bool {
		return slices.ContainsFunc(t.State.RunsInto(outputOf(spec)), func(other *farm.Run) bool {
			return sameFramePlace(t.State, other.Spec.Project, spec.Project)
		})
	}
	for taken() {
		spec.Number++
	}
	return spec.Number
}

// Submitted is what became of a submission, or would.
type Submitted struct {
	Run    wire.Run
	Again  bool   // it was submitted before
	Able   int    // nodes that are online and could take it
	Nobody string // why no node can ever take it as both are now, or nothing
	Lack   Lack   // what nodes have to get first
}

// Lack is what nodes that could take a run have to get of its bundle first.
type Lack struct {
	Nodes   int
	Bytes   int64   // the most that one of them has to get
	Seconds float64 // the most that one of them should need for that; 0: not known
}

func (t *transaction) lackOf(run *farm.Run) (out Lack) {
	if run.Spec.BundleBytes == 0 {
		return out
	}
	for _, n := range t.State.NodeList() {
		if n.Reach != farm.Online || !capacity.Fits(t.State, n, run) {
			continue
		}
		if lacks := t.d.m.Lacks(run, n.ID); lacks > 0 {
			out.Nodes++
			out.Bytes, out.Seconds = max(out.Bytes, lacks), max(out.Seconds, t.d.m.Fetch(run, n))
		}
	}
	return out
}

func (t *transaction) submittedView(run *farm.Run, again bool) Submitted {
	return Submitted{
		t.d.views.RunView(run, t.Now), again, capacity.Able(t.State, run), capacity.Nobody(t.State, run), t.lackOf(run),
	}
}

// Submit puts a checked submission into the queue. The same Key gives the run
// of the first submit again.
func (d *Desk) Submit(ctx context.Context, sub Submission) (out Submitted, err error) {
	err = d.do(ctx, func(t *transaction) error {
		if run, err := t.submitted(sub.Key, sub.Digest); err != nil || run != nil {
			if err == nil {
				out = t.submittedView(run, true)
			}
			return err
		}
		spec := sub.Spec
		if t.State.Projects[spec.Project] == nil {
			return refusal.New(
				refusal.Invalid, "project", "there is no project %q; vexillum project list shows them", spec.Project,
			)
		}
		if spec.Project == farm.OwnProject && sub.Actor != farm.OwnActor && !sub.Own {
			return refusal.New(
				refusal.Conflict, "project", "the project %s is the farm's own; choose another", spec.Project,
			)
		}
		if err := t.place(&spec, sub); err != nil {
			return err
		}
		spec.Owner, spec.Names = sub.Actor, t.State.Projects[spec.Project].Names
		state := farm.RunQueued
		if sub.Held {
			state = farm.RunHeld
		}
		id := t.State.LastRun + 1
		if spec.Sequence == farm.ScoutsFirst {
			spec.Scouts = deal.Scouts(d.m, &farm.Run{ID: id, Spec: spec})
		}
		if spec.StartOn == 0 && !sub.AtOnce && !proven(t.State, spec) {
			spec.StartOn = startOn
		}
		for _, other := range t.State.Queue() {
			if sub.First && other.Terms.Level.Rank() == spec.Level.Rank() {
				spec.Put = min(spec.Put, other.Terms.Put-1)
			}
		}
		record := farm.RunSubmitted{
			Run: id, Spec: spec, State: state, Order: t.State.LastOrder + 1, Key: sub.Key, Digest: sub.Digest,
			At:     t.Now,
			Reason: fmt.Sprintf("submitted by %s: %d frames, %s", sub.Actor, spec.Frames.Len(), state),
		}
		if sub.Dry {
			out = t.submittedView(record.Opened(), false)
			out.Run.ID = 0
			d.m.Forget(id) // another run will have its number
			d.dealer.Forget(id)
			return nil
		}
		t.Append(
			record,
			farm.Audited{
				Actor: sub.Actor, Action: "submit run", Subject: spec.Name(), To: string(state), Run: id,
				At: t.Now,
			},
		)
		out = t.submittedView(t.State.Runs[id], false)
		return nil
	})
	return out, err
}

// place gives a run its number, its folder and the shot that it is of, after the
// runs of its job before.
func (t *transaction) place(spec *farm.Spec, sub Submission) error {
	before := t.State.NewestOf(spec.Project, spec.Job)
	var earlier *farm.Spec
	if before != nil {
		if before.Spec.Job != spec.Job {
			return refusal.New(
				refusal.Conflict, "job",
				"the project %s already has a job %s, and some file systems cannot tell the two names apart; "+
					"choose another name",
				spec.Project, before.Spec.Job,
			)
		}
		earlier = &before.Spec
	}
	if spec.Number = t.nextNumber(*spec, sub.Number); sub.Number != 0 && spec.Number != sub.Number {
		return &TakenError{spec.Number}
	}
	spec.Output = outputOf(*spec)
	shot, err := farm.ChooseShot(spec.Frames, sub.Shot, earlier, sub.Scene)
	if err != nil {
		return refusal.New(refusal.Invalid, "frames", "%v", err)
	}
	spec.Shot = shot
	return nil
}

// startOn is how many nodes a run starts on whose scene nobody has rendered yet.
const startOn = 3

// proven reports whether a frame of the same scene has been rendered before.
func proven(s *farm.State, spec farm.Spec) bool {
	for _, other := range s.RunsOf(spec.Project, spec.Job) {
		if other.Spec.Scene == spec.Scene && other.Spec.Recipe == spec.Recipe && !other.Done.Empty() {
			return true
		}
	}
	return false
}

func sameFramePlace(s *farm.State, a, b string) bool {
	return a == b || s.Projects[a] != nil && s.Projects[b] != nil && s.Projects[a].Frames == s.Projects[b].Frames
}

// BundleBefore returns the bundle of the newest run of a job that has one; empty: none has.
func (d *Desk) BundleBefore(ctx context.Context, project, job string) (id string, err error) {
	err = d.do(ctx, func(t *transaction) error {
		newest := farm.RunID(0)
		for _, run := range t.State.RunsOf(project, job) {
			if run.Spec.Bundle != "" && run.ID > newest {
				newest, id = run.ID, run.Spec.Bundle
			}
		}
		return nil
	})
	return id, err
}

// Bundles returns the bundles that open runs need.
func (d *Desk) Bundles(ctx context.Context) (out []string, err error) {
	err = d.do(ctx, func(t *transaction) error {
		for _, run := range t.State.Queue() {
			if run.Spec.Bundle != "" && !slices.Contains(out, run.Spec.Bundle) {
				out = append(out, run.Spec.Bundle)
			}
		}
		return nil
	})
	return out, err
}
