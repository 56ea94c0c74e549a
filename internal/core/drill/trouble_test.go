package drill

import (
	"errors"
	"math/rand/v2"
	"testing"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/simulate"
)

// TestAFailedFrameDoesNotWaitBehindLowerWork plays small farms that are busy with
// low work for long, and a few frames of a more urgent run of which some have
// failed on some of the nodes: the others render them as soon as they have
// finished a frame of the lower work.
func TestAFailedFrameDoesNotWaitBehindLowerWork(t *testing.T) {
	t.Parallel()
	modes := []farm.Mode{farm.ModeRange, farm.ModeSingle, farm.ModeFeed}
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 41))
		var speeds []float64
		for range 2 + r.IntN(5) {
			speeds = append(speeds, 0.3+2*r.Float64())
		}
		f := several(speeds...)
		f.Seed = seed
		low := 1 + r.IntN(2)
		lowCost, cost := 5+40*r.Float64(), 2+10*r.Float64()
		slowestLow, slowest := 0.0, 0.0
		for i := range low {
			f = with(
				f, []string{"low-0", "low-1"}[i], "tidal-room", modes[r.IntN(3)], 300, lowCost,
				func(j *simulate.Job) {
					j.Spec.Level = []farm.Level{farm.Low, farm.Filler, farm.Normal}[r.IntN(3)]
				},
			)
		}
		// The nodes on which a frame has failed: all but one at most.
		barred := r.Perm(len(speeds))[:1+r.IntN(len(speeds)-1)]
		f = with(f, "gannet_open", "gannet", modes[r.IntN(3)], 1+r.IntN(4), cost, func(j *simulate.Job) {
			j.Spec.Level, j.Submitted = []farm.Level{farm.High, farm.Urgent}[r.IntN(2)], 60
			j.Failed = map[int][]int{1 + r.IntN(len(j.Costs)): barred}
		})
		for _, s := range speeds {
			slowestLow, slowest = max(slowestLow, (lowCost+lowCost/2)/s), max(slowest, (cost+cost/2)/s)
		}
		report, err := simulate.Play(f, simulate.Options{})
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		high := report.Jobs[len(report.Jobs)-1]
		// A frame in flight of the lower work, then all of the higher, one after the
		// other, on the slowest node; and a little for asking.
		if took, most := high.Finish-60, 1.5*slowestLow+4*slowest+10; took > most || high.State != farm.RunDone {
			t.Errorf(
				"seed %d: %s after %.0f s, at most %.0f s are needed; nodes %v, failed on %v", seed, high.State, took,
				most, speeds, barred,
			)
		}
	}
}

// TestABrokenMachineSpoilsLittle plays small farms in which one machine fails
// everything, at once or late: no frame is parked for it, it is set aside, and
// until then it has failed few.
func TestABrokenMachineSpoilsLittle(t *testing.T) {
	t.Parallel()
	modes := []farm.Mode{farm.ModeRange, farm.ModeSingle, farm.ModeFeed}
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 43))
		var speeds []float64
		for range 2 + r.IntN(5) {
			speeds = append(speeds, 0.4+1.6*r.Float64())
		}
		f := several(speeds...)
		f.Seed = seed
		broken := r.IntN(len(speeds))
		f.Nodes[broken].Fails = 1
		if r.IntN(2) == 0 {
			f.Nodes[broken].FailsIn = 0.1
		}
		mode := modes[r.IntN(3)]
		f = with(f, "salt_010", "salt-clock", mode, 60, 10)
		report, err := simulate.Play(f, simulate.Options{Tell: true})
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		failed, twice := 0, map[int]int{}
		for _, a := range report.Attempts {
			if a.Result == simulate.Failed {
				failed++
				twice[a.Frame]++
				if twice[a.Frame] > 1 {
					t.Errorf("seed %d, %s: frame %d went back to the node where it had failed", seed, mode, a.Frame)
				}
			}
		}
		if report.Jobs[0].State != farm.RunDone {
			t.Errorf(
				"seed %d, %s: the run is %s for one broken node of %d", seed, mode, report.Jobs[0].State, len(speeds),
			)
		}
		if failed > 10 {
			t.Errorf("seed %d, %s: the broken node failed %d frames", seed, mode, failed)
		}
	}
}

