package forecast

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"

	"vexillum/internal/core/drill"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/simulate"
	"vexillum/internal/core/span"
)

// forecasted plays a random farm, forecasts its finish in the middle, and
// returns what was said and what came true, in seconds from that moment.
func forecasted(t testing.TB, class string, seed uint64, plays int) (median, late, actual float64, ok bool) {
	t.Helper()
	f, err := drill.Random(class, seed)
	if err != nil {
		t.Fatal(err)
	}
	return forecastedFor(t, f, seed, plays)
}

func forecastedFor(t testing.TB, f simulate.Farm, seed uint64, plays int) (median, late, actual float64, ok bool) {
	t.Helper()
	r := rand.New(rand.NewPCG(seed, 99))
	at := drill.Bound(f, 0) * (0.1 + 0.7*r.Float64())
	var said Finish
	report, err := simulate.Play(f, simulate.Options{WatchAt: at, Watch: func(w simulate.Watched) {
		p := Take(w.State, w.Model, w.Sight, nil, w.Now)
		said = p.Play(seed, plays)[farm.RunID(1)]
	}})
	if err != nil {
		t.Fatal(err)
	}
	now := f.Start.Add(0).Add(span.Of(at))
	return said.Median.Sub(now).Seconds(), said.Late.Sub(now).Seconds(), report.Finish - at, said.Known
}

// BenchmarkCalibration forecasts random farms in the middle of their work. Goal:
// the actual finish lies below the 90 % time in 87 to 93 % of cases, and the
// range is no wider than needed.
func BenchmarkCalibration(b *testing.B) {
	for b.Loop() {
		const farms = 80 // of each class
		classes := []string{drill.ClassFeed, drill.ClassRange, drill.ClassSingle}
		all := calibration{}
		for _, class := range classes {
			one := calibrate(b, class, 9000, farms)
			b.ReportMetric(100*one.below/one.known, "%below90-"+class)
			b.ReportMetric(100*one.width/one.known, "%width-"+class)
			all.below, all.middle, all.known, all.width = all.below+one.below, all.middle+one.middle, all.known+one.known, all.width+one.width
		}
		b.ReportMetric(100*all.below/all.known, "%below90")
		b.ReportMetric(100*all.middle/all.known, "%belowmedian")
		b.ReportMetric(100*all.width/all.known, "%width")
		b.ReportMetric(all.known, "farms")
		b.ReportMetric(0, "ns/op")
	}
}

// calibration counts forecasts that came true.
type calibration struct{ known, below, middle, width float64 }

func calibrate(b testing.TB, class string, first uint64, farms int) (out calibration) {
	var mu sync.Mutex
	var wg sync.WaitGroup
	seeds := make(chan uint64)
	for range runtime.GOMAXPROCS(0) {
		wg.Go(func() {
			for seed := range seeds {
				median, late, actual, ok := forecasted(b, class, seed, 16)
				mu.Lock()
				if ok {
					out.known++
					out.width += (late - median) / actual
					if actual <= late {
						out.below++
					}
					if actual <= median {
						out.middle++
					}
				}
				mu.Unlock()
			}
		})
	}
	for seed := first; seed < first+uint64(farms); seed++ {
		seeds <- seed
	}
	close(seeds)
	wg.Wait()
	return out
}

// BenchmarkForecast measures what one forecast by sixteen plays costs, from the
// middle of a night of 20 nodes with six runs of 400 frames. The service
// makes new ones as often as a twentieth of a core allows.
func BenchmarkForecast(b *testing.B) {
	f, err := drill.Random(drill.ClassRange, 7)
	if err != nil {
		b.Fatal(err)
	}
	for i := range 20 {
		f.Nodes = append(
			f.Nodes[:i], simulate.Node{Name: fmt.Sprint("kiln-", i), Speed: 0.5 + 0.1*float64(i), Known: 1},
		)
	}
	f.Jobs = nil
	for i := range 6 {
		j := simulate.Job{
			Startup: 20, Noise: 0.08,
			Spec: farm.Spec{
				Job: fmt.Sprint("salt_", i), Project: []string{"salt-clock", "gannet"}[i%2], Kind: farm.Final,
				Recipe: "practice", Mode: []farm.Mode{farm.ModeRange, farm.ModeFeed, farm.ModeSingle}[i%3],
				Tries: 3, Frames: frames.Of(frames.Span{First: 1, Last: 400}),
			},
		}
		for k := range 400 {
			j.Costs = append(j.Costs, 10+float64(k)/20)
		}
		f.Jobs = append(f.Jobs, j)
	}
	var p *Position
	open := 0
	if _, err := simulate.Play(f, simulate.Options{Until: 900, WatchAt: 800, Watch: func(w simulate.Watched) {
		p, open = Take(w.State, w.Model, w.Sight, nil, w.Now), len(w.State.Queue())
	}}); err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		if known := p.Play(1, 16); len(known) != open || open < 4 {
			b.Fatalf("%d runs of %d are forecast", len(known), open)
		}
	}
	b.ReportMetric(b.Elapsed().Seconds()/float64(b.N), "s/forecast")
	b.ReportMetric(20*b.Elapsed().Seconds()/float64(b.N), "s-apart")
	b.ReportMetric(0, "ns/op")
}

