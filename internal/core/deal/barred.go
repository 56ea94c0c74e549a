package deal

import (
	"fmt"
	"slices"
	"time"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/span"
)

// A frame that has failed goes to nodes that have not tried it. It comes back to
// one where it failed only when all others that could render it have failed it,
// too, or none of them will be there before long.

// Before long: a node that fell silent may come back, and one that is off duty
// comes back by its hours.
const (
	// BackFromSilence is how long a frame that has failed waits for a silent node
	// that has not tried it.
	BackFromSilence = 15 * time.Minute
	backOnDuty      = 30 * time.Minute
)

// mostUntried is how much the frames may weigh that a node has failed and nobody else has tried. Then it gets
// nothing fresh until somebody has: if the node is to blame, it would spoil them all.
// What has failed elsewhere it may try, so that nodes which distrust one another never
// wait for one another.
const mostUntried = 2

// bars are which nodes wait with failed frames of a run, as of one moment.
type bars struct {
	seq     int64
	at      time.Time
	frames  map[farm.NodeID]frames.Set // that a node leaves to others
	untried map[farm.NodeID]int        // of these, those that only the node has tried
	rests   map[farm.NodeID]time.Time  // when a node may try one of them again that it has failed, soonest
	failed  frames.Set                 // all that have failed and are to do
	tried   frames.Set                 // all that have failed and have no picture yet
}

// barsGood is how long they count while nothing is committed: nodes come back and
// stay away by the clock, too.
const barsGood = time.Second

// bars returns which nodes wait with failed frames of a run.
func (d *Dealer) bars(run *farm.Run, now time.Time) *bars {
	if len(run.Trouble) == 0 && len(run.Short) == 0 {
		return &noBars
	}
	b := d.barred[run.ID]
	if b != nil && b.seq == d.s.Seq && now.Sub(b.at).Abs() < barsGood {
		return b
	}
	b = &bars{seq: d.s.Seq, at: now, untried: map[farm.NodeID]int{}, frames: map[farm.NodeID]frames.Set{}}
	d.barred[run.ID] = b
	spans := map[farm.NodeID][]frames.Span{}
	var failed, tried []frames.Span
	hands := d.hands(run, now)
	for f, t := range run.Trouble {
		if len(t.Attempts) == 0 || run.Parked.Has(f) {
			continue
		}
		one := frames.Span{First: f, Last: f}
		tried = append(tried, one)
		if run.ToDo.Has(f) {
			failed = append(failed, one)
		}
		short := max(d.s.ShortOn(t), shortAround(run, f))
		ready, could := hands.besides(d.s, t, short)
		if !could && short > 0 { // none is larger: another of the same size may have more that is free
			short = 0
			ready, could = hands.besides(d.s, t, 0)
		}
		if !could { // it comes back to those that have failed it, each time later
			for id, until := range rests(t) {
				if now.Before(until) {
					spans[id] = append(spans[id], one)
					b.rest(id, until)
				}
			}
			continue
		}
		by := map[farm.NodeID]bool{}
		for _, a := range t.Attempts {
			if !by[a.Node] {
				by[a.Node] = true
				spans[a.Node] = append(spans[a.Node], one)
			}
		}
		if short > 0 {
			hands.smaller(d.s, short, func(id farm.NodeID) {
				if !by[id] {
					spans[id] = append(spans[id], one)
				}
			})
		}
		if ready && len(by) == 1 {
			b.untried[t.Attempts[0].Node]++
		}
	}
	for f, short := range run.Short {
		beside := around(run, f)
		if _, could := hands.besides(d.s, &farm.Trouble{}, short); len(beside) > 0 && could {
			hands.smaller(d.s, short, func(id farm.NodeID) { spans[id] = append(spans[id], beside...) })
		}
	}
	b.failed, b.tried = frames.Of(failed...), frames.Of(tried...)
	for id, list := range spans {
		b.frames[id] = frames.Of(list...)
	}
	return b
}

var noBars bars

// A frame that only nodes are left for that have failed it is tried on each of them again
// after a pause, which doubles.
const (
	firstRest = time.Second
	lastRest  = 2 * time.Minute
)

// rests returns from when on nodes may try a frame again that has failed on them.
func rests(t *farm.Trouble) map[farm.NodeID]time.Time {
	out, pauses := map[farm.NodeID]time.Time{}, map[farm.NodeID]time.Duration{}
	for _, a := range t.Attempts {
		pauses[a.Node] = min(max(firstRest, 2*pauses[a.Node]), lastRest)
		out[a.Node] = a.At.Add(pauses[a.Node])
	}
	return out
}

