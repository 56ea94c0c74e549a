package pace

import (
	"math"
	"testing"

	"vexillum/internal/core/farm"
)

func TestCostIsInReferenceSeconds(t *testing.T) {
	m := New()
	if _, known := m.Cost(1); known {
		t.Fatal("a cost is known before any frame")
	}
	// The same frame takes a node of half the speed twice as long.
	m.Observe(farm.FrameAccepted{Run: 1, RenderSeconds: 4, StartupSeconds: 3}, 0.5)
	m.Observe(farm.FrameAccepted{Run: 1, RenderSeconds: 1}, 2)
	cost, known := m.Cost(1)
	if !known || math.Abs(cost.Mean-2) > 1e-9 || cost.Spread > 1e-9 || cost.Count != 2 {
		t.Errorf("cost %+v, want 2 reference seconds without spread", cost)
	}
	if startup, _ := m.Startup(1); startup.Mean != 3 || startup.Count != 1 {
		t.Errorf("startup %+v, want 3 seconds once", startup)
	}
	if _, known := m.Cost(2); known {
		t.Error("run 2 learned from run 1")
	}
	m.Forget(1)
	if _, known := m.Cost(1); known {
		t.Error("a forgotten run is still known")
	}
}

func TestImpossibleTimesAreIgnored(t *testing.T) {
	m := New()
	for _, seconds := range []float64{0, -1, math.Inf(1), math.NaN()} {
		m.Observe(farm.FrameAccepted{Run: 1, RenderSeconds: seconds, StartupSeconds: seconds}, 1)
	}
	m.Observe(farm.FrameAccepted{Run: 1, RenderSeconds: 1}, 0)
	if cost, known := m.Cost(1); known {
		t.Errorf("learned %+v from impossible times", cost)
	}
}

func TestSpreadOfTheLogarithm(t *testing.T) {
	m := New()
	for _, x := range []float64{1, math.E, 1, math.E} {
		m.Observe(farm.FrameAccepted{Run: 1, RenderSeconds: x}, 1)
	}
	want := math.Sqrt(1.0 / 3) // of 0, 1, 0, 1
	if cost, _ := m.Cost(1); math.Abs(cost.Spread-want) > 1e-9 {
		t.Errorf("spread %v, want %v", cost.Spread, want)
	}
}

func TestSpeedIsAlwaysUsable(t *testing.T) {
	m := New()
	for _, c := range []struct{ told, want float64 }{{2.5, 2.5}, {0, 1}, {-3, 1}, {math.Inf(1), 1}} {
		n := &farm.Node{Facts: farm.Facts{Speed: c.told}}
		if got := m.Speed(n, "povray"); got != c.want {
			t.Errorf("told %v: speed %v, want %v", c.told, got, c.want)
		}
	}
}
