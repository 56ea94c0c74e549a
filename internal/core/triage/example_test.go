package triage_test

import (
	"fmt"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/triage"
)

// A frame fails, and goes back to be dealt to another node.
func Example() {
	now := time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)
	s := farm.NewState()
	s.PutNode(&farm.Node{ID: 1, Name: "kiln-01", Session: 1, Reach: farm.Online})
	for _, r := range []farm.Record{
		farm.PlaceSet{Name: "frames"},
		farm.ProjectSet{Name: "salt-clock", Weight: 1, Scenes: "frames", Frames: "frames"},
		farm.RunSubmitted{Run: 1, State: farm.RunRendering, At: now, Spec: farm.Spec{
			Job: "salt_010", Project: "salt-clock", Kind: farm.Final, Number: 1, Frames: frames.One(7), Tries: 3,
		}},
		farm.LeaseOpened{Lease: 1, Node: 1, Run: 1, Session: 1, Frames: frames.One(7), At: now},
	} {
		if err := s.Apply(r); err != nil {
			fmt.Println(err)
			return
		}
	}
	failed := triage.Failure{Lease: 1, Launch: 1, Frame: 7, Cause: triage.CauseCrash, Message: "exit status 1"}
	for _, r := range triage.Failed(s, failed, now) {
		fmt.Printf("%s: %s\n", r.Kind(), r.About().Reason)
	}
	// Output: frame failed: frame 7 failed on kiln-01 (crash); 2 of 3 tries left
}