func (b *bars) rest(id farm.NodeID, until time.Time) {
	if b.rests == nil {
		b.rests = map[farm.NodeID]time.Time{}
	}
	if at, known := b.rests[id]; !known || until.Before(at) {
		b.rests[id] = until
	}
}

// distrusts reports whether a node has failed enough frames, of a run or of others that
// are as urgent, that others should try one of them before it gets more of it.
func (d *Dealer) distrusts(id farm.NodeID, run *farm.Run, now time.Time) bool {
	return d.untried(id, run, now).weight >= mostUntried
}

// untried are frames that a node has failed and nobody else has tried. They weigh more where
// others of their runs come out well: then it is hardly the run.
type untried struct{ frames, weight int }

// untriedOf is how many frames nodes have failed that nobody else has tried, as of one
// moment: by how urgent a run has to be so that it counts.
type untriedOf struct {
	seq   int64
	at    time.Time
	nodes map[int]map[farm.NodeID]untried
}

// mostTroubled is in how many runs of the queue that is looked for.
const mostTroubled = 16

// untried returns how many frames a node has failed that nobody else has tried and
// somebody is about to: of runs that go on and are no less urgent than a run.
func (d *Dealer) untried(id farm.NodeID, run *farm.Run, now time.Time) untried {
	// On a large farm what was found a moment ago has to do.
	stale := d.fresh.seq != d.s.Seq && !d.s.Large() || now.Sub(d.fresh.at).Abs() >= barsGood
	if stale || d.fresh.nodes == nil {
		d.fresh = untriedOf{d.s.Seq, now, map[int]map[farm.NodeID]untried{}}
	}
	rank := run.Terms.Level.Rank()
	if d.fresh.nodes[rank] == nil {
		d.fresh.nodes[rank] = d.untriedUpTo(rank, now)
	}
	all := d.fresh.nodes[rank][id]
	if len(run.Trouble) > 0 && len(d.s.WaitsOf(nil, run)) > 0 { // it is tried by one node at a time
		own := d.bars(run, now).untried[id]
		all.frames, all.weight = all.frames+own, all.weight+own
	}
	return all
}

func (d *Dealer) untriedUpTo(rank int, now time.Time) map[farm.NodeID]untried {
	out := map[farm.NodeID]untried{}
	troubled := 0
	for _, run := range d.s.Queue() {
		if run.Terms.Level.Rank() > rank || troubled >= mostTroubled {
			break // those that come first stand first
		}
		goesOn := run.State == farm.RunQueued || run.State == farm.RunRendering
		if len(run.Trouble) == 0 || !goesOn || len(d.s.WaitsOf(nil, run)) > 0 {
			continue
		}
		troubled++
		weight := 1
		if !unproven(run) {
			weight = 2
		}
		for node, count := range d.bars(run, now).untried {
			out[node] = untried{out[node].frames + count, out[node].weight + weight*count}
		}
	}
	return out
}

// hands are the nodes that could render a run: now, or before long.
type hands struct {
	ready map[farm.NodeID]bool
	soon  map[farm.NodeID]bool
}

func (d *Dealer) hands(run *farm.Run, now time.Time) hands {
	h := hands{map[farm.NodeID]bool{}, map[farm.NodeID]bool{}}
	for id, n := range d.s.Nodes {
		switch {
		case !n.RetiredAt.IsZero() || !capacity.Fits(d.s, n, run):
		case n.Ready() && capacity.FreezeReason(d.s, n, run, now) == "":
			h.ready[id] = true
		case backSoon(n, now):
			h.soon[id] = true
		}
	}
	return h
}

// besides reports whether a node that has not failed a frame could render it:
// one that is ready, or one that is soon.
func (h hands) besides(s *farm.State, t *farm.Trouble, short int64) (ready, could bool) {
	failed := map[farm.NodeID]bool{}
	for _, a := range t.Attempts {
		failed[a.Node] = true
	}
	if short > 0 {
		h.smaller(s, short, func(id farm.NodeID) { failed[id] = true })
	}
	left := func(of map[farm.NodeID]bool) bool {
		n := len(of)
		for id := range failed {
			if of[id] {
				n--
			}
		}
		return n > 0
	}
	ready = left(h.ready)
	return ready, ready || left(h.soon)
}

// smaller calls with each node that has no more memory than a frame was short of.
func (h hands) smaller(s *farm.State, short int64, with func(farm.NodeID)) {
	for _, of := range []map[farm.NodeID]bool{h.ready, h.soon} {
		for id := range of {
			if m := s.Nodes[id].OfferedMemory(); m > 0 && m <= short {
				with(id)
			}
		}
	}
}

