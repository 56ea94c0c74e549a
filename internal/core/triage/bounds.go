package triage

import (
	"fmt"
	"time"

	"vexillum/internal/core/farm"
)

// Bounds beyond which nothing fails on, whoever is to blame: judgement may err, and a night
// must not be eaten by it. Each is far above what a fault costs that is judged rightly.
const (
	// mostOfLease is how many tries may fail on one lease; then the rest is dealt anew.
	mostOfLease = 25
	// mostOfNode is how many tries may fail on a node within farm.NodeWindow; then it is set
	// aside until its trial.
	mostOfNode = 60
	// mostOfRun is how many tries of a run may fail within farm.RunWindow, if it has fewer
	// frames that are done; then it is held.
	mostOfRun = 300
)

// failedSince counts the frames of a run that have failed and are not done since it was last
// released, with the one that has just failed.
func failedSince(run *farm.Run, last int) (failed int) {
	failed = 1
	for f, t := range run.Trouble {
		if n := len(t.Attempts); n == 0 || run.Done.Has(f) || f == last {
			continue
		} else if t.Attempts[n-1].At.After(run.ReleasedAt) {
			failed++
		}
	}
	return failed
}

// bounded returns the Records that follow from bounds which are met as of one more failure;
// what was decided already is in so far.
func (j *judgement) bounded(
	l *farm.Lease, run *farm.Run, frame int, so []farm.Record, now time.Time,
) (records []farm.Record) {
	onNode, ofRun, onLease := j.s.FailedLately(l.Node, run.ID, l.ID, now)
	n := j.s.Nodes[l.Node]
	aside, held := false, false
	for _, r := range so {
		switch r := r.(type) {
		case farm.NodeHealth:
			aside = aside || r.Node == l.Node
		case farm.RunMoved:
			held = held || r.Run == run.ID
		}
	}
	if onNode+1 >= mostOfNode && !aside && n.Health == farm.Fine && j.spares(n) {
		at := now.Add(j.firstTrial())
		records = append(records, health(n, farm.NodeHealth{
			Node: n.ID, Health: farm.Sidelined, Pause: j.firstTrial().Seconds(), TrialAt: &at, At: now,
			Reason: fmt.Sprintf(
				"%d tries failed on it within %.0f minutes, whoever is to blame", onNode+1, farm.NodeWindow.Minutes(),
			),
		})...)
	}
	if ofRun+1 >= mostOfRun && !held && run.Spec.HoldAfter == 0 && run.State == farm.RunRendering &&
		run.Done.Len() < ofRun {
		records = append(records, farm.RunMoved{
			Run: run.ID, State: farm.RunHeld, Held: farm.HeldFailing, At: now,
			Reason: fmt.Sprintf(
				"%d of its tries failed within an hour, more than it has frames that are done (%d)",
				ofRun+1,
				run.Done.Len(),
			),
		})
	}
	if most := run.Spec.HoldAfter; most > 0 && !held && run.State == farm.RunRendering {
		if failed := failedSince(run, frame); failed >= most {
			records = append(records, farm.RunMoved{
				Run: run.ID, State: farm.RunHeld, Held: farm.HeldFailing, At: now,
				Reason: fmt.Sprintf(
					"%d of its frames have failed, and it was to be held after %d", failed, most,
				),
			})
		}
	}
	if onLease+1 >= mostOfLease && l.Left.Len() > 1 {
		records = append(records, farm.LeaseEnded{
			Lease: l.ID, Node: l.Node, Run: run.ID, At: now,
			Reason: fmt.Sprintf("%d tries failed on this lease: what is left of it is dealt anew", onLease+1),
		})
	}
	return records
}
