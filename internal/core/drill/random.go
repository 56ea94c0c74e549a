package drill

import (
	"fmt"
	"math"
	"math/rand/v2"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/play"
)

// Random draws a farm for one job in the given mode. What is drawn, each by
// the seed alone:
//
//   - 3 to 20 nodes; speeds log-uniform over a factor of 1.5 to 12 between the
//     slowest and the fastest;
//   - claimed speeds: right in half of the farms, off by a lognormal factor of
//     spread 0.1 to 0.35 in the others;
//   - in one farm of four up to a third of the nodes join late, within the
//     first half of what the farm would need;
//   - 12 to 60 frames for each node;
//   - costs along the range: even, a slope of 2 to 8 times, a hill, a valley,
//     two to five steps, or a random walk, with a spread of single frames of 0
//     to 0.12 by noise;
//   - a start-up of 0.5 to 10 % of a node's share of the whole.
func Random(mode farm.Mode, rough bool, seed uint64) play.Farm {
	r := rand.New(rand.NewPCG(seed, 0x5eed))
	between := func(low, high float64) float64 { return low + (high-low)*r.Float64() }
	nodes := 3 + r.IntN(18)
	ratio := between(1.5, 12)
	f := play.Farm{Seed: seed, Start: time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)}
	off := 0.0
	if r.IntN(2) == 0 {
		off = between(0.1, 0.35)
	}
	power := 0.0
	for i := range nodes {
		speed := 0.5 * math.Pow(ratio, r.Float64())
		f.Nodes = append(f.Nodes, play.Node{Name: fmt.Sprintf("kiln-%02d", i+1), Speed: speed, Known: speed * math.Exp(off*r.NormFloat64())})
		power += speed
	}
	count := nodes * (20 + r.IntN(101))
	costs := hills(r, count)
	sum := 0.0
	scale := between(2, 60)
	for i := range costs {
		costs[i] *= scale
		sum += costs[i]
	}
	share := sum / power
	if late := r.IntN(4) == 0; late && rough {
		for range 1 + r.IntN(max(1, nodes/3)) {
			f.Nodes[r.IntN(nodes)].Joins = between(0, share/2)
		}
	}
	spec := farm.Spec{
		Job: "salt_010", Project: "salt-clock", Kind: farm.Final, Recipe: "practice", Mode: mode, Tries: 3,
		Frames: frames.Of(frames.Span{First: 1, Last: count}),
	}
	f.Jobs = []play.Job{{Spec: spec, Startup: share * between(0.005, 0.1), Costs: costs, Noise: between(0, 0.12)}}
	return f
}

// hills draws what frames cost along a range, about 1 on average.
func hills(r *rand.Rand, count int) []float64 {
	out := make([]float64, count)
	kind, high := r.IntN(6), 2+6*r.Float64()
	middle, width := r.Float64(), 0.05+0.3*r.Float64()
	steps := 2 + r.IntN(4)
	var borders, levels [6]float64
	for i := range steps {
		borders[i], levels[i] = r.Float64(), math.Exp(0.7*r.NormFloat64())
	}
	level := 0.0
	for i := range out {
		x := float64(i) / float64(count)
		switch kind {
		case 0:
			out[i] = 1
		case 1:
			out[i] = 1 + (high-1)*x
			if steps%2 == 0 {
				out[i] = 1 + (high-1)*(1-x)
			}
		case 2:
			out[i] = 1 + (high-1)*math.Exp(-(x-middle)*(x-middle)/2/width/width)
		case 3:
			out[i] = high - (high-1)*math.Exp(-(x-middle)*(x-middle)/2/width/width)
		case 4:
			out[i] = 1
			for k := range steps {
				if x > borders[k] {
					out[i] *= levels[k]
				}
			}
		default:
			level += 1.5 / math.Sqrt(float64(count)) * r.NormFloat64()
			out[i] = math.Exp(level)
		}
	}
	sum := 0.0
	for _, c := range out {
		sum += c
	}
	for i := range out {
		out[i] *= float64(count) / sum
	}
	return out
}