// TestForecastsAreHonest forecasts a few random farms of each class: most end
// before the late time, about as many before the median as after it, and the
// range is a range.
func TestForecastsAreHonest(t *testing.T) {
	t.Parallel()
	below, middle, known := 0.0, 0.0, 0.0
	for _, class := range []string{drill.ClassFeed, drill.ClassRange} {
		one := calibrate(t, class, 700, 8)
		below, middle, known = below+one.below, middle+one.middle, known+one.known
		if one.width/one.known > 0.35 {
			t.Errorf("%s: the late time lies %.0f %% of the finish behind the median", class, 100*one.width/one.known)
		}
	}
	if known < 14 || below/known < 0.65 || middle/known < 0.2 || middle/known > 0.9 {
		t.Errorf("of %.0f forecasts %.0f ended before the late time and %.0f before the median", known, below, middle)
	}
}

// TestARunThatCannotEndHidesNoOther forecasts a farm with and without a run that no node can take
// and one that waits for it: of these it says what keeps them, and of the others the same.
func TestARunThatCannotEndHidesNoOther(t *testing.T) {
	t.Parallel()
	for _, class := range []string{drill.ClassFeed, drill.ClassRange, drill.ClassSingle} {
		f, err := drill.Random(class, 3)
		if err != nil {
			t.Fatal(err)
		}
		at, ours := drill.Bound(f, 0)/2, len(f.Jobs)
		forecasts := func(f simulate.Farm) (said map[farm.RunID]Finish) {
			t.Helper()
			if _, err := simulate.Play(f, simulate.Options{
				Until: at + 1, WatchAt: at, Watch: func(w simulate.Watched) {
					events := 0
					said, err = Take(w.State, w.Model, w.Sight, nil, w.Now).PlayWhile(
						1, 8, func() bool { return true }, func() bool { events += 64; return events < 1_000_000 },
					)
					if err != nil {
						t.Error(err)
					}
				},
			}); err != nil {
				t.Fatal(err)
			}
			return said
		}
		alone := forecasts(f)
		stuck := f.Jobs[0]
		stuck.Spec.Job, stuck.Spec.Takes = "too_large", farm.Amounts{Cores: 512}
		waits := f.Jobs[0]
		waits.Spec.Job, waits.After = "waits", []simulate.After{{Job: ours}}
		f.Jobs = append(f.Jobs, stuck, waits)
		with := forecasts(f)
		if !alone[1].Known || !with[1].Known || with[1].Median.Sub(alone[1].Median).Abs() > span.Of(at) {
			t.Errorf("%s: alone it is ready %v, beside one that cannot end %v", class, alone[1], with[1])
		}
		too, waiting := with[farm.RunID(ours+1)], with[farm.RunID(ours+2)]
		if !too.Never || !strings.Contains(too.Why, "512 cores") {
			t.Errorf("%s: of the run that no node can take it says %+v", class, too)
		}
		if !waiting.Never || !strings.Contains(waiting.Why, "too_large") {
			t.Errorf("%s: of the run that waits for it it says %+v", class, waiting)
		}
	}
}

