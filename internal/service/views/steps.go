package views

import (
	"cmp"
	"context"
	"slices"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// mostSteps bounds the runs that are told as the steps of one.
const mostSteps = 60

// Steps returns a run with all that it waits for or has waited for, all that waits for it, and
// so on, by their numbers, as far as somebody sees them.
func (b *Board) Steps(ctx context.Context, id farm.RunID, sight farm.Sight) (out []wire.Run, err error) {
	err = b.do(ctx, func(t *transaction) error {
		first := t.State.Runs[id]
		if first == nil || !sight.Sees(first.Spec.Project) {
			return refusal.New(refusal.NotFound, "run", "there is no run %d", id)
		}
		behind := map[farm.RunID][]*farm.Run{}
		for _, run := range t.State.Runs {
			for _, a := range run.Spec.After {
				behind[a.Run] = append(behind[a.Run], run)
			}
		}
		found, open := map[farm.RunID]bool{id: true}, []*farm.Run{first}
		var all []*farm.Run
		for ; len(open) > 0 && len(all) < mostSteps; open = open[1:] {
			all = append(all, open[0])
			near := behind[open[0].ID]
			for _, a := range open[0].Spec.After {
				if other := t.State.Runs[a.Run]; other != nil {
					near = append(near[:len(near):len(near)], other)
				}
			}
			slices.SortFunc(near, func(a, b *farm.Run) int { return cmp.Compare(a.ID, b.ID) })
			for _, run := range near {
				if !found[run.ID] && sight.Sees(run.Spec.Project) {
					found[run.ID] = true
					open = append(open, run)
				}
			}
		}
		slices.SortFunc(all, func(a, b *farm.Run) int { return cmp.Compare(a.ID, b.ID) })
		for _, run := range all {
			out = append(out, b.runFor(run, t.Now, sight))
		}
		return nil
	})
	return out, err
}
