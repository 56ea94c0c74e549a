package drill

import (
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/simulate"
)

// Classes of random farms.
const (
	ClassFeed   = "feed"
	ClassRange  = "range"
	ClassSingle = "single"
	ClassRough  = "rough"
)

// Classes lists them.
func Classes() []string { return []string{ClassFeed, ClassRange, ClassSingle, ClassRough} }

// Random draws a farm of a class with one job. The seed alone decides:
//
//   - 3 to 20 nodes; speeds log-uniform over a factor of 1.5 to 12 between the
//     slowest and the fastest;
//   - claimed speeds: right in half of the farms, off by a lognormal factor of
//     spread 0.1 to 0.35 in the others;
//   - 20 to 120 frames for each node;
//   - costs along the range: even, a slope of 2 to 8 times, a hill, a valley,
//     two to five steps, or a random walk; single frames spread by 0 to 0.12;
//   - a start-up of 0.5 to 10 % of a node's share of the whole.
//
// The classes feed, range and single are named after the mode of the job. In
// the class rough it is feed or range, up to a third of the nodes join within
// the first half of what the farm would need, up to a third leave for a while
// or for good, one node in six spoils up to a quarter of its frames, and up to
// three frames fail wherever they run.
func Random(class string, seed uint64) (simulate.Farm, error) {
	mode := farm.Mode(class)
	switch class {
	case ClassFeed, ClassRange, ClassSingle:
	case ClassRough:
		mode = []farm.Mode{farm.ModeFeed, farm.ModeRange}[seed%2]
	default:
		return simulate.Farm{}, fmt.Errorf(
			"there is no class %q of random farms: use one of %s", class, strings.Join(Classes(), ", "),
		)
	}
	r := rand.New(rand.NewPCG(seed, 0x5eed))
	between := func(low, high float64) float64 { return low + (high-low)*r.Float64() }
	nodes := 3 + r.IntN(18)
	ratio := between(1.5, 12)
	f := simulate.Farm{Seed: seed, Start: time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)}
	off := 0.0
	if r.IntN(2) == 0 {
		off = between(0.1, 0.35)
	}
	power := 0.0
	for i := range nodes {
		speed := 0.5 * math.Pow(ratio, r.Float64())
		f.Nodes = append(
			f.Nodes,
			simulate.Node{
				Name: fmt.Sprintf("kiln-%02d", i+1), Speed: speed, Known: speed * math.Exp(off*r.NormFloat64()),
			},
		)
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
	spec := farm.Spec{
		Job: "salt_010", Project: "salt-clock", Kind: farm.Final, Recipe: string(mode), Mode: mode, Tries: 3,
		Frames: frames.Of(frames.Span{First: 1, Last: count}),
	}
	f.Jobs = []simulate.Job{{Spec: spec, Startup: share * between(0.005, 0.1), Costs: costs, Noise: between(0, 0.12)}}
	if class == ClassRough {
		roughen(r, &f, share)
	}
	return f, nil
}

// roughen lets nodes come late, leave and fail.
func roughen(r *rand.Rand, f *simulate.Farm, share float64) {
	for range r.IntN(1 + len(f.Nodes)/3) {
		f.Nodes[r.IntN(len(f.Nodes))].Joins = share / 2 * r.Float64()
	}
	for range r.IntN(1 + len(f.Nodes)/3) {
		n := &f.Nodes[r.IntN(len(f.Nodes)-1)] // the last one stays
		n.Leaves = n.Joins + share*(0.1+r.Float64())
		if r.IntN(2) == 0 {
			n.Returns = n.Leaves + share*r.Float64()
		}
	}
	for i := range f.Nodes {
		if r.IntN(6) == 0 {
			f.Nodes[i].Fails = 0.25 * r.Float64()
		}
	}
	for range r.IntN(4) {
		f.Jobs[0].Fails = append(f.Jobs[0].Fails, 1+r.IntN(f.Jobs[0].Spec.Frames.Len()))
	}
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
