package pace_test

import (
	"fmt"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
)

// Frames of one node say what those of a faster one will take.
func Example() {
	m := pace.New()
	run := &farm.Run{ID: 1, Spec: farm.Spec{Recipe: "practice", Frames: frames.Of(frames.Span{First: 1, Last: 100})}}
	slow := &farm.Node{ID: 1, Facts: farm.Facts{Speed: 1}}
	for f := 1; f <= 20; f++ {
		m.Observe(run, slow, 1, farm.FrameAccepted{Run: 1, Frame: f, RenderSeconds: 8, StartupSeconds: 2})
	}
	fast := &farm.Node{ID: 2, Facts: farm.Facts{Speed: 4}}
	cost := m.Curve(run).Cost(50)
	fmt.Printf("%.1f s on a node of speed 1, %.1f s on one of speed 4\n", cost, cost/m.SpeedFor(fast, run))
	// Output: 8.0 s on a node of speed 1, 2.0 s on one of speed 4
}