// heavyAround is how many frames on both sides of one that was short of memory are left to
// nodes with more: scenes change slowly.
const heavyAround = 2

// shortAround returns the memory that frames beside one were short of, in bytes; 0: none was.
func shortAround(run *farm.Run, f int) (most int64) {
	if len(run.Short) == 0 {
		return 0
	}
	for g := f - heavyAround; g <= f+heavyAround; g++ {
		most = max(most, run.Short[g])
	}
	return most
}

// around returns the frames beside one that have not been tried.
func around(run *farm.Run, f int) (out []frames.Span) {
	for g := f - heavyAround; g <= f+heavyAround; g++ {
		if t := run.Trouble[g]; g != f && run.ToDo.Has(g) && (t == nil || len(t.Attempts) == 0) {
			out = append(out, frames.Span{First: g, Last: g})
		}
	}
	return out
}

// backSoon reports whether a node that is not ready will be before long.
func backSoon(n *farm.Node, now time.Time) bool {
	switch {
	case n.Session == 0 || n.Health == farm.Sidelined || n.Duty == farm.Held || n.Duty == farm.Draining:
		return false
	case n.Reach != farm.Online && now.Sub(n.ReachSince) >= BackFromSilence:
		return false
	case n.Duty == farm.OnDuty:
		return true
	case n.OffUntil.After(now.Add(backOnDuty)) || n.Settings.Hours == nil:
		return !n.OffUntil.IsZero() && n.OffUntil.Before(now.Add(backOnDuty))
	}
	on, change := n.Settings.Hours.At(now)
	return on || !change.IsZero() && change.Before(now.Add(backOnDuty))
}

// elsewhere returns the frames that have failed, and not on this node.
func (b *bars) elsewhere(id farm.NodeID) frames.Set { return b.tried.Minus(b.frames[id]) }

// leaves returns the frames of a run that a node may take of those that are to
// do, and why it is none.
func (d *Dealer) leaves(n *farm.Node, run *farm.Run, now time.Time) (frames.Set, string) {
	b := d.bars(run, now)
	todo := run.ToDo.Minus(b.frames[n.ID])
	if d.distrusts(n.ID, run, now) {
		if todo = todo.Intersect(b.failed); todo.Empty() {
			return todo, fmt.Sprintf(
				"%s has failed %s that nobody else has tried yet; it gets no fresh ones until somebody has",
				n.Name, english.Plural(d.untried(n.ID, run, now).frames, "frame", ""),
			)
		}
	}
	if until, rests := b.rests[n.ID]; rests && todo.Empty() {
		return todo, fmt.Sprintf(
			"what is left of %s has failed on %s and is tried there again in %s", run.Spec.Name(), n.Name,
			span.Text(max(time.Second, until.Sub(now))),
		)
	}
	if todo.Empty() {
		return todo, fmt.Sprintf(
			"what is left of %s has failed on %s and waits for another node", run.Spec.Name(), n.Name,
		)
	}
	return todo, ""
}

// shut reports whether a node may take nothing of what is to do of a run, for
// what has failed on it.
func (d *Dealer) shut(n *farm.Node, run *farm.Run, now time.Time) bool {
	if run.ToDo.Empty() {
		return false
	}
	distrusted := d.distrusts(n.ID, run, now)
	if len(run.Trouble) == 0 && len(run.Short) == 0 {
		return distrusted
	}
	b := d.bars(run, now)
	mine := b.frames[n.ID]
	if distrusted {
		return run.ToDo.Intersect(b.failed).Minus(mine).Empty()
	}
	return !mine.Empty() && run.ToDo.Minus(mine).Empty()
}

// again returns, of frames that a node may take, the first stretch of those that
// have failed elsewhere: they go first, so that it shows early who is to blame.
func (b *bars) again(todo frames.Set) (frames.Set, bool) {
	if b.failed.Empty() {
		return frames.Set{}, false
	}
	set := b.failed.Intersect(todo)
	if set.Empty() {
		return set, false
	}
	for sp := range set.Spans() {
		return frames.Of(sp), true
	}
	return set, false
}

// WaitsFor returns the names, in order, of nodes that could render a frame where it has not failed yet.
func (d *Dealer) WaitsFor(run *farm.Run, t *farm.Trouble, now time.Time) []string {
	h := d.hands(run, now)
	var names []string
	for _, of := range []map[farm.NodeID]bool{h.ready, h.soon} {
		for id := range of {
			if !t.FailedOn(id) {
				names = append(names, d.s.NodeName(id))
			}
		}
		if len(names) > 0 {
			break
		}
	}
	slices.Sort(names)
	return names
}
