package simulate_test

import (
	"fmt"
	"slices"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/simulate"
)

// Two nodes, one twice as fast, render 60 frames on paper.
func Example() {
	report, err := simulate.Play(simulate.Farm{
		Seed:  1,
		Nodes: []simulate.Node{{Name: "kiln-01", Speed: 2, Known: 2}, {Name: "kiln-02", Speed: 1, Known: 1}},
		Jobs: []simulate.Job{{
			Startup: 4, Costs: slices.Repeat([]float64{10}, 60),
			Spec: farm.Spec{
				Job: "salt_010", Kind: farm.Final, Number: 1, Recipe: "practice", Mode: farm.ModeRange, Tries: 3,
				Frames: frames.Of(frames.Span{First: 1, Last: 60}),
			},
		}},
	}, simulate.Options{})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Printf("%d frames in %.0f s\n", len(report.Attempts), report.Finish)
	// Output: 60 frames in 204 s
}
