package forecast

import (
	"math"
	"testing"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
)

var now = time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)

func none(farm.LeaseID) float64 { return 0 }

func setUp(t *testing.T, speeds []float64, leases []string, todo string) (*farm.State, *pace.Model, *farm.Run) {
	t.Helper()
	s, all := farm.NewState(), frames.Set{}
	parse := func(text string) frames.Set {
		var set frames.Set
		if err := set.UnmarshalText([]byte(text)); err != nil {
			t.Fatal(err)
		}
		all = all.Union(set)
		return set
	}
	run := &farm.Run{ID: 1, State: farm.RunRendering, ToDo: parse(todo), Leases: map[farm.LeaseID]*farm.Lease{}}
	for i, speed := range speeds {
		id := farm.NodeID(i + 1)
		s.PutNode(&farm.Node{ID: id, Name: string(rune('a' + i)), Reach: farm.Online, Duty: farm.OnDuty, Facts: farm.Facts{Speed: speed}})
		set := parse(leases[i])
		run.Leases[farm.LeaseID(id)] = &farm.Lease{ID: farm.LeaseID(id), Node: id, Run: 1, Given: set, Left: set}
	}
	run.Spec = farm.Spec{Job: "a", Kind: farm.Final, Number: 1, Frames: all}
	s.PutRun(run, "", "")
	return s, pace.New(), run
}

func TestUnknownHasAReason(t *testing.T) {
	s, m, run := setUp(t, []float64{1}, []string{"1-5"}, "")
	if f := Run(s, m, run, none, now); f.Known || f.Why == "" {
		t.Errorf("before the first frame: %+v", f)
	}
	m.Observe(run, s.Nodes[1], 1, farm.FrameAccepted{Run: 1, RenderSeconds: 10})
	s.Nodes[1].Reach = farm.Silent
	if f := Run(s, m, run, none, now); f.Known || f.Why == "" {
		t.Errorf("with a silent node alone: %+v", f)
	}
	run.State = farm.RunHeld
	if f := Run(s, m, run, none, now); f.Known || f.Why == "" {
		t.Errorf("held: %+v", f)
	}
}

func TestTheLastNodeEndsTheRun(t *testing.T) {
	s, m, run := setUp(t, []float64{1, 0.5}, []string{"1-10", "11-20"}, "")
	m.Observe(run, s.Nodes[1], 1, farm.FrameAccepted{Run: 1, RenderSeconds: 10})
	half := func(l farm.LeaseID) float64 { return map[farm.LeaseID]float64{2: 0.5}[l] }
	f := Run(s, m, run, half, now)
	if want := now.Add(190 * time.Second); !f.Known || f.Median.Sub(want).Abs() > 2*time.Second {
		t.Errorf("median %v, want %v: 9.5 frames of 20 s on the slower node", f.Median, want)
	}
	if !f.Late.After(f.Median) {
		t.Errorf("the late time %v is not after the median %v", f.Late, f.Median)
	}
}

func TestWhatIsNotDealtIsShared(t *testing.T) {
	s, m, run := setUp(t, []float64{1, 1}, []string{"1-2", "3-4"}, "5-100")
	m.Observe(run, s.Nodes[1], 1, farm.FrameAccepted{Run: 1, RenderSeconds: 1})
	f := Run(s, m, run, none, now)
	if got := f.Median.Sub(now).Seconds(); math.Abs(got-50) > 1 {
		t.Errorf("%v s for 100 frames of 1 s on two nodes", got)
	}
}

func TestALaunchCountsOnlyForWhomItIsNeeded(t *testing.T) {
	s, m, run := setUp(t, []float64{1, 0.1}, []string{"1-2", "3"}, "4-5")
	m.Observe(run, s.Nodes[1], 1, farm.FrameAccepted{Run: 1, RenderSeconds: 2, StartupSeconds: 6})
	f := Run(s, m, run, none, now)
	// The first node: 2 frames of 2 s, a launch of 6 s, 2 frames more. The
	// second renders one frame of 20 s and gets no more.
	if got := f.Median.Sub(now).Seconds(); math.Abs(got-20) > 1 {
		t.Errorf("%v s, want 20 without a launch of the second node", got)
	}
}

func TestRangeNarrowsAsFramesAreSeen(t *testing.T) {
	s, m, run := setUp(t, []float64{1}, []string{"1-100"}, "")
	width := func() float64 {
		f := Run(s, m, run, none, now)
		return f.Late.Sub(f.Median).Seconds() / f.Median.Sub(now).Seconds()
	}
	for _, x := range []float64{8, 12} {
		m.Observe(run, s.Nodes[1], 1, farm.FrameAccepted{Run: 1, RenderSeconds: x})
	}
	early := width()
	for range 20 {
		for _, x := range []float64{8, 12} {
			m.Observe(run, s.Nodes[1], 1, farm.FrameAccepted{Run: 1, RenderSeconds: x})
		}
	}
	if later := width(); later >= early {
		t.Errorf("the range is %.3f wide after 2 frames and %.3f after 42", early, later)
	}
}

func TestAClosedRunIsCertain(t *testing.T) {
	s, m, run := setUp(t, []float64{1}, []string{"1"}, "")
	run.State, run.EndedAt = farm.RunDone, now
	if f := Run(s, m, run, none, now.Add(time.Hour)); !f.Median.Equal(now) || !f.Late.Equal(now) {
		t.Errorf("%+v", f)
	}
}
