package pace

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// aRun returns a run of count frames, and nodes of the given speeds.
func aRun(id farm.RunID, count int, speeds ...float64) (*farm.Run, []*farm.Node) {
	run := &farm.Run{
		ID: id,
		Spec: farm.Spec{
			Job: "salt_010", Project: "salt-clock", Recipe: "practice",
			Frames: frames.Of(frames.Span{First: 1, Last: count}),
		},
	}
	var nodes []*farm.Node
	for i, speed := range speeds {
		nodes = append(nodes, &farm.Node{ID: farm.NodeID(i + 1), Facts: farm.Facts{Speed: speed}})
	}
	return run, nodes
}

func near(got, want, part float64) bool { return math.Abs(got/want-1) <= part }

func TestCostIsInReferenceSeconds(t *testing.T) {
	m := New()
	run, nodes := aRun(1, 10, 0.5, 2)
	if _, known := m.Cost(run); known {
		t.Fatal("a cost is known before any frame")
	}
	// The same frame takes a node of half the speed twice as long.
	m.Observe(run, nodes[0], 1, farm.FrameAccepted{Frame: 1, RenderSeconds: 4, StartupSeconds: 3})
	m.Observe(run, nodes[1], 1, farm.FrameAccepted{Frame: 2, RenderSeconds: 1})
	m.Observe(run, nodes[1], 0.5, farm.FrameAccepted{Frame: 3, RenderSeconds: 2}) // with half of its cores
	cost, known := m.Cost(run)
	if !known || !near(cost.Mean, 2, 0.01) || cost.Count != 3 {
		t.Errorf("cost %+v, want 2 reference seconds", cost)
	}
	if startup, _ := m.Startup(run); startup.Mean != 3 || startup.Count != 1 {
		t.Errorf("startup %+v, want 3 seconds once", startup)
	}
	other, _ := aRun(2, 10)
	other.Spec.Job = "salt_020"
	if _, known := m.Cost(other); known {
		t.Error("one job learned from another")
	}
	if startup, known := m.Startup(other); !known || startup.Mean != 3 {
		t.Error("a first launch of the same recipe is not guessed from others")
	}
}

// TestFirstLaunchesAreToldFromFurtherOnes lets a run be launched on two nodes
// where the scene has to be read, and again where it is at hand.
func TestFirstLaunchesAreToldFromFurtherOnes(t *testing.T) {
	m := New()
	run, nodes := aRun(1, 10, 1, 1, 1)
	want := func(what string, on *farm.Node, seconds float64) {
		t.Helper()
		if got, known := m.StartupOn(run, on.ID); !known || !near(got.Mean, seconds, 1e-9) {
			t.Errorf("%s: %+v, want %v s", what, got, seconds)
		}
	}
	if _, known := m.StartupOn(run, nodes[0].ID); known {
		t.Error("known before any launch")
	}
	m.Observe(run, nodes[0], 1, farm.FrameAccepted{Frame: 1, RenderSeconds: 1, StartupSeconds: 60})
	want("a first launch elsewhere", nodes[1], 60)
	want("a further launch, of which none was seen", nodes[0], 60)
	m.Observe(run, nodes[0], 1, farm.FrameAccepted{Frame: 2, RenderSeconds: 1})
	m.Observe(run, nodes[0], 1, farm.FrameAccepted{Frame: 3, RenderSeconds: 1, StartupSeconds: 6})
	m.Observe(run, nodes[1], 1, farm.FrameAccepted{Frame: 4, RenderSeconds: 1, StartupSeconds: 80})
	want("a first launch on a third", nodes[2], 70)
	want("a further one", nodes[1], 6)
	if !m.Launched(run, nodes[1].ID) || m.Launched(run, nodes[2].ID) {
		t.Error("it was launched on two nodes")
	}

	m.Close(run)
	run, nodes = aRun(2, 10, 1, 1)
	run.Spec.Job = "salt_020"
	want("a first launch of another job", nodes[0], 70)
	m.Observe(run, nodes[0], 1, farm.FrameAccepted{Frame: 1, RenderSeconds: 1, StartupSeconds: 140})
	want("a further launch, as much shorter as with the other job", nodes[0], 14)

	run, nodes = aRun(3, 10, 1)
	want("a first launch of the next run of the job", nodes[0], 70)
	m.BelieveLaunched(run, nodes[0].ID)
	want("a further one", nodes[0], 6)
}

