package drill

import (
	"fmt"
	"os"
	"slices"
	"testing"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/pace"
	"vexillum/internal/core/play"
)

// BenchmarkRatio prints how far the finish of random farms lies above what any
// schedule needs.
func BenchmarkRatio(b *testing.B) {
	for _, mode := range []farm.Mode{farm.ModeFeed, farm.ModeRange, farm.ModeSingle} {
		for _, history := range []bool{false, true} {
			b.Run(fmt.Sprintf("%s/history=%v", mode, history), func(b *testing.B) {
				var ratios []float64
				launches, worst := 0.0, uint64(0)
				for b.Loop() {
					ratios = nil
					launches = 0
					for seed := range uint64(96) {
						f := Random(mode, 1000+seed)
						m := pace.New()
						if history {
							if _, err := play.Play(f, play.Options{Model: m}); err != nil {
								b.Fatal(err)
							}
							f.Seed += 1 << 32
						}
						r, err := play.Play(f, play.Options{Model: m})
						if err != nil {
							b.Fatalf("seed %d: %v", seed, err)
						}
						ratio := r.Finish / Bound(f, 0)
						if len(ratios) == 0 || ratio > slices.Max(ratios) {
							worst = 1000 + seed
						}
						ratios = append(ratios, ratio)
						launches += float64(r.Jobs[0].Launches) / float64(len(f.Nodes)) / 96
						if os.Getenv("EACH") != "" {
							fmt.Printf("%d %.3f nodes %d frames %d startup %.1f bound %.1f launches %d noise %.2f\n", 1000+seed, ratio, len(f.Nodes), len(f.Jobs[0].Costs), f.Jobs[0].Startup, Bound(f, 0), r.Jobs[0].Launches, f.Jobs[0].Noise)
						}
					}
				}
				slices.Sort(ratios)
				sum := 0.0
				for _, r := range ratios {
					sum += r
				}
				b.ReportMetric(0, "ns/op")
				b.ReportMetric(sum/float64(len(ratios)), "mean")
				b.ReportMetric(ratios[len(ratios)*9/10], "p90")
				b.ReportMetric(ratios[len(ratios)-1], "worst")
				b.ReportMetric(launches, "launches/node")
				b.ReportMetric(float64(worst), "worst-seed")
			})
		}
	}
}
