package queue

import (
	"context"

	"vexillum/internal/core/farm"
)

// PreflightAsk says about which runs nodes are to be asked by themselves.
type PreflightAsk struct {
	Held  bool                // those that somebody holds
	All   bool                // all that are open
	Known map[farm.RunID]bool // about which they were asked before, and whether they are to be again
	Most  int
}

// PreflightRun is a run about which nodes are to be asked.
type PreflightRun struct {
	ID   farm.RunID
	Spec farm.Spec
}

// ToPreflight returns the runs about which nodes are to be asked now, and of those that are
// known the ones of which nothing is left to render.
func (d *Desk) ToPreflight(ctx context.Context, ask PreflightAsk) (runs []PreflightRun, gone []farm.RunID, err error) {
	err = d.do(ctx, func(t *transaction) error {
		open := map[farm.RunID]bool{}
		for _, run := range t.State.Queue() {
			again, known := ask.Known[run.ID]
			open[run.ID] = !run.ToDo.Empty() || !run.Later.Empty()
			wanted := again
			if !known {
				wanted = ask.All || ask.Held && run.State == farm.RunHeld && run.Held == ""
			}
			if wanted && open[run.ID] && len(runs) < ask.Most {
				runs = append(runs, PreflightRun{run.ID, run.Spec})
			}
		}
		for id := range ask.Known {
			if !open[id] {
				gone = append(gone, id)
			}
		}
		return nil
	})
	return runs, gone, err
}