func TestImpossibleTimesAreIgnored(t *testing.T) {
	m := New()
	run, nodes := aRun(1, 10, 1)
	for _, seconds := range []float64{0, -1, math.Inf(1), math.NaN()} {
		m.Observe(run, nodes[0], 1, farm.FrameAccepted{RenderSeconds: seconds, StartupSeconds: seconds})
	}
	m.Observe(run, nodes[0], 0, farm.FrameAccepted{RenderSeconds: 1})
	if cost, known := m.Cost(run); known {
		t.Errorf("learned %+v from impossible times", cost)
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

// render lets nodes render their parts of a range side by side, each
// of them each frames, and lets the model learn from it.
func render(
	m *Model, run *farm.Run, nodes []*farm.Node, speeds []float64, cost func(int) float64, noise float64, each int,
	r *rand.Rand,
) {
	part := run.Spec.Frames.Len() / len(nodes)
	for i := range each {
		for k, n := range nodes {
			f := 1 + k*part + i
			seconds := cost(f) / speeds[k] * math.Exp(noise*r.NormFloat64())
			m.Observe(run, n, 1, farm.FrameAccepted{Frame: f, RenderSeconds: seconds})
		}
	}
}

// TestTheCurveIsFound has each node render the first two thirds of its part of
// a slope, and asks for the rest.
func TestTheCurveIsFound(t *testing.T) {
	for name, cost := range map[string]func(int) float64{
		"even":  func(int) float64 { return 12 },
		"slope": func(f int) float64 { return 4 + float64(f)/10 },
		"hill":  func(f int) float64 { return 5 + 20*math.Exp(-math.Pow(float64(f-200)/80, 2)) },
	} {
		for seed := range uint64(20) {
			m, r := New(), rand.New(rand.NewPCG(seed, 1))
			run, nodes := aRun(1, 400, 1, 1, 1, 1, 1)
			render(m, run, nodes, []float64{1, 1, 1, 1, 1}, cost, 0.05, 54, r)
			for k := range 5 {
				rest := frames.Of(frames.Span{First: 80*k + 55, Last: 80*k + 80})
				want := 0.0
				for f := range rest.All() {
					want += cost(f)
				}
				if got := m.Curve(run).Work(rest); !near(got, want, 0.17) {
					t.Errorf(
						"%s, seed %d: frames %v are expected to cost %.0f, they do %.0f", name, seed, rest, got, want,
					)
				}
			}
		}
	}
}

// TestSpeedsAreFound has nodes that are not as fast as was thought.
func TestSpeedsAreFound(t *testing.T) {
	for seed := range uint64(20) {
		m, r := New(), rand.New(rand.NewPCG(seed, 2))
		run, nodes := aRun(1, 600, 1, 1, 1)
		really := []float64{1, 0.7, 1.5}
		for i := range 300 { // in turns, as when frames go out one by one
			k := r.IntN(3)
			m.Observe(
				run, nodes[k], 1,
				farm.FrameAccepted{Frame: i + 1, RenderSeconds: 10 / really[k] * math.Exp(0.05*r.NormFloat64())},
			)
		}
		for k := 1; k < 3; k++ {
			if got := m.SpeedFor(nodes[k], run) / m.SpeedFor(nodes[0], run); !near(got, really[k], 0.08) {
				t.Errorf(
					"seed %d: node %d is thought %.2f times as fast as the first, it is %.2f", seed, k+1, got,
					really[k],
				)
			}
		}
		m.Close(run)
		next, _ := aRun(2, 600)
		next.Spec.Job = "tidal_ceiling"
		if got := m.SpeedFor(nodes[2], next) / m.SpeedFor(nodes[1], next); !near(got, 1.5/0.7, 0.1) {
			t.Errorf("seed %d: the next run begins with a ratio of %.2f", seed, got)
		}
	}
}

func TestOutliersAndColdStartsCountLittle(t *testing.T) {
	m, r := New(), rand.New(rand.NewPCG(1, 3))
	run, nodes := aRun(1, 300, 1, 1)
	for i := range 100 {
		seconds := 10 * math.Exp(0.05*r.NormFloat64())
		if i%17 == 5 {
			seconds *= 6 // somebody else used the machine
		}
		m.Observe(run, nodes[i%2], 1, farm.FrameAccepted{Frame: 1 + 2*i, RenderSeconds: seconds})
	}
	if got := m.Curve(run).Cost(150); !near(got, 10, 0.2) {
		t.Errorf("a frame is expected to cost %.1f, most cost 10", got)
	}
}

// TestABusyMachineIsFollowed slows a node down in the middle of a run.
func TestABusyMachineIsFollowed(t *testing.T) {
	m, r := New(), rand.New(rand.NewPCG(1, 4))
	run, nodes := aRun(1, 400, 1, 1)
	for i := range 200 {
		speed := 1.0
		if i >= 140 {
			speed = 0.5
		}
		for k, v := range []float64{1, speed} {
			m.Observe(
				run, nodes[k], 1,
				farm.FrameAccepted{Frame: 1 + i + 200*k, RenderSeconds: 10 / v * math.Exp(0.04*r.NormFloat64())},
			)
		}
	}
	// What its own next frames take is what counts.
	got := m.Curve(run).Cost(400) / m.SpeedFor(nodes[1], run)
	if !near(got, 20, 0.2) {
		t.Errorf("its next frame is expected to take %.1f s, they take 20 now", got)
	}
}

func TestAnEarlierRunFeedsTheNext(t *testing.T) {
	m, r := New(), rand.New(rand.NewPCG(1, 5))
	hill := func(f int) float64 { return 5 + 40*math.Exp(-math.Pow(float64(f-100)/20, 2)) }
	proof, nodes := aRun(1, 400, 1)
	for f := 1; f <= 400; f += 5 { // every fifth frame, a tenth as dear
		m.Observe(
			proof, nodes[0], 1,
			farm.FrameAccepted{Frame: f, RenderSeconds: hill(f) / 10 * math.Exp(0.05*r.NormFloat64())},
		)
	}
	m.Close(proof)
	final, _ := aRun(2, 400)
	if !m.Curve(final).Known() {
		t.Fatal("nothing is known of the next run")
	}
	for f := 300; f < 306; f++ { // the final costs ten times as much; six frames tell
		m.Observe(final, nodes[0], 1, farm.FrameAccepted{Frame: f, RenderSeconds: hill(f)})
	}
	if got := m.Curve(final).Cost(100) / m.Curve(final).Cost(302); !near(got, 9, 0.25) {
		t.Errorf("the hill is thought %.1f times as dear as the plain, it was 9 times", got)
	}
	if got := m.Curve(final).Cost(302); !near(got, 5, 0.3) {
		t.Errorf("a frame of the plain is thought to cost %.1f, it costs 5", got)
	}
}

// TestWorkAddsUp compares sums with what single frames cost, and what is
// within a sum with the sum.
func TestWorkAddsUp(t *testing.T) {
	for seed := range uint64(40) {
		m, r := New(), rand.New(rand.NewPCG(seed, 6))
		run, nodes := aRun(1, 50+r.IntN(3000), 1)
		last := run.Spec.Frames.Last()
		for f := 1; f <= last; f += 1 + r.IntN(40) {
			m.Observe(run, nodes[0], 1, farm.FrameAccepted{Frame: f, RenderSeconds: 3 + 2*math.Sin(float64(f)/300)})
		}
		c := m.Curve(run)
		first := 1 + r.IntN(last)
		set := frames.Of(
			frames.Span{First: first, Last: first + r.IntN(last-first+1)}, frames.Span{First: last, Last: last},
		)
		want := 0.0
		for f := range set.All() {
			want += c.Cost(f)
		}
		if got := c.Work(set); !near(got, want, 0.002) {
			t.Errorf("seed %d: %v cost %.2f together, one by one %.2f", seed, set, got, want)
		}
		n, work := c.Within(set, want/2)
		if next := c.Work(set.Take(n + 1)); work > want/2+1e-6 || next < want/2*0.998 {
			t.Errorf("seed %d: %d frames are within %.2f: they cost %.2f, one more %.2f", seed, n, want/2, work, next)
		}
	}
}

// BenchmarkObserve measures what it costs to learn from one frame when 10,000
// have been seen: on average, as a fit is made again with every 50th part more, and
// where one is.
func BenchmarkObserve(b *testing.B) {
	for name, nodes := range map[string]int{"10 nodes": 10, "1000 nodes": 1000} {
		b.Run("after 10000 frames, "+name, func(b *testing.B) {
			const before, timed = 10_000, 5_000
			var took, most time.Duration
			for range b.N {
				r := rand.New(rand.NewPCG(1, 7))
				m := New()
				run, all := aRun(1, before+timed, make([]float64, nodes)...)
				for f := 1; f <= before+timed; f++ {
					rec := farm.FrameAccepted{Frame: f, RenderSeconds: 5 + r.Float64()}
					n := all[r.IntN(nodes)]
					began := time.Now()
					m.Observe(run, n, 1, rec)
					if one := time.Since(began); f > before {
						took, most = took+one, max(most, one)
					}
				}
			}
			b.ReportMetric(float64(took.Nanoseconds())/1000/float64(b.N)/timed, "µs/frame")
			b.ReportMetric(float64(most.Nanoseconds())/1000, "µs-most")
			b.ReportMetric(0, "ns/op")
		})
	}
}

// TestDoubtGrowsAwayFromWhatWasSeen looks at how well it is known what frames
// cost: not at all, at a frame that was seen, between two and beyond them.
func TestDoubtGrowsAwayFromWhatWasSeen(t *testing.T) {
	m, run := New(), &farm.Run{
		ID: 1, Spec: farm.Spec{Job: "a", Recipe: "practice", Frames: frames.Of(frames.Span{First: 1, Last: 100})},
	}
	n := &farm.Node{ID: 1, Facts: farm.Facts{Speed: 1}}
	doubt := func(f int) float64 { return m.Curve(run).Doubt(f) }
	if got := doubt(50); got != doubtOfGuess {
		t.Errorf("nothing was seen, and the doubt is %v", got)
	}
	for i, f := range []int{1, 2, 3, 21, 22, 23, 61, 62, 63} {
		m.Observe(run, n, 1, farm.FrameAccepted{Frame: f, RenderSeconds: 10 * (1 + float64(i%3)/10)})
	}
	if near, between, beyond := doubt(22), doubt(42), doubt(100); near > 0.02 || between <= near || beyond <= between {
		t.Errorf(
			"doubt is %v at a frame that was seen, %v between such and %v beyond them; want more and more", near,
			between, beyond,
		)
	}
	m.Close(run)
	if again := m.Curve(&farm.Run{ID: 2, Spec: run.Spec}).Doubt(90); again != doubtOfShape {
		t.Errorf("an earlier run has told, and the doubt is %v", again)
	}
}
