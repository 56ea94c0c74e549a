package forecast

import (
	"math/rand/v2"
	"runtime"
	"sync"
	"testing"

	"vexillum/internal/core/drill"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/play"
)

// forecasted plays a random farm, forecasts its finish in the middle, and
// returns what was said and what came true, in seconds from that moment.
func forecasted(t testing.TB, class string, seed uint64, plays int) (median, late, real float64, ok bool) {
	t.Helper()
	f, err := drill.Random(class, seed)
	if err != nil {
		t.Fatal(err)
	}
	r := rand.New(rand.NewPCG(seed, 99))
	at := drill.Bound(f, 0) * (0.1 + 0.7*r.Float64())
	var said Finish
	report, err := play.Play(f, play.Options{WatchAt: at, Watch: func(w play.Watched) {
		p := Take(w.State, w.Model, w.Sight, nil, w.Now)
		said = p.Play(seed, plays)[farm.RunID(1)]
	}})
	if err != nil {
		t.Fatal(err)
	}
	now := f.Start.Add(0).Add(secondsOf(at))
	return said.Median.Sub(now).Seconds(), said.Late.Sub(now).Seconds(), report.Finish - at, said.Known
}

// BenchmarkCalibration forecasts random farms in the middle of their work. Goal:
// the real finish lies below the 90 % time in 87 to 93 % of cases, and the
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
				median, late, real, ok := forecasted(b, class, seed, 16)
				mu.Lock()
				if ok {
					out.known++
					out.width += (late - median) / real
					if real <= late {
						out.below++
					}
					if real <= median {
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
