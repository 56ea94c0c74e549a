package deal

import (
	"cmp"
	"fmt"
	"iter"
	"maps"
	"math"
	"slices"
	"time"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/fairness"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// mostYields bounds what is asked back at once.
const mostYields = 256

// Yield returns the ends of leases that their nodes shall give back for what
// comes first: more urgent runs, others of the same standing that have had less
// of the farm, and ceilings that were lowered. Frames in flight are finished.
func (d *Dealer) Yield(now time.Time) []Cut {
	var out []Cut
	asked := map[farm.LeaseID]bool{}
	ask := func(l *farm.Lease, back frames.Set, reason string) {
		if len(out) < mostYields && !asked[l.ID] && !back.Empty() {
			asked[l.ID] = true
			out = append(out, Cut{Lease: l.ID, Node: l.Node, Frames: back, Reason: reason})
		}
	}
	d.overCeiling(now, ask)
	d.distrusted(now, ask)
	for _, run := range d.s.Queue() {
		d.forFaster(run, now, ask)
	}
	looked := 0
	for run := range d.queue.InTurn(now) {
		if !run.Deals() || scouting(run) != "" {
			continue
		}
		if looked++; looked > 16 {
			break // those that come first are served first
		}
		d.forUrgent(run, now, ask)
		d.forTurn(run, now, ask)
	}
	return out
}

// unbegun returns the frames of a lease that its node could give back; none
// while it must not be asked. A lease that was opened since what comes first
// was there is asked only once it has begun a frame, so that a node for which
// two things are decided at once still gets on.
func (d *Dealer) unbegun(l *farm.Lease, since time.Time) frames.Set {
	seen := d.sight(l)
	if seen.Rests || l.Race || !seen.Begun && !l.OpenedAt.Before(since) {
		return frames.Set{}
	}
	if seen.Begun {
		return l.Left.Minus(frames.One(seen.Frame))
	}
	return l.Left
}

// overCeiling asks the slowest nodes of runs for their frames that have more
// nodes than they may.
func (d *Dealer) overCeiling(now time.Time, ask func(*farm.Lease, frames.Set, string)) {
	for _, run := range d.s.Queue() {
		leaving := d.beyondCeiling(run, now)
		if len(leaving) == 0 || run.DealtCount() == 0 {
			continue
		}
		for l := range run.OpenLeases {
			if leaving[l.Node] {
				ask(l, d.unbegun(l, now), oneMore(d.s.Nodes[l.Node], run))
			}
		}
	}
}

// distrusted asks nodes for what they have not begun of runs of which they have
// failed frames that nobody else has tried.
func (d *Dealer) distrusted(now time.Time, ask func(*farm.Lease, frames.Set, string)) {
	for _, run := range d.s.Queue() {
		if run.DealtCount() == 0 || run.Spec.Mode == farm.ModeWhole {
			continue
		}
		for l := range run.OpenLeases {
			if !d.distrusts(l.Node, run, now) {
				continue
			}
			ask(
				l, d.unbegun(l, now).Minus(d.bars(run, now).elsewhere(l.Node)),
				fmt.Sprintf(
					"%s has failed %s that nobody else has tried yet", d.s.NodeName(l.Node),
					english.Plural(d.untried(l.Node, run, now).frames, "frame", ""),
				),
			)
		}
	}
}

// beyondCeiling returns the nodes that shall leave a run which has more than it
// may: the slowest.
func (d *Dealer) beyondCeiling(run *farm.Run, now time.Time) map[farm.NodeID]bool {
	if run.Terms.Ceiling.None() || run.Spec.Mode == farm.ModeWhole {
		return nil
	}
	at := run.Working()
	most := run.Terms.Ceiling.Most(d.able(run, now))
	if at <= most {
		return nil
	}
	var nodes []*farm.Node
	seen := map[farm.NodeID]bool{}
	for l := range run.OpenLeases {
		if !seen[l.Node] {
			seen[l.Node] = true
			nodes = append(nodes, d.s.Nodes[l.Node])
		}
	}
	slices.SortFunc(nodes, func(a, b *farm.Node) int {
		return cmp.Or(cmp.Compare(d.m.SpeedFor(a, run), d.m.SpeedFor(b, run)), cmp.Compare(b.ID, a.ID))
	})
	leaving := map[farm.NodeID]bool{}
	for _, n := range nodes[:at-most] {
		leaving[n.ID] = true
	}
	return leaving
}

// oneMore says why a node shall leave a run.
func oneMore(n *farm.Node, run *farm.Run) string {
	return fmt.Sprintf("%s has a ceiling of %s, and %s is one node more", run.Spec.Name(), run.Terms.Ceiling, n.Name)
}

// yielder is a node that would work on a run once it has given back what it
// has of less urgent ones.
type yielder struct {
	leases []*farm.Lease
	free   float64 // seconds until its frames in flight are done
}

// yields returns the leases that a node would give back for a more urgent run,
// or false if it works on anything else.
func (d *Dealer) yields(n *farm.Node, run *farm.Run, now time.Time) (yielder, bool) {
	if d.s.LeaseCount(n.ID) == 0 || !n.Ready() {
		return yielder{}, false
	}
	held := d.s.LeasesOf(n.ID)
	var y yielder
	for _, l := range held {
		other := d.s.Runs[l.Run]
		if l.Run == run.ID || other.Terms.Level.Rank() <= run.Terms.Level.Rank() || other.Spec.Mode == farm.ModeWhole {
			return yielder{}, false
		}
		y.leases = append(y.leases, l)
		if seen := d.sight(l); seen.Begun && l.Left.Has(seen.Frame) {
			curve := d.m.Curve(other)
			y.free = max(
				y.free,
				remaining(
					curve.Cost(seen.Frame)/(d.m.SpeedFor(n, other)*n.Part(l.Share)), curve.Spread(), seen.Seconds,
				),
			)
		}
	}
	if d.shut(n, run, now) || !d.may(n, run, now) {
		return yielder{}, false
	}
	return y, true
}

// atWork are the nodes that work, those first whose leases are least urgent, as
// of a moment ago.
type atWork struct {
	nodes []*farm.Node
	ranks []int // of the most urgent lease of each
	at    time.Time
}

// busyGood is how long the list of nodes at work counts.
const busyGood = 250 * time.Millisecond

// workers yields nodes that work only on what is less urgent than a rank. On a
// large farm those come first that have the least urgent work, and some may have
// ended it since.
func (d *Dealer) workers(rank int, now time.Time) iter.Seq[*farm.Node] {
	if !d.s.Large() {
		return slices.Values(d.s.NodeList())
	}
	if age := now.Sub(d.busy.at); d.busy.at.IsZero() || age < 0 || age > busyGood {
		d.busy = atWork{at: now}
		ranks := map[farm.NodeID]int{}
		for _, run := range d.s.Queue() {
			mine := run.Terms.Level.Rank()
			for l := range run.OpenLeases {
				if most, known := ranks[l.Node]; !known || mine < most {
					ranks[l.Node] = mine
				}
			}
		}
		leastUrgent := func(a, b farm.NodeID) int {
			return cmp.Or(cmp.Compare(ranks[b], ranks[a]), cmp.Compare(a, b))
		}
		for _, id := range slices.SortedFunc(maps.Keys(ranks), leastUrgent) {
			d.busy.nodes, d.busy.ranks = append(d.busy.nodes, d.s.Nodes[id]), append(d.busy.ranks, ranks[id])
		}
	}
	busy := d.busy
	return func(yield func(*farm.Node) bool) {
		for i, n := range busy.nodes {
			if busy.ranks[i] <= rank || !yield(n) {
				return
			}
		}
	}
}

// below reports whether nodes work on runs that are less urgent.
func (d *Dealer) below(run *farm.Run) bool {
	queue := d.s.Queue()
	for i := len(queue) - 1; i >= 0 && queue[i].Terms.Level.Rank() > run.Terms.Level.Rank(); i-- {
		if queue[i].OpenCount() > 0 {
			return true
		}
	}
	return false
}

// forUrgent asks for nodes that work on less urgent runs: those to which the
// run would give frames if it had them when their frames in flight are done.
func (d *Dealer) forUrgent(run *farm.Run, now time.Time, ask func(*farm.Lease, frames.Set, string)) {
	if !d.below(run) {
		return
	}
	for _, t := range d.yielders(run, now) {
		for _, l := range t.yields {
			ask(
				l, d.unbegun(l, run.SubmittedAt),
				fmt.Sprintf("%s is %s and comes first on %s", run.Spec.Name(), run.Terms.Level, t.node.Name),
			)
		}
	}
}

// yielders returns the nodes to which a run would give frames if they gave back
// what they have of less urgent ones.
func (d *Dealer) yielders(run *farm.Run, now time.Time) (out []taker) {
	v := d.surveyOf(run, now)
	for _, t := range v.takers {
		if t.yields == nil || v.portion(t.node, t.speed) <= 0 {
			continue
		}
		if set, _ := d.Offer(t.node, run, nil, now); !set.Empty() {
			out = append(out, t)
		}
	}
	return out
}

// Stops returns the leases that would have to end at once so that a more
// urgent run gets its nodes now, and the seconds of work that are lost with
// their frames in flight.
func (d *Dealer) Stops(run *farm.Run, now time.Time) (leases []*farm.Lease, lost float64) {
	if !run.Deals() || !d.below(run) {
		return nil, 0
	}
	for _, t := range d.yielders(run, now) {
		for _, l := range t.yields {
			leases = append(leases, l)
			if seen := d.sight(l); seen.Begun {
				lost += seen.Seconds
			}
		}
	}
	return leases, lost
}

// forTurn asks nodes for what they hold beyond their turn if somebody of the
// same standing, who has had less of the farm for its weight, waits for them.
func (d *Dealer) forTurn(run *farm.Run, now time.Time, ask func(*farm.Lease, frames.Set, string)) {
	me := fairness.Party{Project: run.Spec.Project, Person: run.Spec.Owner}
	for p, other := range d.queue.Behind(run, now) {
		if other.DealtCount() == 0 || other.Spec.Mode == farm.ModeWhole || other.Spec.Chunk > 0 {
			continue
		}
		startup, _ := d.m.Startup(other)
		most := fairness.TimeSlice(startup.Mean)
		curve := d.m.Curve(other)
		if !curve.Known() {
			continue
		}
		for l := range other.OpenLeases {
			n := d.s.Nodes[l.Node]
			back := d.unbegun(l, run.SubmittedAt)
			speed := d.m.SpeedFor(n, other) * n.Part(l.Share)
			if back.Len() < 2 || curve.Work(back)/speed < 2*most || !n.Ready() || !d.may(n, run, now) {
				continue
			}
			keep, _ := curve.Within(back, most*speed)
			back = back.TakeLast(back.Len() - max(1, keep))
			ask(
				l, back,
				fmt.Sprintf("%s waits, and %s has had less of the farm for its weight", run.Spec.Name(), who(me, p)),
			)
		}
	}
}

// who names the one of two parties by what tells them apart.
func who(me, other fairness.Party) string {
	if me.Project != other.Project {
		return "the project " + me.Project
	}
	return me.Person
}

// portions deals what is to do of a survey to all that wait: whole frames, so
// that the last to finish is as early as can be.
func (v *survey) portions() map[farm.NodeID]int {
	if v.parts != nil {
		return v.parts
	}
	type share struct {
		node   farm.NodeID
		frames int
		next   float64 // when one more would be done
	}
	all, given := 0.0, 0
	shares := make([]share, len(v.takers))
	for i, t := range v.takers {
		can := max(0, v.even-t.start) * t.speed / v.each
		all += can
		shares[i] = share{node: t.node.ID, frames: int(can + 1e-9)}
		shares[i].next = t.start + float64(shares[i].frames+1)*v.each/t.speed
		given += shares[i].frames
	}
	more := int(math.Round(all)) - given
	slices.SortStableFunc(shares, func(a, b share) int { return cmp.Compare(a.next, b.next) })
	v.parts = make(map[farm.NodeID]int, len(shares))
	for i, s := range shares {
		if i < more {
			s.frames++
		}
		if _, first := v.parts[s.node]; !first { // of several side by side, the first
			v.parts[s.node] = s.frames
		}
	}
	return v.parts
}
