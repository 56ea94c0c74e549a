package pace

import (
	"testing"

	"vexillum/internal/core/farm"
)

const gib = 1 << 30

// TestFetchingIsLearnedApart lets one node get a bundle: how long others will take
// follows from its bytes, not from launches.
func TestFetchingIsLearnedApart(t *testing.T) {
	m := New()
	run, nodes := aRun(1, 10, 1, 1, 1)
	run.Spec.Bundle, run.Spec.BundleBytes = "a", gib
	if s := m.Fetch(run, nodes[0]); s != 0 {
		t.Errorf("%v s where nothing is known of any line", s)
	}
	nodes[2].Facts.NetworkRate = gib / 50
	if s := m.Fetch(run, nodes[2]); !near(s, 50, 0.01) {
		t.Errorf("%v s by the line that was measured, want 50", s)
	}
	m.Observe(run, nodes[0], 1, farm.FrameAccepted{
		Frame: 1, RenderSeconds: 4, StartupSeconds: 3, Fetched: farm.Fetched{Bytes: gib, Seconds: 100},
	})
	m.Observe(run, nodes[2], 1, farm.FrameAccepted{ // it asked for little, which tells no rate
		Frame: 2, RenderSeconds: 4, StartupSeconds: 3, Fetched: farm.Fetched{Bytes: 1000, Seconds: 1},
	})
	if startup, _ := m.Startup(run); startup.Mean != 3 {
		t.Errorf("a launch takes %v s with what came before it, want 3", startup.Mean)
	}
	for i, want := range []float64{0, 100, 0} {
		if s := m.Fetch(run, nodes[i]); want == 0 && s != 0 || want > 0 && !near(s, want, 0.01) {
			t.Errorf("node %d: %v s, want %v", i+1, s, want)
		}
	}
	next, _ := aRun(2, 10)
	next.Spec.Bundle, next.Spec.BundleBytes, next.Spec.BundleBefore, next.Spec.BundleNew = "b", 2*gib, "a", gib/2
	for i, want := range []float64{50, 200, 50} {
		if s := m.Fetch(next, nodes[i]); !near(s, want, 0.01) {
			t.Errorf("the next version on node %d: %v s, want %v", i+1, s, want)
		}
	}
	other, _ := aRun(3, 10)
	if s := m.Fetch(other, nodes[1]); s != 0 {
		t.Errorf("%v s for a run without a bundle", s)
	}
	for i := range 2 * mostBundles {
		m.BelieveHas(string(rune('A'+i)), 1)
	}
	if len(m.fetches.has) > mostBundles {
		t.Errorf("%d bundles are remembered", len(m.fetches.has))
	}
}
