package drill

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"vexillum/internal/core/blame"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/simulate"
)

// faultyFarms is how many farms with hidden faults are played for a figure.
const faultyFarms = 320

// BenchmarkBlame prints how well hidden faults are found out and contained. Goals: right
// of 97 % of cases; nodes sidelined wrongly 0.5 %, for surroundings none; frames lost none;
// tries of a wrong run of 10,000 frames 12; wasted 1.3 of what who knows the truth must
// waste; finish 1.05 of the farm without its faulty nodes.
func BenchmarkBlame(b *testing.B) {
	var s Blamed
	for b.Loop() {
		var err error
		if s, err = Blame(5000, faultyFarms); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(0, "ns/op")
	b.ReportMetric(100*float64(s.Told)/float64(s.Cases), "%right")
	b.ReportMetric(float64(s.Cases), "cases")
	b.ReportMetric(100*float64(s.Right)/float64(s.Tries), "%tries-right")
	b.ReportMetric(100*float64(s.Wrongly)/float64(s.Nodes), "%wrongly")
	b.ReportMetric(float64(s.Surrounded), "surrounded")
	b.ReportMetric(float64(s.Lost), "lost")
	b.ReportMetric(float64(s.WrongTries), "wrong-tries")
	b.ReportMetric(s.Wasted/s.Bound, "wasted")
	mean := 0.0
	for _, x := range s.Slower {
		mean += x / float64(len(s.Slower))
	}
	b.ReportMetric(mean, "slower")
	b.ReportMetric(slices.Max(s.Slower), "slowest")
	var lines []string // one line: longer logs of benchmarks are cut off
	for _, what := range slices.Sorted(maps.Keys(s.Over)) {
		lines = append(lines, fmt.Sprintf("%.2f wasted beyond need: %s", s.Over[what]/s.Bound, what))
	}
	for _, what := range slices.Sorted(maps.Keys(s.Missed)) {
		lines = append(lines, fmt.Sprintf("%d missed: %s", s.Missed[what], what))
	}
	b.Log(strings.Join(lines, "; "))
}

// TestHiddenFaultsAreFoundAndContained plays a few of the farms of the benchmark, with the
// bounds that they have to keep each by itself.
func TestHiddenFaultsAreFoundAndContained(t *testing.T) {
	t.Parallel()
	s, err := Blame(7000, 40)
	if err != nil {
		t.Fatal(err)
	}
	if s.Cases < 40 || s.Told*100 < s.Cases*90 {
		t.Errorf("of %d faults %d were told: %v", s.Cases, s.Told, s.Missed)
	}
	if s.Lost > 0 || s.Surrounded > 0 || s.Wrongly > 1 {
		t.Errorf(
			"%d frames are lost, %d nodes were sidelined wrongly, %d of them for surroundings",
			s.Lost,
			s.Wrongly,
			s.Surrounded,
		)
	}
	if s.WrongTries > 20 || s.WrongTries == 0 {
		t.Errorf("a wrong run had %d tries", s.WrongTries)
	}
}

// TestANodeIsTriedAndReleased: a node that fails all for a while is set aside, tried again
// after a pause that grows, and works again once it is mended.
func TestANodeIsTriedAndReleased(t *testing.T) {
	f := several(1, 1, 1, 1)
	f.Nodes[2].Fails, f.Nodes[2].Mended = 1, 1500
	f = with(f, "salt_010", "salt-clock", farm.ModeSingle, 600, 20)
	report, err := simulate.Play(f, simulate.Options{Tell: true})
	if err != nil {
		t.Fatal(err)
	}
	var aside, trials []float64
	back := 0.0
	for _, told := range report.Told {
		switch {
		case told.Node != f.Nodes[2].Name:
		case strings.Contains(told.Reason, "its trial went well"):
			back = told.At
		case strings.Contains(told.Reason, "failed too"):
			trials = append(trials, told.At)
		case strings.Contains(told.Reason, "at fault"):
			aside = append(aside, told.At)
		}
	}
	if len(aside) != 1 || len(trials) != 1 || back < 1500 {
		t.Fatalf("set aside at %v, tried in vain at %v, back at %v", aside, trials, back)
	}
	if first, second := trials[0]-aside[0], back-trials[0]; second < 1.5*first {
		t.Errorf("the first pause is %.0f s, and the second %.0f s", first, second)
	}
	after := 0
	for _, a := range report.Attempts {
		if a.Node == f.Nodes[2].Name && a.Start > back && a.Result == simulate.Done {
			after++
		}
	}
	if after < 20 || report.Jobs[0].State != farm.RunDone {
		t.Errorf("after that it has done %d frames, and the run is %s", after, report.Jobs[0].State)
	}
}

// TestAPlaceThatGoesCostsNobodyATry: while a place is gone, one frame at a time tries
// whether it is back; nobody is set aside and no frame is parked.
func TestAPlaceThatGoesCostsNobodyATry(t *testing.T) {
	for _, mode := range []farm.Mode{farm.ModeRange, farm.ModeSingle, farm.ModeFeed} {
		f := several(1, 1.3, 0.7, 1, 1)
		f.Places = []farm.Place{{Name: "scenes"}, {Name: "frames"}}
		f.Projects = []farm.Project{{Name: "salt-clock", Weight: 1, Scenes: "scenes", Frames: "frames"}}
		gone := farm.Surrounding{Kind: farm.SurroundingPlace, Name: "frames"}
		f.Outages = []simulate.Outage{{Of: gone, From: 100, To: 900, Cause: blame.PlaceGone}}
		f = with(f, "salt_010", "salt-clock", mode, 300, 10)
		report, err := simulate.Play(f, simulate.Options{})
		if err != nil {
			t.Fatal(err)
		}
		failed := len(report.Failures)
		if report.Jobs[0].State != farm.RunDone || len(report.Sidelined) > 0 || failed > 20 {
			t.Errorf("%s: %s, %v sidelined, %d tries failed", mode, report.Jobs[0].State, report.Sidelined, failed)
		}
		if late := report.Finish; late > 2200 {
			t.Errorf("%s: it took until %.0f s", mode, late)
		}
	}
}

// TestABrokenScoutDoesNotTryForEver plays farms in which a run is wrong, its place may as
// well be gone, and a node that fails everything tries whether it is back.
func TestABrokenScoutDoesNotTryForEver(t *testing.T) {
	for _, seed := range []uint64{9084, 9261} {
		f, faults := Faulty(seed)
		report, err := simulate.Play(f, simulate.Options{Until: 4 * 3600})
		if err != nil {
			t.Fatal(err)
		}
		for _, x := range faults {
			if x.Kind != blame.Run {
				continue
			}
			tries := triesOf(report, f.Jobs[x.Job].Spec.Job)
			if got := report.Jobs[x.Job].State; got != farm.RunHeld || tries > 30 {
				t.Errorf("seed %d: after %d tries the wrong run is %s", seed, tries, got)
			}
		}
	}
}

// TestWhatAPlaceHasSpoiltIsTriedAgain plays a farm on which a frame fails twice for a place
// that goes and once on an ill node: in the end that is known, and the frame is not lost.
func TestWhatAPlaceHasSpoiltIsTriedAgain(t *testing.T) {
	s, err := Blame(5234, 1)
	if err != nil {
		t.Fatal(err)
	}
	if s.Lost > 0 {
		t.Errorf("%d frames are lost", s.Lost)
	}
}

// TestFarmsThatWentWrongBefore plays farms again on which something was lost, set aside or
// tried too often once.
func TestFarmsThatWentWrongBefore(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		seed uint64
		what string
	}{
		{9113, "nodes were set aside for a licence that was gone, which renderers that stayed up tried each second"},
		{12231, "a frame too heavy for small nodes used up its tries on them after chance had spoilt one on a large " +
			"one"},
		{12151, "a wrong run was tried 16 times on two nodes while a third was still at it"},
		{9095, "a wrong run was tried 13 times"},
	} {
		b, err := Blame(c.seed, 1)
		if err != nil {
			t.Fatal(err)
		}
		if b.Lost > 0 || b.Surrounded > 0 || b.WrongTries > 13 {
			t.Errorf(
				"seed %d (%s): %d frames lost, %d nodes set aside for surroundings, %d tries of a wrong run",
				c.seed,
				c.what,
				b.Lost,
				b.Surrounded,
				b.WrongTries,
			)
		}
	}
}

