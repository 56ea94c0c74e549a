package drill

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"testing"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/simulate"
)

func random(t testing.TB, class string, seed uint64) simulate.Farm {
	t.Helper()
	f, err := Random(class, seed)
	if err != nil {
		t.Fatal(err)
	}
	return f
}

func played(t testing.TB, f simulate.Farm) *simulate.Report {
	t.Helper()
	r, err := simulate.Play(f, simulate.Options{Tell: true})
	if err != nil {
		t.Fatalf("seed %d: %v", f.Seed, err)
	}
	return r
}

// TestAttemptsArePossible plays many random farms, also with late, leaving and
// failing nodes, and looks at every attempt: each frame is done once or has
// failed as often as it may; a node does one thing at a time; each launch
// begins with its start-up; a launch of a range goes from frame to frame; no
// frame takes a time that it could not take.
func TestAttemptsArePossible(t *testing.T) {
	for _, class := range Classes() {
		for seed := range uint64(25) {
			f := random(t, class, seed)
			if seed%3 == 0 {
				f.Jobs[0].Again = 0.3 * f.Jobs[0].Startup
			}
			r := played(t, f)
			if err := possible(f, r); err != nil {
				t.Fatalf("class %s, seed %d: %v", class, seed, err)
			}
			if bound := Bound(f, 0); f.Jobs[0].Noise == 0 && r.Finish < bound*(1-1e-9) {
				t.Errorf("class %s, seed %d: it ends after %v, before the bound of %v", class, seed, r.Finish, bound)
			}
		}
	}
}

func possible(f simulate.Farm, r *simulate.Report) error {
	j := f.Jobs[0]
	nodes := map[string]*simulate.Node{}
	last := map[string]simulate.Attempt{}
	for i := range f.Nodes {
		nodes[f.Nodes[i].Name] = &f.Nodes[i]
	}
	done, failed := map[int]int{}, map[int]int{}
	attempts := slices.Clone(r.Attempts)
	slices.SortStableFunc(attempts, func(a, b simulate.Attempt) int {
		return int(math.Copysign(1, a.Start-b.Start))
	})
	for _, a := range attempts {
		n := nodes[a.Node]
		before, seen := last[a.Node]
		startup := j.Startup
		if seen && j.Again > 0 {
			startup = j.Again
		}
		switch {
		case a.Start < n.Joins+j.Startup-1e-9:
			return fmt.Errorf("%+v begins before its node has started up", a)
		case n.Leaves > 0 && a.End > n.Leaves+1e-9 && (n.Returns == 0 || a.Start < n.Returns+startup-1e-9):
			return fmt.Errorf("%+v, but its node is gone from %v to %v", a, n.Leaves, n.Returns)
		case seen && a.Start < before.End-1e-9:
			return fmt.Errorf("%+v begins before %+v has ended", a, before)
		case seen && a.Launch != before.Launch && a.Start < before.End+startup-1e-9:
			return fmt.Errorf("%+v has no time to start up after %+v", a, before)
		case seen && a.Launch == before.Launch && j.Spec.Mode == farm.ModeSingle:
			return fmt.Errorf("%+v and %+v are one launch", a, before)
		case seen && a.Launch == before.Launch && j.Spec.Mode == farm.ModeRange && a.Frame != before.Frame+1:
			return fmt.Errorf("%+v follows %+v in one launch", a, before)
		}
		if a.Result != simulate.Stopped {
			off := math.Log((a.End - a.Start) * n.Speed / j.Costs[a.Frame-1])
			if math.Abs(off) > 6*j.Noise+1e-6 {
				return fmt.Errorf("%+v takes exp(%.2f) times as long as it should", a, off)
			}
		}
		last[a.Node] = a
		switch a.Result {
		case simulate.Done:
			done[a.Frame]++
		case simulate.Failed:
			failed[a.Frame]++
		}
	}
	for frame := range j.Spec.Frames.All() {
		if done[frame] > 1 || done[frame] == 0 && failed[frame] < j.Spec.Tries {
			return fmt.Errorf("frame %d is done %d times and has failed %d times", frame, done[frame], failed[frame])
		}
	}
	return nil
}

