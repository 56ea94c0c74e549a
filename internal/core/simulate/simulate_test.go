package simulate

import (
	"testing"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/triage"
)

// TestWhatVanishesShowsLate looks at a machine as the dealer sees it: that it has
// vanished shows when it does not answer, and when it has been silent for long
// enough, not before.
func TestWhatVanishesShowsLate(t *testing.T) {
	f := Farm{
		Start: time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC),
		Nodes: []Node{{Name: "kiln-01", Speed: 1, Known: 1, Leaves: 33}},
	}
	spec := farm.Spec{
		Job: "salt_010", Project: "salt-clock", Recipe: "practice", Mode: farm.ModeRange, Tries: 3,
		Frames: frames.Of(frames.Span{First: 1, Last: 9}),
	}
	f.Jobs = []Job{{Spec: spec, Startup: 5, Costs: []float64{10, 10, 10, 10, 10, 10, 10, 10, 10}}}
	w := newWorld(f, Options{})
	until := func(at float64) {
		for len(w.events.heap) > 0 && w.events.heap[0].at <= at {
			e, _ := w.events.next()
			if err := w.moment(e); err != nil {
				t.Fatal(err)
			}
		}
		w.now = at
		w.e.Begin(w.at(at))
	}
	until(32)
	if len(w.machines[0].works) != 1 {
		t.Fatal("it has no lease")
	}
	l := w.machines[0].works[0].lease
	if seen := w.e.Sight(l); !seen.Begun || seen.Frame != 3 || seen.Seconds != 7 || seen.Rests {
		t.Errorf("after 32 s it is seen as %+v; frame 3 was begun after 25 s", seen)
	}
	until(35)
	if seen := w.e.Sight(l); !seen.Begun || seen.Frame != 3 || seen.Seconds != 10 || seen.Rests {
		t.Errorf("2 s after it has vanished it is seen as %+v; nobody can know yet", seen)
	}
	until(33 + triage.SilentAfter.Seconds() + 2)
	if seen := w.e.Sight(l); !seen.Begun || !seen.Rests || w.s.Nodes[1].Reach != farm.Silent {
		t.Errorf("it is silent, and seen as %+v", seen)
	}
}
