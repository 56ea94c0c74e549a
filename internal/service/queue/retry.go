package queue

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/triage"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// mostRetried bounds the runs whose frames are tried again in one go.
const mostRetried = 1000

// RetryParked tries parked frames again: of the runs that are named, or else of all that
// somebody may steer; and of these frames those that fit what else is said.
func (d *Desk) RetryParked(ctx context.Context, in wire.Retrying, by farm.Person) (out wire.Retried, err error) {
	set := frames.Set{}
	if in.Frames != "" {
		if set, err = frames.Parse(in.Frames); err != nil {
			return out, refusal.New(refusal.Invalid, "frames", "%v", err)
		}
		if len(in.Runs) != 1 {
			return out, refusal.New(refusal.Invalid, "frames", "frames are those of one run; name that")
		}
	}
	if len(in.Runs) == 0 && in.Cause == "" && in.Node == "" {
		return out, refusal.New(
			refusal.Invalid, "runs", "say what is to be tried again: runs, a cause, or what failed on a node",
		)
	}
	if err := triage.CheckCause(in.Cause); err != nil {
		return out, refusal.New(refusal.Invalid, "cause", "%v", err)
	}
	if len(in.Runs) > mostRetried {
		return out, refusal.New(refusal.Invalid, "runs", "at most %d runs at once", mostRetried)
	}
	out = wire.Retried{DryRun: in.DryRun, Runs: []wire.RunRetried{}}
	err = d.do(ctx, func(t *transaction) error {
		runs, err := t.toRetry(in, by)
		if err != nil {
			return err
		}
		node := farm.NodeID(0)
		if in.Node != "" {
			n := t.State.NodeNamed(in.Node)
			if n == nil {
				return refusal.New(
					refusal.Invalid, "node", "there is no node %.60q; vexillum nodes shows them", in.Node,
				)
			}
			node = n.ID
		}
		for _, run := range runs {
			from := run.NeedsHand()
			if !set.Empty() { // also those that somebody has given up
				from = run.Parked.Intersect(set)
			}
			again := parkedBy(run, from, in.Cause, node)
			if again.Empty() {
				continue
			}
			if !in.DryRun {
				t.retry(run, again, by.Name)
				t.Append(farm.Audited{
					Actor: by.Name, Action: "retry frames", Subject: run.Spec.Name(), To: again.Brief(), Run: run.ID,
					At: t.Now,
				})
			}
			out.Frames += again.Len()
			out.Runs = append(out.Runs, wire.RunRetried{
				Run: int64(run.ID), Name: run.Spec.Name(), Frames: again.String(), Count: again.Len(),
			})
		}
		return nil
	})
	return out, err
}

// toRetry returns the runs whose parked frames may be tried again: those that are named, each
// of which has to be one that may, or all that may.
func (t *transaction) toRetry(in wire.Retrying, by farm.Person) (out []*farm.Run, err error) {
	sight := t.State.SightOf(by)
	if len(in.Runs) == 0 {
		for run := range t.State.WithParked {
			if run.State != farm.RunCancelled && sight.Sees(run.Spec.Project) && t.State.MaySteer(run, by) {
				out = append(out, run)
			}
		}
		slices.SortFunc(out, func(a, b *farm.Run) int { return cmp.Compare(a.ID, b.ID) })
		return out[:min(len(out), mostRetried)], nil
	}
	for _, id := range in.Runs {
		run := t.State.Runs[farm.RunID(id)]
		if run == nil || !sight.Sees(run.Spec.Project) {
			return nil, refusal.New(refusal.NotFound, "run", "there is no run %d", id)
		}
		if err := t.maySteer(run, by, "retry it"); err != nil {
			return nil, err
		}
		if run.State == farm.RunCancelled {
			return nil, refusal.New(
				refusal.Conflict, "", "%s is cancelled; submit it again", run.Spec.Name(),
			)
		}
		if !slices.Contains(out, run) {
			out = append(out, run)
		}
	}
	return out, nil
}

// parkedBy returns those of some parked frames of a run of which a try has failed by a cause and on a
// node, where these are given.
func parkedBy(run *farm.Run, from frames.Set, cause string, node farm.NodeID) frames.Set {
	if cause == "" && node == 0 {
		return from
	}
	var spans []frames.Span
	for f := range from.All() {
		t := run.Trouble[f]
		if t != nil && slices.ContainsFunc(t.Attempts, func(a farm.Attempt) bool {
			return (cause == "" || a.Cause == cause) && (node == 0 || a.Node == node)
		}) {
			spans = append(spans, frames.Span{First: f, Last: f})
		}
	}
	return frames.Of(spans...)
}

// retry puts parked frames of a run back with all their tries.
func (t *transaction) retry(run *farm.Run, set frames.Set, by string) {
	if run.State.Closed() {
		t.Append(farm.RunMoved{Run: run.ID, State: farm.RunQueued, Reason: "opened again by " + by, At: t.Now})
	}
	t.Append(
		farm.FramesRetried{
			Run: run.ID, Frames: set, At: t.Now,
			Reason: fmt.Sprintf("%s asked for %s to be tried again", by, triage.FramesText(set)),
		},
	)
}
