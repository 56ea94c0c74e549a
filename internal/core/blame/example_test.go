package blame_test

import (
	"fmt"

	"vexillum/internal/core/blame"
)

// A node fails three frames that other nodes render.
func ExampleJudge() {
	kiln := blame.Suspect{Kind: blame.Node, ID: 3}
	run := blame.Suspect{Kind: blame.Run, ID: 1}
	e := blame.Evidence{Passed: map[blame.Suspect]float64{run: 40}}
	for _, f := range []int64{7, 12, 31} {
		frame := blame.Suspect{Kind: blame.Frame, ID: 1, Sub: f}
		e.Failures = append(e.Failures, blame.Failure{
			Cause: blame.Crash, Suspects: []blame.Suspect{run, kiln, frame},
		})
		e.Passed[frame] = 1
	}
	o := blame.Judge(e)
	fmt.Printf("the %s: %s\n", o.By(0).Suspect.Kind, blame.Sure(o.Faulty[kiln]))
	// Output: the node: certain
}
