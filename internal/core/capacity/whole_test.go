package capacity_test

import (
	"testing"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/pace"
)

// TestAWholeNodeHasItsLimit gives a lease that has its node for itself the least of what its run
// says and what the node gives the farm.
func TestAWholeNodeHasItsLimit(t *testing.T) {
	const gib = 1 << 30
	for _, c := range []struct{ says, cap, want int64 }{
		{0, 0, 0}, {8 * gib, 0, 8 * gib}, {0, 16 * gib, 16 * gib}, {8 * gib, 16 * gib, 8 * gib}, {16 * gib, 8 * gib, 8 * gib},
	} {
		s := farm.NewState()
		node := &farm.Node{ID: 1, Name: "loom-01", Facts: farm.Facts{Cores: 8, MemoryBytes: 64 * gib}}
		node.Settings.Caps.MemoryBytes = c.cap
		s.PutNode(node)
		run := &farm.Run{Spec: farm.Spec{Takes: farm.Amounts{MemoryBytes: c.says}}}
		if share, why := capacity.Room(s, pace.New(), node, run, nil, nil); why != "" || share.MemoryBytes != c.want {
			t.Errorf("says %d, cap %d: a lease has %d (%s), not %d", c.says, c.cap, share.MemoryBytes, why, c.want)
		}
	}
}