func TestTheSameSeedGivesTheSameBytes(t *testing.T) {
	for _, class := range Classes() {
		for seed := range uint64(4) {
			var texts [2]string
			for i := range texts {
				r, err := Run(random(t, class, seed), nil, []Way{{Name: "equal", equal: true}}, nil)
				if err != nil {
					t.Fatal(err)
				}
				data, err := json.Marshal(r)
				if err != nil {
					t.Fatal(err)
				}
				texts[i] = string(data)
			}
			if texts[0] != texts[1] {
				t.Fatalf("class %s, seed %d: two plays of one farm differ", class, seed)
			}
		}
	}
}

// TestNothingDependsOnWhatIsNotYetKnown changes what is true of a farm but
// cannot have been seen yet: the costs of frames begun later than some time,
// and nodes that come or go later. What was begun by then must be the same.
func TestNothingDependsOnWhatIsNotYetKnown(t *testing.T) {
	for _, class := range Classes() {
		for seed := range uint64(25) {
			f := random(t, class, seed)
			r := played(t, f)
			at := r.Finish * float64(1+seed%8) / 9
			other := random(t, class, seed)
			begun := map[int]bool{}
			for _, a := range r.Attempts {
				if a.Start <= at {
					begun[a.Frame] = true
				}
			}
			for i := range other.Jobs[0].Costs {
				if !begun[i+1] {
					other.Jobs[0].Costs[i] *= 3
				}
			}
			for i := range other.Nodes {
				n := &other.Nodes[i]
				if n.Leaves > at {
					n.Leaves, n.Returns = 0, 0
				}
				if n.Joins > at {
					n.Speed, n.Known = 7, 5
				}
			}
			again := played(t, other)
			if a, b := until(r, at), until(again, at); !slices.Equal(a, b) {
				for i := range min(len(a), len(b)) {
					if a[i] != b[i] {
						t.Fatalf("class %s, seed %d: until %.1f s %+v becomes %+v", class, seed, at, a[i], b[i])
					}
				}
				t.Fatalf("class %s, seed %d: until %.1f s %d attempts become %d", class, seed, at, len(a), len(b))
			}
		}
	}
}

func until(r *simulate.Report, at float64) (out []simulate.Attempt) {
	for _, a := range r.Attempts {
		if a.End <= at {
			out = append(out, a)
		}
	}
	return out
}

// TestOneNodeMoreDoesNoHarm adds a node like the fastest to random farms.
func TestOneNodeMoreDoesNoHarm(t *testing.T) {
	later := 0
	for _, class := range []string{ClassFeed, ClassRange, ClassSingle} {
		for seed := range uint64(30) {
			f := random(t, class, seed)
			f.Jobs[0].Noise = 0
			alone := played(t, f)
			best := f.Nodes[0]
			for _, n := range f.Nodes {
				if n.Speed > best.Speed {
					best = n
				}
			}
			best.Name = "kiln-99"
			f.Nodes = append(f.Nodes, best)
			if more := played(t, f); more.Finish > alone.Finish+f.Jobs[0].Startup {
				later++
				t.Logf(
					"class %s, seed %d: %.1f s become %.1f s; a start-up takes %.1f s", class, seed, alone.Finish,
					more.Finish, f.Jobs[0].Startup,
				)
			}
		}
	}
	if later > 0 {
		t.Errorf("a node more made %d of 90 farms later by more than a start-up", later)
	}
}

// TestDecisionsHaveReasons looks that whatever was told has a sentence.
func TestDecisionsHaveReasons(t *testing.T) {
	for seed := range uint64(5) {
		r := played(t, random(t, ClassRange, seed))
		cuts := 0
		for _, x := range r.Told {
			if x.Reason == "" {
				t.Fatalf("seed %d: no reason at %v", seed, x.At)
			}
			cuts++
		}
		if cuts == 0 {
			t.Errorf("seed %d: nothing was told", seed)
		}
	}
}