// TestWhatHasToldNothingIsNotThereBefore forecasts a run that waits behind
// another and has told nothing: its finish is not known, but before when it is
// hardly there, and that comes true.
func TestWhatHasToldNothingIsNotThereBefore(t *testing.T) {
	t.Parallel()
	f, err := drill.Random(drill.ClassFeed, 3)
	if err != nil {
		t.Fatal(err)
	}
	next := f.Jobs[0]
	next.Spec.Job = "salt_020"
	next.Spec.Terms.Level = farm.Low
	f.Jobs = append(f.Jobs, next)
	at := drill.Bound(f, 0) / 2
	var said map[farm.RunID]Finish
	report, err := simulate.Play(f, simulate.Options{WatchAt: at, Watch: func(w simulate.Watched) {
		said = Take(w.State, w.Model, w.Sight, nil, w.Now).Play(1, 16)
	}})
	if err != nil {
		t.Fatal(err)
	}
	if !said[1].Known || !said[1].Early.IsZero() {
		t.Errorf("of the run that renders it says %+v", said[1])
	}
	early := said[2].Early.Sub(f.Start).Seconds()
	if said[2].Known || said[2].Early.IsZero() || early < report.Jobs[0].Finish || early > report.Jobs[1].Finish {
		t.Errorf(
			"the run that waits: %+v, which is after %.0f s; the one before it ends after %.0f s, it after %.0f s",
			said[2], early, report.Jobs[0].Finish, report.Jobs[1].Finish,
		)
	}
}

// TestForecastsOfLeasesSideBySide has leases that own two of eight cores each,
// or a graphics device, of nodes of which the farm may use six cores.
func TestForecastsOfLeasesSideBySide(t *testing.T) {
	const gib = 1 << 30
	for _, takes := range []farm.Amounts{{Cores: 2}, {Cores: 1, Devices: 1}, {Cores: 1, MemoryBytes: 6 * gib}} {
		var off []float64
		for seed := range uint64(9) {
			f, err := drill.Random(drill.ClassFeed, seed)
			if err != nil {
				t.Fatal(err)
			}
			for i := range f.Nodes {
				n := &f.Nodes[i]
				n.Cores, n.Memory, n.Devices, n.Caps = 8, 16*gib, []string{"0", "1"}, farm.Caps{Cores: 6}
			}
			f.Jobs[0].Spec.Takes = takes
			median, _, actual, ok := forecastedFor(t, f, seed, 8)
			if ok {
				off = append(off, (median-actual)/actual)
			}
		}
		slices.Sort(off)
		if len(off) < 8 || math.Abs(off[len(off)/2]) > 0.03 {
			t.Errorf("%v: %d forecasts are off by %.3f", takes, len(off), off)
		}
	}
}

// TestAVeryLongQueueIsForecastFromItsFront forecasts a farm of 1,200 runs: of those far behind it
// says so, and of those before as if they were not there.
func TestAVeryLongQueueIsForecastFromItsFront(t *testing.T) {
	t.Parallel()
	f, err := drill.Random(drill.ClassRange, 3)
	if err != nil {
		t.Fatal(err)
	}
	at := drill.Bound(f, 0) / 2
	if _, err := simulate.Play(f, simulate.Options{Until: at + 1, WatchAt: at, Watch: func(w simulate.Watched) {
		first := w.State.Queue()[0]
		for i := range 1200 {
			run := farm.RunSubmitted{
				Run: farm.RunID(1000 + i), Spec: first.Spec, State: farm.RunQueued,
				Order: first.Order + int64(i) + 1, At: w.Now,
			}
			run.Spec.Job = fmt.Sprint("behind_", i)
			w.State.PutRun(run.Opened(), "", "")
		}
		p := Take(w.State, w.Model, w.Sight, nil, w.Now)
		if len(p.jobs) > mostPlayed {
			t.Errorf("%d runs are played", len(p.jobs))
		}
		events := 0
		said, err := p.PlayWhile(
			1, 1, func() bool { return true }, func() bool { events++; return events < 20 },
		)
		if err != nil && !errors.Is(err, simulate.ErrStopped) {
			t.Error(err)
		}
		if last := said[farm.RunID(1000+1199)]; last.Known || last.Never || last.Why != tooFarBehind {
			t.Errorf("of the last it says %+v", last)
		}
		if said[first.ID].Why == tooFarBehind {
			t.Error("the first is taken for the last")
		}
	}}); err != nil {
		t.Fatal(err)
	}
}
