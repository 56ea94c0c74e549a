package drill

import (
	"fmt"
	"slices"
	"testing"

	"vexillum/internal/core/simulate"
)

// farmsAClass is how many random farms of a class are played for a figure.
const farmsAClass = 96

// BenchmarkRatio prints how far the finish of random farms lies above what any
// schedule needs. Goals: feed 1.02 on average and 1.06 for nine of ten, range
// 1.07 and 1.17; rehearsed feed 1.02 and 1.05, range 1.05 and 1.12; none above
// 1.4.
func BenchmarkRatio(b *testing.B) {
	for _, class := range Classes() {
		for _, rehearsed := range []bool{false, true} {
			b.Run(fmt.Sprintf("%s/rehearsed=%v", class, rehearsed), func(b *testing.B) {
				var s Spread
				for b.Loop() {
					var err error
					if s, err = Many(class, 1000, farmsAClass, rehearsed, nil); err != nil {
						b.Fatal(err)
					}
				}
				b.ReportMetric(0, "ns/op")
				b.ReportMetric(s.Mean, "mean")
				b.ReportMetric(s.P90, "p90")
				b.ReportMetric(s.Worst, "worst")
			})
		}
	}
}

// BenchmarkByHand prints the finish against ways of splitting by hand. Goals:
// range ahead of the best of equal shares and fixed chunks on every farm; feed
// 0.95 of one frame at a time by renderers that stay up, on average.
func BenchmarkByHand(b *testing.B) {
	for class, ways := range map[string][]string{ClassRange: {"equal", "fixed:1", "fixed:5", "fixed:20"}, ClassFeed: {"claim"}} {
		b.Run(class, func(b *testing.B) {
			var ratios []float64
			behind := 0
			for b.Loop() {
				ratios, behind = nil, 0
				for seed := range uint64(farmsAClass) {
					f, err := Random(class, 1000+seed)
					if err != nil {
						b.Fatal(err)
					}
					ours, err := simulate.Play(f, simulate.Options{})
					if err != nil {
						b.Fatal(err)
					}
					best := 0.0
					for _, text := range ways {
						w, _ := ParseWay(text)
						theirs, err := w.play(f, nil)
						if err != nil {
							b.Fatal(err)
						}
						if best == 0 || theirs.Finish < best {
							best = theirs.Finish
						}
					}
					ratios = append(ratios, ours.Finish/best)
					if ours.Finish >= best {
						behind++
					}
				}
			}
			sum := 0.0
			for _, r := range ratios {
				sum += r
			}
			b.ReportMetric(0, "ns/op")
			b.ReportMetric(sum/float64(len(ratios)), "ours/theirs")
			b.ReportMetric(slices.Max(ratios), "worst")
			b.ReportMetric(float64(behind), "farms-behind")
		})
	}
}