// TestAWrongRunStopsNobodyElse plays small farms with one or two runs that do not find their
// files, and another from the same place that comes in while these are tried: it does not wait
// for that.
func TestAWrongRunStopsNobodyElse(t *testing.T) {
	t.Parallel()
	modes := []farm.Mode{farm.ModeRange, farm.ModeSingle, farm.ModeFeed}
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 47))
		var speeds []float64
		for range 3 + r.IntN(5) {
			speeds = append(speeds, 0.4+1.6*r.Float64())
		}
		f := several(speeds...)
		f.Seed = seed
		f.Places = []farm.Place{placed("scenes"), placed("frames")}
		for _, name := range []string{"salt-clock", "gannet"} {
			f.Projects = append(f.Projects, farm.Project{Name: name, Weight: 1, Scenes: "scenes", Frames: "frames"})
		}
		cost := 60 + 60*r.Float64()
		alone := with(f, "salt_010", "salt-clock", modes[r.IntN(3)], 2*len(speeds), cost, func(j *simulate.Job) {
			j.Startup, j.Submitted = 1, 20
		})
		both, wrong := alone, []string{"gannet_open", "gannet_end"}[:1+r.IntN(2)]
		for _, name := range wrong {
			both = with(both, name, "gannet", modes[r.IntN(3)], 400, cost, func(j *simulate.Job) {
				j.Wrong, j.FailsCause, j.FailsIn, j.Startup = true, blame.MissingFile, 0.5, 1
				j.Spec.Level = []farm.Level{farm.Normal, farm.High}[r.IntN(2)]
			})
		}
		without, err := simulate.Play(alone, simulate.Options{})
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		report, err := simulate.Play(both, simulate.Options{Tell: true})
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		most := without.Jobs[0].Finish*1.1 + 30
		if took := report.Jobs[0].Finish; took > most || report.Jobs[0].State != farm.RunDone {
			t.Errorf(
				"seed %d: the other is %s after %.0f s, %.0f s alone; %d are wrong, nodes %v",
				seed,
				report.Jobs[0].State,
				took,
				without.Jobs[0].Finish,
				len(wrong),
				speeds,
			)
		}
		for _, name := range wrong {
			if tries := triesOf(report, name); tries > 14 {
				t.Errorf("seed %d: %s of %d was tried %d times, nodes %v", seed, name, len(wrong), tries, speeds)
			}
		}
	}
}
