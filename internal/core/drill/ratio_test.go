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
				sumIdle, sumStarts := 0.0, 0.0
				for b.Loop() {
					ratios = nil
					launches, sumIdle, sumStarts = 0, 0, 0
					for seed := range uint64(192) {
						f := Random(mode, false, 1000+seed)
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
						launches += float64(r.Jobs[0].Launches) / float64(len(f.Nodes)) / 192
						power, idle, starts, failed := 0.0, 0.0, 0.0, 0.0
						perNode := map[string]map[int]bool{}
						for _, a := range r.Attempts {
							if perNode[a.Node] == nil {
								perNode[a.Node] = map[int]bool{}
							}
							perNode[a.Node][a.Launch] = true
						}
						for i, n := range f.Nodes {
							power += n.Speed * r.Present[i]
							idle += n.Speed * (r.Present[i] - r.Busy[i])
							starts += n.Speed * f.Jobs[0].Startup * max(0, float64(len(perNode[n.Name])-1))
						}
						sumIdle += idle / power / 192
						sumStarts += starts / power / 192
						_ = failed
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
				b.ReportMetric(sumIdle, "idle")
				b.ReportMetric(sumStarts, "extra-starts")
				b.ReportMetric(float64(worst), "worst-seed")
			})
		}
	}
}
