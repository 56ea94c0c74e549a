package explain_test

import (
	"fmt"
	"time"

	"vexillum/internal/core/deal"
	"vexillum/internal/core/explain"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/pace"
)

// A node with nothing to do says why, and what would clear that.
func Example() {
	now := time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)
	s, m := farm.NewState(), pace.New()
	node := &farm.Node{
		ID: 1, Name: "kiln-01", EnrolledAt: now, Session: 1, Reach: farm.Online, Duty: farm.Held,
		DutyReason: "held by nadia", Health: farm.Fine,
	}
	s.PutNode(node)
	fmt.Println(node.Name, explain.New(deal.New(s, m, nil), s, m).Node(node, now))
	// Output: kiln-01 is held by nadia; release it to give it work
}
