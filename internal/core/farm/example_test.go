package farm_test

import (
	"fmt"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// The farm changes by Records alone, each applied in one place.
func Example() {
	now := time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)
	s := farm.NewState()
	for _, r := range []farm.Record{
		farm.PlaceSet{Name: "frames"},
		farm.ProjectSet{Name: "salt-clock", Weight: 1, Scenes: "frames", Frames: "frames"},
		farm.RunSubmitted{Run: 1, State: farm.RunQueued, At: now, Spec: farm.Spec{
			Job: "salt_010", Project: "salt-clock", Kind: farm.Final, Number: 1, Frames: frames.One(7), Tries: 3,
		}},
		farm.RunMoved{Run: 1, State: farm.RunHeld, Reason: "held by nadia", At: now},
	} {
		if err := s.Apply(r); err != nil {
			fmt.Println(err)
			return
		}
	}
	run := s.Runs[1]
	fmt.Printf("%s is %s: %s; frames %s are to do\n", run.Spec.Name(), run.State, run.Reason, run.ToDo)
	// Output: salt_010/final-1 is held: held by nadia; frames 7 are to do
}
