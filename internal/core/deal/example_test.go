package deal_test

import (
	"fmt"
	"time"

	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
)

// Two nodes, one three times as fast, share a run.
func Example() {
	now := time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)
	s := farm.NewState()
	for i, speed := range []float64{3, 1} {
		s.PutNode(&farm.Node{
			ID: farm.NodeID(i + 1), Name: fmt.Sprintf("kiln-%02d", i+1), Session: 1, Reach: farm.Online,
			Duty: farm.OnDuty, Health: farm.Fine,
			Facts: farm.Facts{Speed: speed, Renderers: []farm.Renderer{{Recipe: "practice"}}},
		})
	}
	apply := func(records ...farm.Record) {
		for _, r := range records {
			if err := s.Apply(r); err != nil {
				panic(err) // the example makes no sense
			}
		}
	}
	apply(farm.RunSubmitted{Run: 1, State: farm.RunQueued, At: now, Spec: farm.Spec{
		Job: "salt_010", Kind: farm.Final, Number: 1, Recipe: "practice", Mode: farm.ModeRange,
		Frames: frames.Of(frames.Span{First: 1, Last: 80}), Tries: 3,
	}})
	dealer := deal.New(s, pace.New(), nil)
	for id := range farm.NodeID(2) {
		decision := dealer.Next(deal.Ask{Node: id + 1, Number: 1}, now)
		apply(decision.Records...)
		fmt.Println(decision.Why)
	}
	// Output:
	// kiln-01 gets 60 of the 80 frames to do: its part by speed
	// kiln-02 gets 20 frames: all that is to do
}
