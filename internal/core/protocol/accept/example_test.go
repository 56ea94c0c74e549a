package accept_test

import (
	"fmt"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/protocol/accept"
)

// A node reports a good picture, once and again.
func Example() {
	now := time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)
	s := farm.NewState()
	s.PutNode(&farm.Node{ID: 1, Name: "kiln-01", Session: 1, Reach: farm.Online})
	apply := func(records ...farm.Record) {
		for _, r := range records {
			if err := s.Apply(r); err != nil {
				panic(err) // the example makes no sense
			}
		}
	}
	apply(
		farm.PlaceSet{Name: "frames"},
		farm.ProjectSet{Name: "salt-clock", Weight: 1, Scenes: "frames", Frames: "frames"},
		farm.RunSubmitted{Run: 1, State: farm.RunRendering, At: now, Spec: farm.Spec{
			Job: "salt_010", Project: "salt-clock", Kind: farm.Final, Number: 1, Frames: frames.One(7), Tries: 3,
		}},
		farm.LeaseOpened{Lease: 1, Node: 1, Run: 1, Session: 1, Frames: frames.One(7), At: now},
	)
	good := accept.Report{Outcome: accept.Good, Lease: 1, Frame: 7, Hash: "c0ffee", RenderSeconds: 20}
	for range 2 {
		records, verdict := accept.Take(s, 1, good, now)
		fmt.Println("deliver it:", verdict.Deliver, "- records:", len(records))
		apply(records...)
	}
	// Output:
	// deliver it: true - records: 1
	// deliver it: true - records: 0
}
