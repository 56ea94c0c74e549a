package blame

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

// suspects of a made-up farm.
func node(id int64) Suspect            { return Suspect{Kind: Node, ID: id} }
func frame(run, f int64) Suspect       { return Suspect{Kind: Frame, ID: run, Sub: f} }
func aRun(id int64) Suspect            { return Suspect{Kind: Run, ID: id} }
func device(n int64, d string) Suspect { return Suspect{Kind: Device, ID: n, Name: d} }

var (
	scenes   = Suspect{Kind: Place, Name: "scenes"}
	renderer = Suspect{Kind: Renderer, Name: "povray", Of: "3.7"}
)

// failed is a try at a frame of a run on a node.
func failed(cause string, run, f, n int64, more ...Suspect) Failure {
	heavy := Suspect{Kind: Heavy, ID: run, Sub: f}
	return Failure{cause, append([]Suspect{aRun(run), node(n), renderer, scenes, frame(run, f), heavy}, more...)}
}

func TestJudge(t *testing.T) {
	sculpt := Suspect{Kind: Licence, Name: "sculpt"}
	for _, c := range []struct {
		name     string
		failures []Failure
		passed   map[Suspect]float64
		want     Suspect // of the last failure
		least    float64 // its share
	}{
		{
			"a frame that fails on three nodes while others of its run come out well",
			[]Failure{failed(Crash, 1, 7, 1), failed(Crash, 1, 7, 2), failed(Crash, 1, 7, 3)},
			map[Suspect]float64{aRun(1): 20, renderer: 40, node(1): 5, node(2): 5, node(3): 5},
			frame(1, 7), 0.95,
		},
		{
			"a node that fails what others do",
			[]Failure{failed(Crash, 1, 7, 1), failed(Crash, 1, 9, 1), failed(NoFrame, 2, 3, 1)},
			map[Suspect]float64{aRun(1): 20, aRun(2): 9, renderer: 40, frame(1, 7): 1, frame(1, 9): 1, frame(2, 3): 1},
			node(1), 0.99,
		},
		{
			"a node that fails one in three",
			[]Failure{failed(Crash, 1, 7, 1), failed(Crash, 1, 9, 1), failed(Crash, 1, 12, 1), failed(Crash, 1, 20, 1)},
			map[Suspect]float64{
				aRun(1): 60, renderer: 60, node(1): 8, frame(1, 7): 1, frame(1, 9): 1, frame(1, 12): 1, frame(1, 20): 1,
			},
			node(1), 0.95,
		},
		{
			"one device of a node whose other renders",
			[]Failure{
				failed(Crash, 1, 7, 1, device(1, "a")), failed(Crash, 1, 9, 1, device(1, "a")),
				failed(Crash, 1, 12, 1, device(1, "a")), failed(Crash, 1, 15, 1, device(1, "a")),
			},
			map[Suspect]float64{
				aRun(1): 60, renderer: 60, node(1): 20, frame(1, 7): 1, frame(1, 9): 1, frame(1, 12): 1, frame(1, 15): 1,
			},
			device(1, "a"), 0.95,
		},
		{
			"a run that fails from the first frame, wherever it is tried",
			[]Failure{
				failed(SceneError, 1, 1, 1), failed(SceneError, 1, 60, 2), failed(SceneError, 1, 120, 3),
				failed(SceneError, 1, 1, 2),
			},
			map[Suspect]float64{renderer: 90, scenes: 40, node(1): 1, node(2): 1, node(3): 1},
			aRun(1), 0.97,
		},
		{
			"a place that is gone, for two runs on three nodes",
			[]Failure{failed(MissingFile, 1, 7, 1), failed(MissingFile, 1, 9, 2), failed(MissingFile, 2, 5, 3)},
			map[Suspect]float64{aRun(1): 30, aRun(2): 30, renderer: 60, node(1): 1, node(2): 1, node(3): 1},
			scenes, 0.9,
		},
		{
			"a licence that nobody gets",
			[]Failure{failed(NoLicence, 1, 7, 1, sculpt), failed(NoLicence, 1, 9, 2, sculpt)},
			map[Suspect]float64{aRun(1): 30, renderer: 60},
			sculpt, 0.99,
		},
		{
			"a frame that is short of memory on small nodes and comes out well on a large one",
			[]Failure{failed(Memory, 1, 7, 1), failed(Memory, 1, 7, 2)},
			map[Suspect]float64{aRun(1): 30, renderer: 60, node(1): 1, node(2): 1, frame(1, 7): 1},
			Suspect{Kind: Heavy, ID: 1, Sub: 7}, 0.95,
		},
		{
			"a version of a renderer that fails all runs on all nodes",
			[]Failure{
				failed(Crash, 1, 7, 1), failed(Crash, 2, 9, 2), failed(Crash, 3, 1, 3), failed(Crash, 1, 8, 4),
				failed(Crash, 2, 10, 1),
			},
			map[Suspect]float64{},
			renderer, 0.85,
		},
	} {
		o := Judge(Evidence{Failures: c.failures, Passed: c.passed})
		if got := o.By(len(c.failures) - 1); got.Suspect != c.want || got.Of < c.least {
			t.Errorf("%s: %+v, want %+v with at least %.2f", c.name, o.Shares[len(c.failures)-1], c.want, c.least)
		}
	}
}

