package triage_test

import (
	"strings"
	"testing"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/triage"
	"vexillum/internal/testkit/smallfarm"
)

// ill is a farm of four nodes and three runs on which every lease goes well, but for those of the
// last node.
type ill struct {
	*smallfarm.Farm
	failed []farm.FrameFailed
}

// work lets each node render a frame, some times over; the last fails all of its own by a cause.
func (f *ill) work(rounds int, cause string, nodes ...farm.NodeID) {
	f.T.Helper()
	for range rounds {
		for _, n := range nodes {
			d := f.Ask(n, 0)
			if len(d.Records) == 0 {
				continue
			}
			l := f.Lease(d)
			frame := l.Left.First()
			if cause == "" {
				f.Finish(l, frame)
			} else {
				records := triage.Failed(f.State, triage.Failure{
					Lease: l.ID, Frame: frame, Cause: cause, Message: "signal: killed",
				}, f.Now)
				f.Apply(records...)
				f.failed = append(f.failed, records[0].(farm.FrameFailed))
			}
			if l.Open() {
				f.Apply(farm.LeaseEnded{Lease: l.ID, Run: l.Run, Node: n, At: f.Now})
			}
		}
	}
}

// TestOneFailureMakesNobodyCertain lets one renderer be killed, by each of the usual causes: no
// verdict on it is certain, nor surer than the model is.
func TestOneFailureMakesNobodyCertain(t *testing.T) {
	for _, cause := range triage.Causes() {
		if cause == triage.CauseChanged || cause == triage.CauseOutput || cause == triage.CauseNoLicence {
			continue // what they name is plain
		}
		f := &ill{Farm: smallfarm.New(t, 1, 1, 1)}
		f.Submit("salt_010", "practice", farm.ModeSingle, "1-100", farm.RunQueued)
		f.work(3, "", 1, 2, 3)
		f.work(1, cause, 1)
		failed := f.failed[0]
		rulings := triage.Rule(f.State)
		got := rulings.Of(failed.Run, failed.Frame, farm.Attempt{Lease: failed.Lease, Launch: failed.Launch})
		model := triage.Verdicts(f.State)[0].Shares[0]
		if got.Sure > model.Of || strings.Contains(got.Text(), "certain") {
			t.Errorf("%s: %s is to blame, %s; the model says %.3f", cause, got.Who, got.Text(), model.Of)
		}
		for _, g := range triage.Groups(rulings, triage.Wanted{By: triage.ByCause}) {
			if g.Blame != got {
				t.Errorf("%s: the group says %+v, and its only failure %+v", cause, g.Blame, got)
			}
		}
	}
}

// TestOneVerdictPerFailure lets one node fail frames of three runs that others render: whatever
// shows a failure has the same verdict, and failures with the same one stand together.
func TestOneVerdictPerFailure(t *testing.T) {
	f := &ill{Farm: smallfarm.New(t, 1, 1, 1, 1)}
	for _, job := range []string{"salt_010", "gannet_title", "tidal_ceiling"} {
		f.Submit(job, "practice", farm.ModeSingle, "1-30", farm.RunQueued)
	}
	for range 4 {
		f.work(2, "", 1, 2, 3)
		f.work(1, triage.CauseCrash, 4)
	}
	rulings := triage.Rule(f.State)
	groups := triage.Groups(rulings, triage.Wanted{By: triage.ByCause})
	seen := map[string]bool{}
	for _, g := range groups {
		if key := g.Key + " " + g.Blame.Who; seen[key] {
			t.Errorf("two groups of %s", key)
		} else {
			seen[key] = true
		}
	}
	if len(groups) == 0 || groups[0].Blame.Who != "kiln-04" || groups[0].Blame.Sure < 0.8 {
		t.Fatalf("the verdict on four crashes of one node: %+v", groups)
	}
	for _, c := range triage.CompareNode(rulings, 4, nil) {
		last := c.Tries[len(c.Tries)-1]
		if of := rulings.Of(c.Run, c.Frame, last); c.Blame != of {
			t.Errorf("frame %d of run %d: the node's page says %+v, another %+v", c.Frame, c.Run, c.Blame, of)
		}
	}
}

// TestARunThatMetItsOwnLimitNeedsAHigherOne advises about memory.
func TestARunThatMetItsOwnLimitNeedsAHigherOne(t *testing.T) {
	f := smallfarm.New(t, 1)
	id := f.Submit("salt_010", "practice", farm.ModeSingle, "1-3", farm.RunQueued)
	run := f.State.Runs[id]
	if got := triage.RemedyFor(triage.CauseMemory, []*farm.Run{run}); got != triage.Remedy(triage.CauseMemory) {
		t.Errorf("a run without a limit: %s", got)
	}
	run.Spec.Takes.MemoryBytes = 12 << 20
	want := "raise the memory limit of the run, 12MiB a lease: vexillum change " + run.Spec.Name() + " --memory 24MiB"
	if got := triage.RemedyFor(triage.CauseMemory, []*farm.Run{run}); got != want {
		t.Errorf("%s, want %s", got, want)
	}
}

// TestASmallRunThatFailsAlikeIsHeld fails all frames of a short run in the same way: it is held
// before its tries are used up.
func TestASmallRunThatFailsAlikeIsHeld(t *testing.T) {
	for _, nodes := range [][]float64{{1, 1, 1}, {1, 1, 1, 1, 1, 1}} {
		f := &ill{Farm: smallfarm.New(t, nodes...)}
		f.Submit("gannet_title", "practice", farm.ModeSingle, "1-60", farm.RunQueued)
		ids := []farm.NodeID{}
		for i := range nodes {
			ids = append(ids, farm.NodeID(i+1))
		}
		f.work(8, "", ids...)
		id := f.Submit("salt_010", "practice", farm.ModeSingle, "1-6", farm.RunQueued)
		f.Apply(farm.RunSet{Run: id, Terms: farm.Terms{Level: farm.High}, At: f.Now})
		for f.State.Runs[id].State != farm.RunHeld && len(f.failed) < 18 {
			f.work(1, triage.CauseScene, ids...)
		}
		if run := f.State.Runs[id]; run.State != farm.RunHeld || len(f.failed) > 12 {
			t.Errorf("on %d nodes the run is %s after %d tries", len(nodes), run.State, len(f.failed))
		}
	}
}

// TestARemedyNamesTheRun names the run to be mended where there is only one.
func TestARemedyNamesTheRun(t *testing.T) {
	f := smallfarm.New(t, 1)
	run := f.State.Runs[f.Submit("salt_010", "practice", farm.ModeSingle, "1-3", farm.RunQueued)]
	for _, cause := range []string{triage.CauseMissingFile, triage.CauseChanged} {
		if got := triage.RemedyFor(cause, []*farm.Run{run}); !strings.HasSuffix(got, "vexillum mended salt_010/final-1") {
			t.Errorf("%s: %s", cause, got)
		}
		if got := triage.RemedyFor(cause, []*farm.Run{run, run}); got != triage.Remedy(cause) {
			t.Errorf("of two runs, %s: %s", cause, got)
		}
	}
}
