package capacity_test

import (
	"fmt"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/pace"
)

// What a lease of a run would own of a node.
func Example() {
	s := farm.NewState()
	node := &farm.Node{ID: 1, Name: "loom-01", Facts: farm.Facts{
		Cores: 8, Renderers: []farm.Renderer{{Recipe: "practice"}},
	}}
	s.PutNode(node)
	run := &farm.Run{Spec: farm.Spec{Job: "salt_010", Kind: farm.Final, Number: 1, Recipe: "practice", Takes: farm.Amounts{Cores: 3}}}
	share, _ := capacity.Room(s, pace.New(), node, run, nil, nil)
	fmt.Println(capacity.Fits(s, node, run), "cores", share.Cores)
	run.Spec.Takes.Cores = 12
	fmt.Println(capacity.TooSmall(node, run))
	// Output:
	// true cores 0-2
	// salt_010/final-1 takes 12 cores a lease, and the farm may use 8 of loom-01
}
