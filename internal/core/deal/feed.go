package deal

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/span"
)

// one gives a node the next frame of a run whose frames go out one by one.
func (d *Dealer) one(n *farm.Node, run *farm.Run, todo frames.Set, now time.Time) (frames.Set, string) {
	curve := d.m.Curve(run)
	if run.Spec.Sequence == farm.Forward || run.Spec.Sequence == farm.Reverse {
		return d.inSequence(n, run, todo, now)
	}
	if d.nearEnd(n, run, todo, now) {
		return d.dealTail(n, run, todo, now)
	}
	if again, ok := d.bars(run, now).again(todo); ok {
		return frames.One(again.First()), fmt.Sprintf(
			"frame %d, which has failed elsewhere: it shows early who is to blame", again.First(),
		)
	}
	if !curve.Known() {
		f := middleOfLargestGap(todo)
		return frames.One(f), fmt.Sprintf(
			"frame %d, far from those that are dealt: it is not yet known how long frames take", f,
		)
	}
	if curve.Seen() < min(64, run.Spec.Frames.Len()/4) {
		f := middleOfLargestGap(todo)
		return frames.One(f), fmt.Sprintf("frame %d, to learn what the frames around it cost", f)
	}
	f := d.dearest(run, todo)
	if set := d.launches(n, run, todo, f, now); set.Len() > 1 {
		return set, fmt.Sprintf("%s, launched one after the other", count(set))
	}
	return frames.One(f), fmt.Sprintf("frame %d, as what takes longest goes first", f)
}

// inSequence gives a node the next frames of a run that asks for an order.
func (d *Dealer) inSequence(n *farm.Node, run *farm.Run, todo frames.Set, now time.Time) (frames.Set, string) {
	if d.nearEnd(n, run, todo, now) {
		if set, why := d.dealTail(n, run, todo, now); set.Empty() {
			return set, why // others have them done before
		}
	}
	set := ordered(run, todo, d.fewest(n, run, todo, ordered(run, todo, 1).First(), now))
	return set, fmt.Sprintf("%s, as the run goes %s", count(set), run.Spec.Sequence)
}

// power is how many leases a run has or could have now, their speed together,
// and what a frame costs on average, as of a moment ago.
type power struct {
	leases      int
	speed, each float64
	at          time.Time
}

// Powers are good for so long, and far from the end for a part of what remains.
const (
	powerGood = 5 * time.Second
	powerMost = time.Minute
	powerPart = 0.1
)

func (d *Dealer) powerOf(run *farm.Run, now time.Time) power {
	p, ok := d.powers[run.ID]
	good := powerGood
	if p.speed > 0 {
		remains := float64(run.ToDo.Len()) * p.each / p.speed
		good = max(good, min(powerMost, span.Of(powerPart*remains)))
	}
	if age := now.Sub(p.at); ok && age >= 0 && age <= good {
		return p
	}
	p = power{leases: run.OpenCount(), each: d.m.Curve(run).Work(run.ToDo) / float64(max(1, run.ToDo.Len())), at: now}
	for l := range run.OpenLeases {
		n := d.s.Nodes[l.Node]
		p.speed += d.m.SpeedFor(n, run) * n.Part(l.Share)
	}
	for _, n := range d.s.Roomy() {
		if more := d.freeFor(n, run, now); more > 0 {
			p.leases += more
			p.speed += float64(more) * capacity.Speed(d.m, n, run)
		}
	}
	d.powers[run.ID] = p
	return p
}

// nearEnd reports whether a frame that the node begins now may be among the
// last to be done, so that it matters who renders what.
func (d *Dealer) nearEnd(n *farm.Node, run *farm.Run, todo frames.Set, now time.Time) bool {
	p := d.powerOf(run, now)
	left := float64(todo.Len()) * p.each / p.speed
	return (todo.Len() <= 2*p.leases || left < d.m.Fetch(run, n)+2*p.each/capacity.Speed(d.m, n, run)) &&
		todo.Len()*p.leases <= mostMatched
}

