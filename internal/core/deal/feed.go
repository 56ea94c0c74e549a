package deal

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// one gives a node the next frame of a run whose frames go out one by one.
func (d *Dealer) one(n *farm.Node, run *farm.Run, todo frames.Set, now time.Time) (frames.Set, string) {
	curve := d.m.Curve(run)
	if !curve.Known() {
		f := apart(todo)
		return frames.One(f), fmt.Sprintf("frame %d, far from those that are dealt: it is not known yet how long frames take", f)
	}
	if todo.Len() <= 2*len(d.s.Nodes) {
		return d.last(n, run, todo, now)
	}
	if curve.Seen() < min(64, run.Spec.Frames.Len()/4) {
		f := apart(todo)
		return frames.One(f), fmt.Sprintf("frame %d, to learn what the frames around it cost", f)
	}
	f := d.dearest(run, todo)
	return frames.One(f), fmt.Sprintf("frame %d, as what takes longest goes first", f)
}

// apart returns the middle of the longest stretch, so that few frames tell
// about all; the ends come first.
func apart(todo frames.Set) int {
	best, looked := frames.Span{First: 1, Last: 0}, 0
	for sp := range todo.Spans() {
		if sp.Len() > best.Len() {
			best = sp
		}
		if looked++; looked > mostSpans {
			break
		}
	}
	return best.First + (best.Len()-1)/2
}

// dearest returns a frame that is expected to cost most, the first of those
// that are about as dear.
func (d *Dealer) dearest(run *farm.Run, todo frames.Set) int {
	const cells = 48
	curve := d.m.Curve(run)
	first, last := todo.First(), todo.Last()
	var costs [cells]float64
	var at [cells]int
	most := 0.0
	for i := range cells {
		costs[i] = -1
		from, to := first+i*(last-first+1)/cells, first+(i+1)*(last-first+1)/cells-1
		if f, ok := todo.From(from); ok && f <= to {
			costs[i], at[i] = curve.Cost(f), f
			most = max(most, costs[i])
		}
	}
	for i := range cells {
		if costs[i] >= 0.93*most {
			return at[i]
		}
	}
	return first
}

// last deals the last frames of a run: those that cost most first, each to the
// node that would have it done first. A node that would have none done before
// the others have done all gets none.
func (d *Dealer) last(n *farm.Node, run *farm.Run, todo frames.Set, now time.Time) (frames.Set, string) {
	v := d.look(run, now)
	var nodes finishes
	single := run.Spec.Mode == farm.ModeSingle
	asking := -1
	for _, l := range v.loads {
		if l.node == n {
			asking = len(nodes)
		}
		free := l.end
		if l.node == n && l.left.Empty() {
			free = 0
		}
		nodes = append(nodes, finish{node: l.node, speed: l.speed, free: free})
	}
	for _, t := range v.takers {
		if t.node == n {
			asking = len(nodes)
		}
		start := t.start
		if single {
			start = 0
		}
		nodes = append(nodes, finish{node: t.node, speed: t.speed, free: start})
	}
	if asking < 0 {
		nodes = append(nodes, finish{node: n, speed: speed(d.m, n, run), free: v.startup})
	}
	extra := 0.0
	if single {
		extra = v.startup
	}
	type piece struct {
		frame int
		cost  float64
	}
	var pieces []piece
	for f := range todo.All() {
		pieces = append(pieces, piece{f, v.curve.Cost(f)})
	}
	slices.SortStableFunc(pieces, func(a, b piece) int { return cmp.Compare(b.cost, a.cost) })
	end := 0.0
	for _, p := range pieces {
		best, at := -1, math.Inf(1)
		for i := range nodes {
			if t := nodes[i].free + extra + p.cost/nodes[i].speed; t < at-1e-9 {
				best, at = i, t
			}
		}
		nodes[best].free = at
		end = max(end, at)
		if nodes[best].node == n {
			return frames.One(p.frame), fmt.Sprintf("frame %d: it has it done first, in %s", p.frame, span(at))
		}
	}
	return frames.Set{}, fmt.Sprintf("%s is passed over for %s: others have the last %s done in %s, and it would take longer", n.Name, run.Spec.Name(), plural(todo.Len(), "frame"), span(end))
}

// finish is a node and when it will be free.
type finish struct {
	node  *farm.Node
	speed float64
	free  float64 // seconds from now
}

type finishes []finish

