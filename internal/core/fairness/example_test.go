package fairness_test

import (
	"fmt"
	"time"

	"vexillum/internal/core/fairness"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

type costs struct{}

func (costs) Mean(*farm.Run) (float64, bool) { return 10, true }
func (costs) Seen(farm.RunID) int            { return 1 }

// The project that has had less of the farm for its weight comes first.
func Example() {
	now := time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)
	s := farm.NewState()
	for i, project := range []string{"salt-clock", "tidal-room"} {
		records := []farm.Record{
			farm.PlaceSet{Name: "frames"},
			farm.ProjectSet{Name: project, Weight: 1, Scenes: "frames", Frames: "frames"},
			farm.RunSubmitted{Run: farm.RunID(i + 1), State: farm.RunQueued, Order: int64(i), At: now, Spec: farm.Spec{
				Job: "a", Project: project, Kind: farm.Final, Number: 1, Frames: frames.One(1), Tries: 3, Owner: "tobin",
			}},
		}
		for _, r := range records {
			if err := s.Apply(r); err != nil {
				fmt.Println(err)
				return
			}
		}
	}
	queue := fairness.New(s, costs{})
	queue.Receive("salt-clock", "tobin", 3600, now)
	for run := range queue.InTurn(now) {
		fmt.Println(run.Spec.Project)
	}
	// Output:
	// tidal-room
	// salt-clock
}
