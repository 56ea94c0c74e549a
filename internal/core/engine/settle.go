package engine

import (
	"fmt"
	"slices"

	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/triage"
)

// settle closes the runs of the batch that have nothing left to do, and holds
// those whose scouts wait for a person's yes.
func (e *Engine) settle() {
	if e.err != nil || len(e.touched) == 0 {
		return
	}
	runs := append([]farm.RunID(nil), e.touched...)
	slices.Sort(runs)
	for _, id := range slices.Compact(runs) {
		run := e.s.Runs[id]
		if run == nil {
			continue
		}
		if deal.Scouted(run) {
			reason := fmt.Sprintf("its scouts are rendered (frames %s): look at them", run.Spec.Scouts)
			e.Append(farm.RunMoved{Run: id, State: farm.RunHeld, Reason: reason, At: e.now})
		}
		if run.State.Closed() {
			continue
		}
		state, settled := run.Settled()
		if !settled || e.awaited(run) {
			continue
		}
		if again := triage.Rethought(e.s, run, e.now); len(again) > 0 {
			e.Append(again...)
			continue
		}
		e.Append(farm.RunMoved{Run: id, State: state, Reason: run.ClosingReason(state), At: e.now})
	}
}

// awaited reports whether a node will still report that its renderer of a run is
// gone. The leases of nodes that are not heard from are ended: nothing is left on
// them.
func (e *Engine) awaited(run *farm.Run) bool {
	var quiet []*farm.Lease
	for l := range run.OpenLeases {
		if e.s.Nodes[l.Node].Reach == farm.Online {
			return true
		}
		quiet = append(quiet, l)
	}
	for _, l := range quiet {
		reason := fmt.Sprintf("nothing is left of it, and %s is %s", e.s.NodeName(l.Node), e.s.Nodes[l.Node].Reach)
		e.Append(farm.LeaseEnded{Lease: l.ID, Node: l.Node, Run: l.Run, Reason: reason, At: e.now})
	}
	return false
}
