package forecast_test

import (
	"fmt"
	"time"

	"vexillum/internal/core/drill"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/forecast"
	"vexillum/internal/core/simulate"
)

// In the middle of a play on paper, plays of what comes next say when it ends.
func Example() {
	world, err := drill.Random(drill.ClassFeed, 3)
	if err != nil {
		fmt.Println(err)
		return
	}
	var said forecast.Finish
	report, err := simulate.Play(world, simulate.Options{
		WatchAt: 0.5 * drill.Bound(world, 0),
		Watch: func(w simulate.Watched) {
			said = forecast.Take(w.State, w.Model, w.Sight, nil, w.Now).Play(1, 16)[farm.RunID(1)]
		},
	})
	if err != nil {
		fmt.Println(err)
		return
	}
	finish := world.Start.Add(time.Duration(report.Finish * float64(time.Second)))
	fmt.Println("known:", said.Known, "- in time of the 90 % mark:", !finish.After(said.Late))
	// Output: known: true - in time of the 90 % mark: true
}