// TestOneFailureProvesNothing: whatever its cause, nobody is sure to be at fault where that
// may have come from several.
func TestOneFailureProvesNothing(t *testing.T) {
	for _, cause := range []string{Crash, NoFrame, WrongOutput, Stalled, "something new"} {
		o := Judge(Evidence{Failures: []Failure{failed(cause, 1, 7, 1)}})
		if got := o.By(0); got.Of > 0.8 {
			t.Errorf("%s: %+v", cause, got)
		}
	}
}

// randomEvidence draws tries of a few runs and nodes in no order.
func randomEvidence(r *rand.Rand) Evidence {
	e := Evidence{Passed: map[Suspect]float64{}}
	causes := []string{Crash, Memory, MissingFile, Stalled, PlaceGone, "something new"}
	for range 1 + r.IntN(20) {
		f := failed(causes[r.IntN(len(causes))], int64(r.IntN(3)), int64(r.IntN(8)), int64(r.IntN(5)))
		e.Failures = append(e.Failures, f)
		for _, s := range f.Suspects {
			switch s.Kind {
			case Frame, Heavy:
				e.Passed[s] = float64(r.IntN(2))
			default:
				e.Passed[s] = float64(r.IntN(30))
			}
		}
	}
	return e
}

// TestSharesAddUp: whatever has happened, each failure is put down to somebody, in order,
// and all chances are chances.
func TestSharesAddUp(t *testing.T) {
	for seed := range uint64(500) {
		e := randomEvidence(rand.New(rand.NewPCG(seed, 1)))
		o := Judge(e)
		for i, shares := range o.Shares {
			sum := 0.0
			for k, s := range shares {
				sum += s.Of
				if s.Of < 0 || math.IsNaN(s.Of) || k > 0 && s.Of > shares[k-1].Of {
					t.Fatalf("seed %d, failure %d: %+v", seed, i, shares)
				}
			}
			if math.Abs(sum-1) > 1e-9 {
				t.Fatalf("seed %d, failure %d: the shares add up to %v", seed, i, sum)
			}
		}
		for s, p := range o.Faulty {
			if p < 0 || p > 1 || math.IsNaN(p) || o.Rate[s] < 0 || o.Rate[s] > 1 {
				t.Fatalf("seed %d: %+v is faulty with %v at a rate of %v", seed, s, p, o.Rate[s])
			}
		}
	}
}

// TestGoodTriesExonerate: a node that has done more is not blamed more for the same.
func TestGoodTriesExonerate(t *testing.T) {
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 2))
		e := randomEvidence(r)
		of := node(int64(r.IntN(5)))
		before := Judge(e).Faulty[of]
		e.Passed[of] += 40
		if after := Judge(e).Faulty[of]; after > before+0.05 {
			t.Errorf("seed %d: after 40 good tries more it is faulty with %.3f instead of %.3f", seed, after, before)
		}
	}
}

// TestOthersAreExplainedAway: once a node is known to fail, a frame that has failed on it
// alone is no longer suspected.
func TestOthersAreExplainedAway(t *testing.T) {
	e := Evidence{Failures: []Failure{failed(Crash, 1, 50, 1)}, Passed: map[Suspect]float64{aRun(1): 20, renderer: 20}}
	alone := Judge(e).Faulty[frame(1, 50)]
	for f := range int64(4) {
		e.Failures = append(e.Failures, failed(Crash, 1, f, 1))
		e.Passed[frame(1, f)] = 1
	}
	slices.Reverse(e.Failures)
	if after := Judge(e).Faulty[frame(1, 50)]; after > alone/5 {
		t.Errorf("the frame is faulty with %.4f, and was with %.4f before its node was known", after, alone)
	}
}

func TestSure(t *testing.T) {
	for of, want := range map[float64]string{
		1: "certain", 0.98: "almost certain", 0.9: "very likely", 0.7: "likely", 0.5: "possible", 0.2: "unclear",
	} {
		if got := Sure(of); got != want {
			t.Errorf("%v is told as %q", of, got)
		}
	}
}
