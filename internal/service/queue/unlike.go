package queue

import (
	"context"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// Differences says how a run differs from what another was submitted with; from 0 is the
// one of its job before.
func (d *Desk) Differences(ctx context.Context, id, from farm.RunID) (out wire.RunDifferences, err error) {
	err = d.do(ctx, func(t *transaction) error {
		run := t.State.Runs[id]
		if run == nil {
			return refusal.New(refusal.NotFound, "run", "there is no run %d", id)
		}
		other := t.State.Runs[from]
		if from == 0 {
			for _, r := range t.State.RunsOf(run.Spec.Project, run.Spec.Job) {
				if r.ID < id && (other == nil || r.ID > other.ID) {
					other = r
				}
			}
		}
		if other == nil && from == 0 {
			return refusal.New(
				refusal.NotFound, "from", "%s is the first run of its job; name another to compare it with",
				run.Spec.Name(),
			)
		}
		if other == nil {
			return refusal.New(refusal.NotFound, "from", "there is no run %d", from)
		}
		out = wire.RunDifferences{
			Name: run.Spec.Name(), From: int64(other.ID), FromName: other.Spec.Name(),
			Differences: []wire.RunDifference{},
		}
		for _, x := range run.Spec.Unlike(other.Spec) {
			out.Differences = append(out.Differences, wire.RunDifference(x))
		}
		return nil
	})
	return out, err
}
