package engine_test

import (
	"fmt"
	"time"

	"vexillum/internal/core/engine"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
	"vexillum/internal/core/protocol/accept"
)

// A node asks for work, which waits until there is some, and brings two frames.
func Example() {
	now := time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)
	facts := farm.Facts{OS: "linux", Speed: 1, Renderers: []farm.Renderer{{Recipe: "practice", Version: "1"}}}
	s := farm.NewState()
	s.Places["loft"] = &farm.Place{Name: "loft"}
	s.Projects["salt-clock"] = &farm.Project{Name: "salt-clock", Weight: 1, Scenes: "loft", Frames: "loft"}
	s.PutNode(&farm.Node{ID: 1, Name: "kiln-01", Kind: farm.Rack, Duty: farm.OnDuty, Health: farm.Fine})
	e := engine.New(engine.Live(engine.Options{State: s, Pace: pace.New()}), now)

	finish := func() engine.Batch {
		out, err := e.Finish()
		if err != nil {
			panic(err) // a decision contradicted the farm
		}
		for _, r := range out.Records {
			if why := r.About().Reason; why != "" {
				fmt.Printf("%s: %s\n", r.Kind(), why)
			}
		}
		return out
	}

	e.Begin(now)
	e.Start(1, facts, nil)
	answer, waits := e.Ask(1, engine.Question{Number: 1})
	fmt.Println("it waits:", waits, "-", answer.Why)
	finish()

	e.Begin(now.Add(time.Second))
	e.Append(farm.RunSubmitted{Run: 1, State: farm.RunQueued, Order: 1, At: now, Spec: farm.Spec{
		Job: "salt_010", Project: "salt-clock", Kind: farm.Final, Number: 1, Recipe: "practice", Mode: farm.ModeRange,
		Frames: frames.Of(frames.Span{First: 1, Last: 2}), Tries: 3,
	}})
	lease := finish().Answers[0].Leases[0]

	e.Begin(now.Add(time.Minute))
	for frame := range lease.Left.All() {
		report := accept.Report{Outcome: accept.Good, Lease: lease.ID, Frame: frame, Hash: "…", RenderSeconds: 20}
		if e.Report(1, report).Deliver {
			report.Outcome = accept.Delivered
			e.Report(1, report)
		}
	}
	e.Report(1, accept.Report{Outcome: accept.Ended, Lease: lease.ID, Message: "has finished its frames"})
	finish()
	// Output:
	// it waits: true - the queue is empty
	// lease opened: kiln-01 gets all 2 frames: no other node that is ready has practice
	// run set: its frames come from practice 1, as kiln-01 has it
	// run moved: the first frames are dealt
	// lease ended: kiln-01 has finished its frames
	// run moved: all 2 frames are done
}
