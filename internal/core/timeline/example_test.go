package timeline_test

import (
	"fmt"
	"time"

	"vexillum/internal/core/timeline"
)

// What happened to a node becomes stretches that can be drawn.
func Example() {
	at := func(minute int) time.Time { return time.Date(2031, 3, 4, 20, minute, 0, 0, time.UTC) }
	events := []timeline.Event{
		{At: at(5), Kind: timeline.Opened, Run: 7},
		{At: at(30), Kind: timeline.Ended, Run: 7},
		{At: at(40), Kind: timeline.State, Of: "reach", Is: "silent"},
	}
	for _, s := range timeline.Spans(events, at(0), 0) {
		fmt.Printf("run %d, lane %d, %q from %s\n", s.Run, s.Lane, s.Is, s.From.Format(time.TimeOnly))
	}
	// Output:
	// run 7, lane 0, "" from 20:05:00
	// run 0, lane -1, "silent" from 20:40:00
}
