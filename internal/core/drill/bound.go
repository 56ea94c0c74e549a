package drill

import (
	"math"
	"slices"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/simulate"
)

// Bound returns the least number of seconds from the begin at which a job
// could be done if it were alone on the farm and everything were known: no
// schedule can be earlier. Only nodes that could take it count; those that leave
// or have duty hours count as if they stayed, and no frame fails.
func Bound(f simulate.Farm, job int) float64 {
	j := f.Jobs[job]
	f.Nodes = eligible(f, j)
	if len(f.Nodes) == 0 {
		return math.Inf(1)
	}
	sum, dearest := 0.0, 0.0
	for _, c := range j.Costs {
		sum += c
		dearest = max(dearest, c)
	}
	switch j.Spec.Mode {
	case farm.ModeSingle:
		return singleBound(f, j)
	case farm.ModeWhole:
		least := math.Inf(1)
		for _, n := range f.Nodes {
			least = min(least, max(j.Submitted, n.Joins)+j.Startup+sum/n.Speed)
		}
		return least
	}
	one := math.Inf(1) // the dearest frame on the node that has it done first
	for _, n := range f.Nodes {
		one = min(one, max(j.Submitted, n.Joins)+j.Startup+dearest/n.Speed)
	}
	// Σ max(0, speed × (T − available − startup)) ≥ Σ cost
	return max(one, least(func(t float64) bool {
		done := 0.0
		for _, n := range f.Nodes {
			done += max(0, n.Speed*(t-max(j.Submitted, n.Joins)-j.Startup))
		}
		return done >= sum
	}))
}

// eligible returns the nodes that could take a job. They join when they have got its
// bundle.
func eligible(f simulate.Farm, j simulate.Job) []simulate.Node {
	s := farm.NewState()
	for _, p := range f.Pools {
		s.Pools[p.Name] = &p
	}
	s.PutRun(&farm.Run{ID: 1, Spec: j.Spec}, "", "")
	var out []simulate.Node
	for i, n := range f.Nodes {
		node := n.AsNode(farm.NodeID(i+1), []farm.Renderer{{Recipe: j.Spec.Recipe}})
		if capacity.Fits(s, node, s.Runs[1]) {
			n.Joins = max(j.Submitted, n.Joins) + j.Fetch(i, &n).Seconds
			out = append(out, n)
		}
	}
	return out
}

// singleBound solves the linear programme in which frames may be divided
// among nodes: a frame takes startup + cost ÷ speed on one. Given the time T,
// a node has T − available seconds, in which it can do a number of frames of
// a given cost; where its first launch takes longer than further ones, that much
// less. The dearest frames belong on the fastest nodes (of two frames and
// two nodes the exchange never helps), so they are filled in that order.
func singleBound(f simulate.Farm, j simulate.Job) float64 {
	costs := slices.Clone(j.Costs)
	slices.SortFunc(costs, func(a, b float64) int {
		switch {
		case a > b:
			return -1
		case a < b:
			return 1
		}
		return 0
	})
	nodes := slices.Clone(f.Nodes)
	slices.SortStableFunc(nodes, func(a, b simulate.Node) int {
		switch {
		case a.Speed > b.Speed:
			return -1
		case a.Speed < b.Speed:
			return 1
		}
		return 0
	})
	launch := j.Startup
	if j.Again > 0 {
		launch = j.Again
	}
	return least(func(t float64) bool {
		at, part := 0, 1.0 // of the frame at which we are
		for _, n := range nodes {
			left := t - max(j.Submitted, n.Joins) - (j.Startup - launch)
			for left > 0 && at < len(costs) {
				takes := (launch + costs[at]/n.Speed) * part
				if takes > left {
					part -= part * left / takes
					left = 0
					break
				}
				left -= takes
				at, part = at+1, 1
			}
		}
		return at >= len(costs)
	})
}

// least returns the least time for which enough holds.
func least(enough func(float64) bool) float64 {
	high := 1.0
	for !enough(high) {
		high *= 2
		if high > 1e15 {
			return math.Inf(1)
		}
	}
	low := 0.0
	for range 100 {
		middle := (low + high) / 2
		if enough(middle) {
			high = middle
		} else {
			low = middle
		}
	}
	return high
}
