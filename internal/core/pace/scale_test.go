package pace

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// rendered lets a model see a run whose frames cost what a law says, to its end.
func rendered(m *Model, spec farm.Spec, id farm.RunID, cost func(f int) float64, dice *rand.Rand) {
	run := &farm.Run{ID: id, Spec: spec}
	n := &farm.Node{ID: 1, Facts: farm.Facts{Speed: 1}}
	for f := range spec.Frames.All() {
		m.Observe(run, n, 1, farm.FrameAccepted{
			Run: id, Frame: f, Node: 1, RenderSeconds: cost(f) * math.Exp(0.05*dice.NormFloat64()),
		})
	}
	m.Close(run)
}

func spec(job string, side int, quality string, set frames.Set) farm.Spec {
	return farm.Spec{
		Job: job, Project: "salt-clock", Recipe: "povray", Width: 16 * side, Height: 9 * side, Frames: set,
		Values: map[string]string{"quality": quality, "look": "plain"},
	}
}

// TestScalingIsLearnedFromPairs renders proofs and finals of several jobs whose cost goes
// with pixels and quality by a law, and asks what the final of another job will cost.
func TestScalingIsLearnedFromPairs(t *testing.T) {
	all := frames.Of(frames.Span{First: 1, Last: 100})
	for seed := range uint64(20) {
		dice := rand.New(rand.NewPCG(seed, 1))
		pixelPower, qualityPower := 0.7+0.5*dice.Float64(), 1.5*dice.Float64()
		law := func(side, quality float64, level float64) func(int) float64 {
			return func(f int) float64 {
				curve := math.Exp(0.5 * math.Sin(float64(f)/20))
				return level * curve * math.Pow(side*side/400, pixelPower) * math.Pow((quality+1)/5, qualityPower)
			}
		}
		m, id := New(), farm.RunID(0)
		off := func(job string) float64 {
			level := 1 + 4*dice.Float64()
			id++
			proof := spec(job, 20, "4", all.Spread(8))
			rendered(m, proof, id, law(20, 4, level), dice)
			final := spec(job, 80, "9", all)
			expected, known := m.Cost(&farm.Run{ID: id + 1, Spec: final})
			if !known {
				t.Fatal("the proof tells nothing of the final")
			}
			m.Forget(id + 1)
			truth := 0.0
			for f := range all.All() {
				truth += law(80, 9, level)(f)
			}
			id++
			rendered(m, final, id, law(80, 9, level), dice)
			return math.Log(expected.Mean / (truth / 100))
		}
		first := math.Abs(off("salt_000"))
		if _, doubt := m.Scale(spec("a", 80, "9", all), spec("a", 20, "4", all)); doubt > 0.2 {
			t.Errorf("seed %d: after a pair it is doubted by %.2f", seed, doubt)
		}
		for i := range 3 {
			off(fmt.Sprint("salt_00", 1+i))
		}
		if last := math.Abs(off("salt_009")); last > 0.12 {
			t.Errorf(
				"seed %d: after four pairs it is %.2f off, at first %.2f (powers %.2f, %.2f)",
				seed,
				last,
				first,
				pixelPower,
				qualityPower,
			)
		}
		// Another ratio of both follows from the same law, if less surely.
		same, _ := m.Scale(spec("a", 80, "9", all), spec("a", 80, "9", all))
		if same != 1 {
			t.Errorf("a run costs %.3f times what it costs", same)
		}
		up, doubtUp := m.Scale(spec("a", 80, "9", all), spec("a", 20, "4", all))
		down, _ := m.Scale(spec("a", 20, "4", all), spec("a", 80, "9", all))
		if math.Abs(up*down-1) > 1e-9 || doubtUp <= 0 {
			t.Errorf("up %.3f and down %.3f, with doubt %.3f", up, down, doubtUp)
		}
	}
}

// TestCostGoesWithPixelsAtFirst asks of runs of which nothing but sizes is known.
func TestCostGoesWithPixelsAtFirst(t *testing.T) {
	set := frames.Of(frames.Span{First: 1, Last: 10})
	m, dice := New(), rand.New(rand.NewPCG(1, 1))
	rendered(m, spec("salt_010", 20, "4", set), 1, func(int) float64 { return 2 }, dice)
	if factor, doubt := m.Scale(spec("a", 40, "4", set), spec("a", 20, "4", set)); math.Abs(factor-4) > 1e-9 ||
		doubt < 0.1 {
		t.Errorf("four times the pixels cost %.2f times as much, doubted by %.2f", factor, doubt)
	}
	other := spec("salt_010", 20, "4", set)
	other.Recipe = "practice"
	if factor, _ := m.Scale(spec("a", 40, "4", set), other); factor != 1 {
		t.Errorf("another recipe tells by %.2f", factor)
	}
	// A job that nobody has rendered costs what the recipe's pixels mostly cost.
	run := &farm.Run{ID: 7, Spec: spec("gannet_open", 40, "4", set)}
	if cost := m.Curve(run).Cost(3); math.Abs(cost/8-1) > 0.1 {
		t.Errorf("a frame of an unknown job is taken to cost %.2f, want 8", cost)
	}
	// The same job without any frame: what was told of it before holds on.
	rest := &farm.Run{ID: 8, Spec: spec("salt_010", 40, "4", set)}
	m.Curve(rest)
	m.Close(rest)
	if cost, _ := m.Cost(&farm.Run{ID: 9, Spec: spec("salt_010", 20, "4", set)}); math.Abs(cost.Mean/2-1) > 0.1 {
		t.Errorf("a run that told nothing has changed what a frame costs to %.2f", cost.Mean)
	}
}