// mostMatched bounds the pairs of frames and nodes that are compared for one
// answer.
const mostMatched = 20_000

// chunk gives a node frames of a run that asks for chunks of a fixed size. A
// node that would need longer for one than the others for all is passed over.
func (d *Dealer) chunk(n *farm.Node, run *farm.Run, todo frames.Set, now time.Time) (frames.Set, string) {
	set := ordered(run, todo, run.Spec.Chunk)
	mine := capacity.Speed(d.m, n, run)
	if p := d.powerOf(run, now); float64(todo.Len()) > 4*float64(set.Len())*p.speed/mine { // the end is far
		return set, chunkWhy(set, run)
	}
	v := d.surveyOf(run, now)
	if takes := v.curve.Work(set) / mine; v.fastest(n) != n &&
		takes+d.m.Fetch(run, n) > 2*v.together() {
		return frames.Set{}, fmt.Sprintf(
			"%s is passed over for %s: a chunk of %d would take it %.0f times as long as all should take%s", n.Name,
			run.Spec.Name(), set.Len(), (v.launch(n)+takes)/max(v.together(), 1e-9), d.toGet(run, n),
		)
	}
	return set, chunkWhy(set, run)
}

func chunkWhy(set frames.Set, run *farm.Run) string {
	return fmt.Sprintf("%s, as the run asks for chunks of %d", count(set), run.Spec.Chunk)
}

// fewSeconds is about how long a lease of single frames shall last.
const fewSeconds = 20

// launches returns frame f and those that follow it, as many single launches as
// fit into a short while, as long as there is plenty for all: the launch of one
// may then overlap with checking the one before.
func (d *Dealer) launches(n *farm.Node, run *farm.Run, todo frames.Set, f int, now time.Time) frames.Set {
	most := d.fewest(n, run, todo, f, now)
	set := frames.One(f)
	for set.Len() < most {
		next, ok := todo.From(set.Last() + 1)
		if !ok {
			break
		}
		set = set.Union(frames.One(next))
	}
	return set
}

// fewest returns how many single launches that is, at least 1.
func (d *Dealer) fewest(n *farm.Node, run *farm.Run, todo frames.Set, f int, now time.Time) int {
	if !apiece(run) || !d.m.Curve(run).Known() {
		return 1
	}
	startup, _ := d.m.Relaunch(run)
	seconds := startup.Mean + d.m.Curve(run).Cost(f)/capacity.Speed(d.m, n, run)
	return max(
		1, int(min(fewSeconds/max(seconds, 0.01), 100, float64(todo.Len())/(4*float64(d.powerOf(run, now).leases)))),
	)
}

// apiece reports whether each frame of a run is a launch of its own: in mode
// single, and where none of its frames follows another.
func apiece(run *farm.Run) bool {
	set := run.Spec.Frames
	return run.Spec.Mode == farm.ModeSingle ||
		run.Spec.Mode == farm.ModeRange && set.Len() > 1 && !set.Has(set.First()+1) && !set.Has(set.Last()-1)
}

// Apiece reports whether each frame of a run is a launch of its own.
func Apiece(run *farm.Run) bool { return apiece(run) }

