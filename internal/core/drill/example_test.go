package drill_test

import (
	"fmt"

	"vexillum/internal/core/drill"
	"vexillum/internal/core/pace"
)

// A random farm, played by the dealer and by hand: equal shares to all.
func Example() {
	world, err := drill.Random(drill.ClassRange, 7)
	if err != nil {
		fmt.Println(err)
		return
	}
	equal, err := drill.ParseWay("equal")
	if err != nil {
		fmt.Println(err)
		return
	}
	report, err := drill.Run(world, pace.New(), []drill.Way{equal}, nil)
	if err != nil {
		fmt.Println(err)
		return
	}
	bound := drill.Bound(world, 0)
	fmt.Printf("%.2f of what is possible at best\n", report.Finish/bound)
	fmt.Printf("%s: %.2f of that\n", report.Against[0].Way, report.Against[0].Finish/bound)
	// Output:
	// 1.10 of what is possible at best
	// equal: 5.63 of that
}
