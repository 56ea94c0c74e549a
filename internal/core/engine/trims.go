package engine

import (
	"fmt"
	"slices"
	"time"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/protocol/accept"
)

// Trim asks a node which of the last frames of a lease it can give back. The
// node answers with [Engine.Trimmed].
type Trim struct {
	ID     int64
	Node   farm.NodeID // that holds the lease
	Lease  farm.LeaseID
	Frames frames.Set
}

// trim is a Trim that waits for its answer.
type trim struct {
	Trim
	taker  farm.NodeID // that waits for the frames; 0: whichever node asks first
	reason string
	ahead  time.Duration // by which the lease would end earlier
	asked  time.Time
}

// trimRetry is after how long a node that waits for a trim looks again.
const trimRetry = time.Second

// trimLimit is how long an answer to a trim may take. After that the lease may
// be trimmed again.
const trimLimit = 15 * time.Second

// lookSoon plans that idle nodes look for something to take over.
func (e *Engine) lookSoon(after time.Duration) {
	at := e.now.Add(after)
	if e.looksAt.IsZero() || at.Before(e.looksAt) {
		e.looksAt = at
	}
}

// look lets each node that waits take over what it should, or race.
func (e *Engine) look() {
	e.looksAt = time.Time{}
	for _, w := range e.waiting() {
		if e.asks[w.Node] != w {
			continue
		}
		if !w.defersUntil.IsZero() {
			if e.now.Before(w.defersUntil) {
				e.lookSoon(w.defersUntil.Sub(e.now))
			} else { // the trim has come to nothing
				w.defersUntil = time.Time{}
				e.redeal = true
			}
			continue
		}
		e.takeOver(w.Node)
	}
}

// takeOver looks, for a node that has found nothing to do, whether it should
// take the end of another's lease over, and asks for that.
func (e *Engine) takeOver(taker farm.NodeID) {
	if e.err != nil || !e.s.Idle(taker) {
		return
	}
	cut, ok, again := e.policy.TakeOver(taker, e.now)
	if ok {
		e.askTrim(cut, taker)
		return
	}
	e.lookSoon(max(again, e.o.LookPause, time.Millisecond))
	e.race(taker)
}

// race lets a node that waits render a frame in flight on another, too.
func (e *Engine) race(taker farm.NodeID) {
	w := e.asks[taker]
	if w == nil {
		return
	}
	d := e.policy.Race(w.Ask, e.now)
	e.Append(d.Records...)
	l := dealt(e.s, d)
	if l == nil || e.err != nil {
		return
	}
	e.answer(w, Answer{
		Node: taker, Number: w.Number, Leases: []*farm.Lease{l}, More: capacity.HasRoom(e.s, e.s.Nodes[taker]),
		Why: d.Why,
	})
}

// yield asks nodes to give back what they have not begun, for work that comes
// first.
func (e *Engine) yield() {
	if e.err != nil {
		return
	}
	for _, cut := range e.policy.Yield(e.now) {
		e.askTrim(cut, 0)
	}
}

// askTrim asks a node for the end of a lease. taker waits for it; 0 where it is
// to be dealt to whichever node asks first.
func (e *Engine) askTrim(cut deal.Cut, taker farm.NodeID) {
	owner := e.nodes[cut.Node]
	e.lookSoon(trimRetry) // it may come to nothing
	if owner == nil || owner.trimming(e.now) {
		return
	}
	e.trims++
	owner.trim = &trim{
		// Another service may have asked before: its trims have other ids.
		Trim:  Trim{ID: e.o.Epoch<<32 + e.trims, Node: cut.Node, Lease: cut.Lease, Frames: cut.Frames},
		taker: taker, reason: cut.Reason, ahead: cut.Ahead, asked: e.now,
	}
	note(&owner.rests, cut.Lease, e.now.Add(e.o.TrimPause))
	e.batch.Trims = append(e.batch.Trims, owner.trim.Trim)
	e.Reorder(cut.Node)
}

// trimming reports whether a node still has to answer a trim.
func (n *node) trimming(now time.Time) bool {
	return n.trim != nil && now.Sub(n.trim.asked) < trimLimit
}