func TestBoundsOfSmallFarms(t *testing.T) {
	job := func(mode farm.Mode, startup float64, costs ...float64) simulate.Job {
		return simulate.Job{
			Spec: farm.Spec{
				Job: "a", Mode: mode, Recipe: "practice",
				Frames: frames.Of(frames.Span{First: 1, Last: len(costs)}),
			},
			Startup: startup, Costs: costs,
		}
	}
	for _, c := range []struct {
		name  string
		job   simulate.Job
		nodes []simulate.Node
		want  float64
	}{
		{"one node", job(farm.ModeRange, 3, 1, 2, 3), []simulate.Node{{Speed: 2}}, 3 + 3},
		{"two alike", job(farm.ModeFeed, 2, 4, 4, 4, 4), []simulate.Node{{Speed: 1}, {Speed: 1}}, 2 + 8},
		{"the dearest frame", job(farm.ModeFeed, 0, 10, 1), []simulate.Node{{Speed: 1}, {Speed: 2}}, 5.5 - 1.0/6 - 1.0/3},
		{"one comes late", job(farm.ModeRange, 1, 5, 5), []simulate.Node{{Speed: 1}, {Speed: 1, Joins: 6}}, 9},
		{"single launches", job(farm.ModeSingle, 1, 3, 3, 3, 3), []simulate.Node{{Speed: 1}, {Speed: 1}}, 8},
		{"single launches at hand", func() simulate.Job {
			j := job(farm.ModeSingle, 3, 3, 3, 3, 3)
			j.Again = 1
			return j
		}(), []simulate.Node{{Speed: 1}, {Speed: 1}}, 3 + 3 + 1 + 3},
		{"whole", job(farm.ModeWhole, 1, 3, 3), []simulate.Node{{Speed: 1}, {Speed: 2, Joins: 1}}, 1 + 1 + 3},
	} {
		f := simulate.Farm{Nodes: c.nodes, Jobs: []simulate.Job{c.job}}
		if got := Bound(f, 0); math.Abs(got-c.want) > 1e-6 && c.name != "the dearest frame" {
			t.Errorf("%s: %v, want %v", c.name, got, c.want)
		} else if c.name == "the dearest frame" && math.Abs(got-5) > 1e-6 {
			t.Errorf("%s: %v, want 5: the dearest frame on the fastest node", c.name, got)
		}
	}
}

// TestFurtherLaunchesCostLess plays farms on which the first launch on a node
// takes long and further ones do not: where these are told apart, more of them
// are made, and all is done earlier.
func TestFurtherLaunchesCostLess(t *testing.T) {
	const farms = 24
	ratio, launches, dear := 0.0, 0, 0
	for seed := range uint64(farms) {
		f := random(t, ClassRange, seed)
		f.Jobs[0].Startup *= 3
		dear += played(t, f).Jobs[0].Launches
		f.Jobs[0].Again = 0.05 * f.Jobs[0].Startup
		r := played(t, f)
		ratio += r.Finish / Bound(f, 0) / farms
		launches += r.Jobs[0].Launches
	}
	if ratio > 1.04 || launches <= dear {
		t.Errorf("%.3f times the bound with %d launches, and %d where all take long", ratio, launches, dear)
	}
}

func TestWaysByHand(t *testing.T) {
	for text, ok := range map[string]bool{"equal": true, "claim": true, "fixed:5": true, "fixed:0": false, "fixed:x": false, "": false, "half": false} {
		if _, err := ParseWay(text); (err == nil) != ok {
			t.Errorf("%q: %v", text, err)
		}
	}
	f := random(t, ClassRange, 3)
	for _, way := range []string{"equal", "claim", "fixed:1", "fixed:20"} {
		w, _ := ParseWay(way)
		r, err := w.play(f, nil)
		if err != nil {
			t.Fatal(err)
		}
		g := f
		if w.claim {
			g.Jobs = slices.Clone(f.Jobs)
			g.Jobs[0].Spec.Mode = farm.ModeFeed
		}
		if err := possible(g, r); err != nil {
			t.Errorf("%s: %v", way, err)
		}
	}
}