// middleOfLargestGap returns the middle of the longest stretch, so that few frames tell
// about all; the ends come first.
func middleOfLargestGap(todo frames.Set) int {
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

// cells are stretches of a run's range with what a frame in them costs.
type cells struct {
	seen  int // observations that the costs rest on
	first []int
	costs []float64
}

const mostCells = 48

// cellsOf returns the cells of a run. Their costs may be a little old.
func (d *Dealer) cellsOf(run *farm.Run) *cells {
	curve := d.m.Curve(run)
	c := d.cells[run.ID]
	if c != nil && float64(curve.Seen()) < 1.02*float64(c.seen)+1 {
		return c
	}
	if c == nil {
		first, last := run.Spec.Frames.First(), run.Spec.Frames.Last()
		count := min(mostCells, last-first+1)
		c = &cells{}
		for i := range count + 1 {
			c.first = append(c.first, first+i*(last-first+1)/count)
		}
		c.costs = make([]float64, count)
		d.cells[run.ID] = c
	}
	c.seen = curve.Seen()
	for i := range c.costs {
		c.costs[i] = curve.Cost((c.first[i] + c.first[i+1] - 1) / 2)
	}
	return c
}

// dearest returns a frame that is expected to cost most, the first of those
// that are about as dear.
func (d *Dealer) dearest(run *farm.Run, todo frames.Set) int {
	const alike = 0.93
	c := d.cellsOf(run)
	var at [mostCells]int
	var has [mostCells]bool
	most := 0.0
	for i := 0; i < len(c.costs); {
		f, ok := todo.From(c.first[i])
		if !ok {
			break
		}
		for f >= c.first[i+1] {
			i++
		}
		at[i], has[i] = f, true
		most = max(most, c.costs[i])
		i++
	}
	for i, cost := range c.costs {
		if has[i] && cost >= alike*most {
			return at[i]
		}
	}
	return todo.First()
}

// dealTail deals the last frames of a run: those that cost most first, each to the
// node that would have it done first. A node that would have none done before
// the others have done all gets none. As long as it is not known well what a
// frame costs it may cost more, which a slow node would make all wait for.
func (d *Dealer) dealTail(n *farm.Node, run *farm.Run, todo frames.Set, now time.Time) (frames.Set, string) {
	v := d.surveyOf(run, now)
	var nodes []finish
	single := apiece(run)
	asking := -1
	for _, l := range v.loads {
		if l.node == n {
			asking = len(nodes)
		}
		if l.goes {
			continue
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
			start = t.start - v.again // each frame is launched; the first may take longer
		}
		nodes = append(nodes, finish{node: t.node, speed: t.speed, free: start})
	}
	if asking < 0 {
		nodes = append(nodes, finish{node: n, speed: capacity.Speed(d.m, n, run), free: v.launch(n)})
	}
	barred := d.bars(run, now)
	extra := 0.0
	if single {
		extra = v.again
	}
	type piece struct {
		frame int
		cost  float64
		most  float64 // what it may cost
	}
	var pieces []piece
	for f := range todo.All() {
		cost := v.curve.Cost(f)
		pieces = append(pieces, piece{f, cost, cost * math.Exp(v.curve.Doubt(f))})
	}
	slices.SortStableFunc(pieces, func(a, b piece) int { return cmp.Compare(b.cost, a.cost) })
	end := 0.0
	for _, p := range pieces {
		best, at, done := -1, math.Inf(1), 0.0
		for i := range nodes {
			if nodes[i].node != n && barred.frames[nodes[i].node.ID].Has(p.frame) {
				continue // it would not take it
			}
			begins := nodes[i].free + extra
			if t := begins + p.most/nodes[i].speed; t < at-1e-9 {
				best, at, done = i, t, begins+p.cost/nodes[i].speed
			}
		}
		at = done
		nodes[best].free = at
		end = max(end, at)
		if nodes[best].node == n {
			return frames.One(p.frame), fmt.Sprintf(
				"frame %d: this node finishes it first, in %s", p.frame, inAbout(at),
			)
		}
	}
	return frames.Set{}, fmt.Sprintf(
		"%s is passed over for %s: others finish the last %s in %s, and this node would take longer%s", n.Name,
		run.Spec.Name(), english.Plural(todo.Len(), "frame", ""), inAbout(end), d.toGet(run, n),
	)
}

// finish is a node and when it will be free.
type finish struct {
	node  *farm.Node
	speed float64
	free  float64 // seconds from now
}
