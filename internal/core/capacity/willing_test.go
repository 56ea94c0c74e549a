package capacity_test

import (
	"testing"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/testkit/smallfarm"
)

// TestWillingNodes counts the nodes that will take a run: not those that are held, draining, set
// aside or away.
func TestWillingNodes(t *testing.T) {
	f := smallfarm.New(t, 1, 1, 1, 1, 1, 1)
	run := f.State.Runs[f.Submit("salt_010", "practice", farm.ModeRange, "1-9", farm.RunQueued)]
	for i, record := range []farm.Record{
		farm.NodeDuty{Node: 1, Duty: farm.Draining, At: f.Now},
		farm.NodeDuty{Node: 2, Duty: farm.Held, At: f.Now},
		farm.NodeHealth{Node: 3, Health: farm.Sidelined, At: f.Now},
		farm.NodeReach{Node: 4, Reach: farm.Silent, At: f.Now},
		farm.NodeDuty{Node: 5, Duty: farm.OffDuty, At: f.Now},
	} {
		f.Apply(record)
		want := []int{5, 4, 3, 2, 2}[i]
		if got := capacity.Willing(f.State, run); got != want {
			t.Errorf("after %T %+v: %d, want %d", record, record, got, want)
		}
	}
}
