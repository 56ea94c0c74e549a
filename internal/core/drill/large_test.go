package drill

import (
	"fmt"
	"runtime"
	"testing"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/simulate"
)

// large is a farm of that many unlike nodes with one job.
func large(mode farm.Mode, nodes, count int) simulate.Farm {
	f := simulate.Farm{Seed: 1, Start: time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)}
	for i := range nodes {
		speed := 0.5 + float64(i%37)/10
		f.Nodes = append(f.Nodes, simulate.Node{Name: fmt.Sprintf("kiln-%04d", i+1), Speed: speed, Known: speed})
	}
	costs := make([]float64, count)
	for i := range costs {
		costs[i] = 20 + float64(i%count)/float64(count)*40
	}
	f.Jobs = []simulate.Job{
		{
			Spec: farm.Spec{
				Job: "tidal_ceiling", Project: "tidal-room", Kind: farm.Final, Recipe: "practice",
				Mode: mode, Tries: 3, Frames: frames.Of(frames.Span{First: 1, Last: count}),
			},
			Startup: 60, Costs: costs, Noise: 0.08,
		},
	}
	return f
}

// BenchmarkLarge plays 1,000 nodes and 1,000,000 frames. Goal: 60 s and 1 GiB.
func BenchmarkLarge(b *testing.B) {
	for _, mode := range []farm.Mode{farm.ModeRange, farm.ModeFeed} {
		b.Run(string(mode), func(b *testing.B) {
			f := large(mode, 1000, 1_000_000)
			for b.Loop() {
				r, err := simulate.Play(f, simulate.Options{})
				if err != nil {
					b.Fatal(err)
				}
				b.ReportMetric(r.Finish/Bound(f, 0), "ratio")
			}
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			b.ReportMetric(float64(m.Sys)/(1<<20), "MiB")
		})
	}
}
