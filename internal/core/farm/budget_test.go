package farm

import (
	"math"
	"testing"
	"time"

	"vexillum/internal/core/frames"
)

// TestSpentHours adds up what leases take up: those that have ended, those that are open, and
// those that share a node.
func TestSpentHours(t *testing.T) {
	s, now := NewState(), time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)
	must := func(records ...Record) {
		t.Helper()
		for _, r := range records {
			if err := s.Apply(r); err != nil {
				t.Fatal(err)
			}
		}
	}
	at := func(minutes int) time.Time { return now.Add(time.Duration(minutes) * time.Minute) }
	must(PlaceSet{Name: "p"})
	for _, name := range []string{"salt-clock", "gannet"} {
		must(ProjectSet{Name: name, Weight: 1, Scenes: "p", Frames: "p", Budget: 10})
	}
	for id := range 2 {
		n := &Node{ID: NodeID(id + 1), Session: 1, Reach: Online}
		n.Facts.Cores = 8
		s.PutNode(n)
	}
	for id, project := range []string{"salt-clock", "gannet"} {
		must(RunSubmitted{Run: RunID(id + 1), State: RunQueued, Order: int64(id), At: now, Spec: Spec{
			Job: "job", Project: project, Kind: Final, Number: 1, Recipe: "practice", Tries: 3,
			Frames: frames.Of(frames.Span{First: 1, Last: 9}),
		}})
	}
	open := func(id LeaseID, n NodeID, run RunID, cores frames.Set, from int) {
		must(LeaseOpened{
			Lease: id, Node: n, Run: run, Session: 1, Ask: int64(id), Frames: frames.One(int(id)),
			Share: Share{Cores: cores}, At: at(from),
		})
	}
	check := func(minutes int, project string, want float64) {
		t.Helper()
		if got := s.SpentHours(project, at(minutes)); math.Abs(got-want) > 1e-9 {
			t.Errorf("after %d minutes %s has used %v hours, want %v", minutes, project, got, want)
		}
	}
	check(0, "salt-clock", 0)
	open(1, 1, 1, frames.Set{}, 0)
	check(30, "salt-clock", 0.5)
	must(LeaseEnded{Lease: 1, Node: 1, Run: 1, At: at(60)})
	check(600, "salt-clock", 1)
	open(2, 2, 1, frames.Of(frames.Span{First: 0, Last: 1}), 60) // a quarter of it
	open(3, 2, 2, frames.Of(frames.Span{First: 2, Last: 5}), 60)
	check(120, "salt-clock", 1.25)
	check(120, "gannet", 0.5)
	must(LeaseEnded{Lease: 2, Node: 2, Run: 1, At: at(30)}) // a clock that was set back
	check(120, "salt-clock", 1)
	check(120, "nobody", 0)
}

// TestCheckBudget refuses what is no budget.
func TestCheckBudget(t *testing.T) {
	for hours, good := range map[float64]bool{
		0: true, 0.5: true, MostBudget: true, -1: false, 2 * MostBudget: false, math.Inf(1): false, math.NaN(): false,
	} {
		if err := CheckBudget(hours); (err == nil) != good {
			t.Errorf("a budget of %v: %v", hours, err)
		}
	}
}