// TestABrokenSceneStopsEarly plays a run all of whose frames fail everywhere.
func TestABrokenSceneStopsEarly(t *testing.T) {
	for _, mode := range []farm.Mode{farm.ModeRange, farm.ModeSingle, farm.ModeFeed} {
		for _, nodes := range [][]float64{{1}, {1, 1.5}, {1, 1, 2, 0.5, 1}} {
			f := with(several(nodes...), "salt_010", "salt-clock", mode, 500, 10, func(j *simulate.Job) {
				for frame := range 500 {
					j.Fails = append(j.Fails, frame+1)
				}
			})
			report, err := simulate.Play(f, simulate.Options{})
			if err != nil {
				t.Fatal(err)
			}
			if n := len(report.Attempts); report.Jobs[0].State != farm.RunHeld || n > 4*len(nodes)+4 {
				t.Errorf("%s on %d nodes: %s after %d tries", mode, len(nodes), report.Jobs[0].State, n)
			}
		}
	}
}

// TestABadStretchIsNobodysFault plays runs in which some frames fail everywhere:
// no node is set aside for them.
func TestABadStretchIsNobodysFault(t *testing.T) {
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 47))
		f := several(1, 0.7, 1.6, 1.1)
		f.Seed = seed
		first := 1 + r.IntN(80)
		f = with(f, "salt_010", "salt-clock", []farm.Mode{
			farm.ModeRange, farm.ModeSingle, farm.ModeFeed,
		}[r.IntN(3)], 100, 10, func(j *simulate.Job) {
			for i := range 10 {
				j.Fails = append(j.Fails, first+i)
			}
		})
		var state *farm.State
		_, err := simulate.Play(f, simulate.Options{WatchAt: 200, Watch: func(w simulate.Watched) { state = w.State }})
		if err != nil {
			t.Fatal(err)
		}
		for _, n := range state.Nodes {
			if n.Health != farm.Fine {
				t.Errorf("seed %d: %s is %s: %s", seed, n.Name, n.Health, n.HealthWhy)
			}
		}
		if run := state.Runs[1]; run.State != farm.RunGaps || run.Parked.Len() != 10 {
			t.Errorf("seed %d: the run is %s with %s parked", seed, run.State, run.Parked)
		}
	}
}

// TestNobodyWaitsForEachOther plays runs many of whose frames fail everywhere,
// on farms of few nodes: each node has soon failed frames that nobody else has
// tried, and none may wait for another because of it.
func TestNobodyWaitsForEachOther(t *testing.T) {
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 53))
		f := several([]float64{1, 0.8, 1.7}[:2+r.IntN(2)]...)
		f.Seed = seed
		frames := 8 + r.IntN(24)
		f = with(f, "salt_010", "salt-clock", []farm.Mode{
			farm.ModeRange, farm.ModeSingle, farm.ModeFeed,
		}[r.IntN(3)], frames, 1, func(j *simulate.Job) {
			for frame := 1; frame <= frames; frame++ {
				if r.Float64() < 0.6 {
					j.Fails = append(j.Fails, frame)
				}
			}
		})
		report, err := simulate.Play(f, simulate.Options{})
		if err != nil {
			t.Fatal(err)
		}
		j := f.Jobs[0]
		alone := 0.0 // as long as one slow node would take for all tries one by one
		for _, cost := range j.Costs {
			alone += 3 * (cost + j.Startup) / 0.8
		}
		// What has failed everywhere rests before its last try.
		if got := report.Jobs[0]; got.Finish > alone+20 {
			t.Errorf("seed %d: %s after %.0f s, %.0f s of work", seed, got.State, got.Finish, alone)
		}
	}
}

// TestADrillStopsWhenAsked ends a drill early, and the ways by hand beside it.
func TestADrillStopsWhenAsked(t *testing.T) {
	f := with(several(1, 1, 1), "salt_010", "salt-clock", farm.ModeSingle, 400, 10)
	asked := 0
	goOn := func() bool { asked++; return asked < 3 }
	if _, err := Run(
		f, nil, []Way{{Name: "claim", claim: true}}, goOn,
	); !errors.Is(err, simulate.ErrStopped) || asked != 3 {
		t.Errorf("after it was asked %d times: %v", asked, err)
	}
	if _, err := (Way{Name: "claim", claim: true}).play(f, func() bool { return false }); !errors.Is(
		err, simulate.ErrStopped,
	) {
		t.Errorf("by hand: %v", err)
	}
	if _, err := Many("range", 1, 1000, true, func() bool { return false }); !errors.Is(err, simulate.ErrStopped) {
		t.Errorf("many: %v", err)
	}
}