// TrimFor returns the trim that a node is asked for, if it is of one of these
// leases.
func (e *Engine) TrimFor(id farm.NodeID, leases []farm.LeaseID) (Trim, bool) {
	n := e.nodes[id]
	if n == nil || n.trim == nil || !slices.Contains(leases, n.trim.Lease) {
		return Trim{}, false
	}
	return n.trim.Trim, true
}

// Trimmed takes a node's answer to a trim: the frames that it gave back, which
// may be none. They are dealt in the same batch. An answer to a trim that was not
// asked for, or was answered, changes nothing that is not true anyway: the node
// has given the frames back.
func (e *Engine) Trimmed(id farm.NodeID, trim int64, lease farm.LeaseID, given frames.Set) {
	name := e.s.NodeName(id)
	reason := name + " gave frames back"
	var taker farm.NodeID
	var ahead time.Duration
	if t := e.nodes[id].trim; t != nil && t.ID == trim {
		e.nodes[id].trim = nil
		reason, taker = t.reason, t.taker
		ahead = time.Duration(float64(t.ahead) * float64(given.Len()) / float64(max(1, t.Frames.Len())))
	}
	switch {
	case given.Empty():
	case e.asks[taker] != nil: // whose lease says why
		reason = fmt.Sprintf("%s gives %s back", name, given)
	default:
		reason = fmt.Sprintf("%s; %s gives %s back", reason, name, given)
	}
	cut := accept.Trimmed(e.s, id, lease, given, reason, e.now)
	e.Append(cut...)
	if len(cut) > 0 {
		e.handOver(taker, cut[0].(farm.LeaseTrimmed), ahead)
	}
	if w := e.asks[taker]; w != nil && !w.defersUntil.IsZero() {
		w.defersUntil = time.Time{}
		e.redeal = true // it was given nothing, and begins what it could
	}
}

// handOver gives what was cut off to the node that it was cut off for, in the
// same batch, if that still waits for work and has room.
func (e *Engine) handOver(taker farm.NodeID, cut farm.LeaseTrimmed, ahead time.Duration) {
	w, n, run := e.asks[taker], e.s.Nodes[taker], e.s.Runs[cut.Run]
	if w == nil || !n.Ready() || run.State != farm.RunRendering || e.err != nil {
		return
	}
	set := cut.Frames.Intersect(run.ToDo) // another node may race for one meanwhile
	if set.Empty() {
		return
	}
	share, full := capacity.Room(e.s, e.m, n, run, w.Memory, nil)
	if full != "" || !e.policy.May(taker, cut.Run, e.now) { // since the trim was asked for
		return
	}
	opened := farm.LeaseOpened{
		Lease: e.s.LastLease + 1, Node: taker, Run: cut.Run, Session: n.Session, Ask: w.Number,
		Frames: set, Share: share, From: cut.Node, Reason: deal.TookOver(n.Name, e.s.NodeName(cut.Node), set, ahead),
		At: e.now,
	}
	e.Append(opened)
	if e.err != nil {
		return
	}
	e.answer(w, Answer{
		Node: taker, Number: w.Number, Leases: []*farm.Lease{e.s.Lease(opened.Lease)}, More: capacity.HasRoom(e.s, n),
		Why: opened.Reason,
	})
}

// Sight returns what is seen of a lease at work.
func (e *Engine) Sight(lease *farm.Lease) deal.Sight {
	n := e.nodes[lease.Node]
	if n == nil {
		return deal.Sight{Rests: true}
	}
	rests := e.s.Nodes[lease.Node].Reach != farm.Online || // no answer would come
		n.trimming(e.now) || e.now.Before(n.rests[lease.ID])
	p, advanced := n.progress[lease.ID], n.advanced[lease.ID]
	switch {
	case p.Frame != nil && lease.Left.Has(*p.Frame) && !p.Since.Before(advanced):
		return deal.Sight{Begun: true, Frame: *p.Frame, Seconds: e.now.Sub(p.Since).Seconds(), Rests: rests}
	case !advanced.IsZero() && !lease.Left.Empty():
		// It has gone on with the next frame, and has not reported it yet.
		return deal.Sight{Begun: true, Frame: lease.Left.First(), Seconds: e.now.Sub(advanced).Seconds(), Rests: rests}
	}
	launched := lease.OpenedAt
	if again, ok := n.launched[lease.ID]; ok {
		launched = again
	}
	return deal.Sight{Seconds: e.now.Sub(launched).Seconds(), Rests: rests}
}
