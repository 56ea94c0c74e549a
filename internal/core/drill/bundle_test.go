package drill

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/simulate"
)

// bundled is a farm of a dozen nodes, of which the first two have the bundle of a job.
func bundled(mode farm.Mode, count int, seconds float64) simulate.Farm {
	f := simulate.Farm{Seed: 3}
	for i := range 12 {
		f.Nodes = append(f.Nodes, simulate.Node{
			Name: fmt.Sprintf("kiln-%02d", i+1), Speed: 1, Known: 1, Fetches: (1 << 30) / seconds,
		})
	}
	costs := make([]float64, count)
	for i := range costs {
		costs[i] = 10
	}
	f.Jobs = []simulate.Job{{
		Spec: farm.Spec{
			Job: "salt_010", Kind: farm.Final, Recipe: string(mode), Mode: mode, Tries: 3, Bundle: "a",
			BundleBytes: 1 << 30,
			Frames:      frames.Of(frames.Span{First: 1, Last: count}),
		},
		Startup: 2, Costs: costs, Has: []int{0, 1},
	}}
	return f
}

// TestASmallJobStaysWhereItsFilesAre has a job that two nodes finish before others
// have got its files, and one for which it is worth to get them.
func TestASmallJobStaysWhereItsFilesAre(t *testing.T) {
	for _, mode := range []farm.Mode{farm.ModeRange, farm.ModeFeed, farm.ModeSingle} {
		small := bundled(mode, 24, 300)
		report := played(t, small)
		for _, a := range report.Attempts {
			if a.Node != "kiln-01" && a.Node != "kiln-02" {
				t.Fatalf("%s: %s rendered frame %d, and has to get 300 s of files first", mode, a.Node, a.Frame)
			}
		}
		if bound := Bound(small, 0); report.Finish > 1.25*bound {
			t.Errorf("%s: it ends after %.0f s, the bound is %.0f s", mode, report.Finish, bound)
		}
		large := bundled(mode, 600, 30)
		report = played(t, large)
		on := map[string]bool{}
		for _, a := range report.Attempts {
			on[a.Node] = true
		}
		if bound := Bound(large, 0); len(on) != 12 || report.Finish > 1.25*bound {
			t.Errorf("%s: on %d nodes, it ends after %.0f s, the bound is %.0f s", mode, len(on), report.Finish, bound)
		}
	}
}

// TestFarmsThatHaveToFetch plays random farms with files to get: nothing begins before
// they are there, and no farm ends much later than it has to.
func TestFarmsThatHaveToFetch(t *testing.T) {
	for _, class := range []string{"range", "feed", "single"} {
		sum, count := 0.0, 0
		for seed := range uint64(40) {
			f := random(t, class, seed)
			r := rand.New(rand.NewPCG(seed, 7))
			j := &f.Jobs[0]
			j.Spec.Bundle, j.Spec.BundleBytes = "a", 1<<30
			alone := 0.0
			for _, c := range j.Costs {
				alone += c
			}
			for i := range f.Nodes { // from nothing to as long as the whole farm needs
				f.Nodes[i].Fetches = float64(int(1<<30)*len(f.Nodes)) / (alone * (0.01 + r.Float64()))
				if r.IntN(3) == 0 {
					j.Has = append(j.Has, i)
				}
			}
			report := played(t, f)
			begins := map[string]float64{}
			for i := range f.Nodes {
				begins[f.Nodes[i].Name] = f.Nodes[i].Joins + j.Fetch(i, &f.Nodes[i]).Seconds + j.Startup
			}
			for _, a := range report.Attempts {
				if a.Start < begins[a.Node]-1e-6 {
					t.Fatalf(
						"%s, seed %d: %s begins at %.1f s, before its files are there", class, seed, a.Node, a.Start,
					)
				}
			}
			ratio := report.Finish / Bound(f, 0)
			if ratio > 1.6 {
				t.Errorf("%s, seed %d: %.2f times the bound", class, seed, ratio)
			}
			sum, count = sum+ratio, count+1
		}
		t.Logf("%s: %.3f times the bound in the mean", class, sum/float64(count))
		if sum/float64(count) > 1.15 {
			t.Errorf("%s: %.3f times the bound in the mean", class, sum/float64(count))
		}
	}
}
