package deal_test

import (
	"strings"
	"testing"

	"vexillum/internal/core/farm"
	"vexillum/internal/testkit/smallfarm"
)

// TestTheMoreUrgentComesFirst submits runs in the wrong order.
func TestTheMoreUrgentComesFirst(t *testing.T) {
	b := smallfarm.New(t, 1)
	for i, level := range []farm.Level{farm.Filler, farm.Low, "", farm.High, farm.Urgent, farm.High} {
		b.Submit(string(rune('a'+i)), "practice", farm.ModeWhole, "1-3", farm.RunQueued)
		b.State.Runs[b.State.LastRun].Terms.Level = level
	}
	b.Submit("last", "practice", farm.ModeWhole, "1-3", farm.RunHeld) // the queue is put in order again
	got := ""
	for range 6 {
		l := b.Lease(b.Ask(1, 0))
		got += b.State.Runs[l.Run].Spec.Job
		b.Apply(
			farm.LeaseTrimmed{Lease: l.ID, Node: 1, Run: l.Run, Frames: l.Left, At: b.Now},
			farm.LeaseEnded{Lease: l.ID, Node: 1, Run: l.Run, At: b.Now},
			farm.RunMoved{Run: l.Run, State: farm.RunCancelled, At: b.Now},
		)
	}
	if got != "edfcba" {
		t.Errorf("dealt in the order %s, want edfcba", got)
	}
}

// TestACeilingIsKept lets nodes ask for a run that may have two of four.
func TestACeilingIsKept(t *testing.T) {
	for _, mode := range []farm.Mode{farm.ModeRange, farm.ModeFeed, farm.ModeSingle} {
		b := smallfarm.New(t, 1, 1, 1, 1)
		id := b.Submit("a", "practice", mode, "1-400", farm.RunQueued)
		b.State.Runs[id].Terms.Ceiling = farm.Ceiling{Percent: 50}
		var refused []string
		for n := farm.NodeID(1); n <= 4; n++ {
			if d := b.Ask(n, 0); len(d.Records) == 0 {
				refused = append(refused, d.Why)
			}
		}
		if len(refused) != 2 {
			t.Fatalf("%s: %d of four are refused", mode, len(refused))
		}
		if mode != farm.ModeRange && !strings.Contains(refused[0], "is at its ceiling of 50%: 2 nodes at it") {
			t.Errorf("%s: %s", mode, refused[0])
		}
		if _, ok, _ := b.Dealer.TakeOver(4, b.Now); ok {
			t.Errorf("%s: a node beyond the ceiling takes something over", mode)
		}
	}
}

// TestALowerCeilingEndsLeasesThatGoOn lowers the ceiling of a run while two
// nodes ask for further frames on their leases: the slower one gets none.
func TestALowerCeilingEndsLeasesThatGoOn(t *testing.T) {
	for _, mode := range []farm.Mode{farm.ModeFeed, farm.ModeSingle} {
		b := smallfarm.New(t, 1, 2)
		id := b.Submit("a", "practice", mode, "1-400", farm.RunQueued)
		slow, fast := b.Lease(b.Ask(1, 0)), b.Lease(b.Ask(2, 0))
		if d := b.Ask(1, slow.ID); len(d.Records) == 0 {
			t.Fatalf("%s: %s", mode, d.Why)
		}
		b.State.Runs[id].Terms.Ceiling = farm.Ceiling{Nodes: 1}
		if d := b.Ask(1, slow.ID); len(d.Records) > 0 ||
			!strings.Contains(d.Why, "has a ceiling of 1, and kiln-01 is one node more") {
			t.Errorf("%s: the slow node goes on: %s", mode, d.Why)
		}
		if d := b.Ask(2, fast.ID); len(d.Records) == 0 {
			t.Errorf("%s: the fast node does not go on: %s", mode, d.Why)
		}
	}
}

// TestALowerCountOfLicencesEndsSingleLaunches lowers the count of a licence to
// one that two nodes hold: of those that go on, single launches give it up.
func TestALowerCountOfLicencesEndsSingleLaunches(t *testing.T) {
	for _, per := range []farm.Counting{farm.PerProcess, farm.PerNode} {
		b := smallfarm.New(t, 1, 2)
		id := b.Submit("a", "practice", farm.ModeSingle, "1-400", farm.RunQueued)
		b.State.Runs[id].Spec.Licence = &farm.LicenceNeed{Name: "tidal", Per: per}
		b.State.Licences["tidal"] = &farm.Licence{Name: "tidal", Count: 2}
		one, two := b.Lease(b.Ask(1, 0)), b.Lease(b.Ask(2, 0))
		b.State.Licences["tidal"].Count = 1
		if d := b.Ask(1, one.ID); len(d.Records) > 0 ||
			!strings.Contains(d.Why, "needs a licence tidal, and 1 of 1 are used") {
			t.Errorf("per %s: the first goes on: %s", per, d.Why)
		}
		b.Apply(farm.LeaseEnded{Lease: one.ID, Node: 1, Run: id, At: b.Now})
		if d := b.Ask(2, two.ID); len(d.Records) == 0 {
			t.Errorf("per %s: the other does not go on: %s", per, d.Why)
		}
	}
}
