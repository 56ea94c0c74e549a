package engine

import (
	"cmp"
	"slices"
	"time"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/protocol/accept"
)

// Question asks for work.
type Question struct {
	Number int64            // the node's own count of its asks in the session
	Warm   farm.LeaseID     // whose renderer is still up; 0 for none
	Ended  []Ended          // leases that have ended just before
	Memory *capacity.Memory // as the node measures it; nil where it does not
}

// Ended is a lease of which all renderers are gone.
type Ended struct {
	Lease farm.LeaseID
	Why   string
}

// Answer is what an ask gets: leases, or the reason why there is none.
type Answer struct {
	Node   farm.NodeID
	Number int64 // of the ask
	Leases []*farm.Lease
	More   bool   // a further lease may fit beside these: the node may ask at once
	Why    string // one sentence
	cut    *deal.Cut
}

// ask is an ask that waits.
type ask struct {
	deal.Ask
	// Until then it waits for the end of a more urgent lease rather than begin
	// what it could; zero where it does not.
	defersUntil time.Time
}

// deferLimit is for how long a node waits for the end of a more urgent lease.
const deferLimit = 3 * time.Second

// mostLeasesPerAnswer bounds the leases that one ask gets.
const mostLeasesPerAnswer = 64

// Ask answers a node's ask for work, or keeps it until there is some: then the
// Answer comes with a later batch. A node gets as many leases as fit beside those
// that it holds, and the same ask gets the same leases again. An ask with a warm
// renderer never waits, and neither does one that says which leases have ended:
// their node keeps their files until it is answered.
func (e *Engine) Ask(id farm.NodeID, q Question) (out Answer, waits bool) {
	n, l := e.s.Nodes[id], e.nodes[id]
	out = Answer{Node: id, Number: q.Number}
	late := e.Outdated(id, q)
	if q.Warm == 0 && !late {
		delete(e.asks, id)
	}
	for _, ended := range q.Ended {
		records, _ := accept.Take(
			e.s, id, accept.Report{Outcome: accept.Ended, Lease: ended.Lease, Message: ended.Why}, e.now,
		)
		e.Append(records...)
	}
	for _, lease := range e.s.LeasesOf(id) { // asked before
		if lease.Ask == q.Number && !lease.Left.Empty() && (q.Warm == 0 || q.Warm == lease.ID) {
			out.Leases, out.Why = append(out.Leases, lease), lease.Reason
		}
	}
	switch {
	case len(out.Leases) > 0:
		out.More = capacity.HasRoom(e.s, n)
		return out, false
	case late: // a copy: what it got would reach nobody
		out.More, out.Why = capacity.HasRoom(e.s, n), "this ask was answered before"
		return out, false
	}
	w := &ask{Ask: deal.Ask{Node: id, Number: q.Number, Warm: q.Warm, Memory: q.Memory}}
	out = e.dealTo(w.Ask)
	switch {
	case q.Warm != 0: // a renderer that is up must not wait
	case len(out.Leases) > 0 || len(q.Ended) > 0:
		l.answered = q.Number
	default:
		e.asks[id] = w
		switch {
		case out.cut != nil:
			e.deferFor(w, *out.cut)
		case e.o.LookPause > 0:
			e.takeOver(id)
		default:
			e.lookSoon(0) // together with the others, at the end of the batch
		}
		return out, true // a race may have answered it already: with this batch
	}
	return out, false
}

// Outdated reports whether an ask is a copy that comes after its answer, or after a
// newer ask.
func (e *Engine) Outdated(id farm.NodeID, q Question) bool {
	if q.Warm != 0 {
		l := e.s.Lease(q.Warm)
		return l != nil && q.Number < l.Ask // it was extended since
	}
	waiting := e.asks[id]
	return q.Number <= e.nodes[id].answered || waiting != nil && q.Number < waiting.Number
}

// Waits reports whether a node's ask waits for an answer.
func (e *Engine) Waits(id farm.NodeID) bool { return e.asks[id] != nil }

// Forget ends the waiting of a node's ask: nobody is there for the answer. A
// copy of it that comes later gets nothing.
func (e *Engine) Forget(id farm.NodeID) {
	if w := e.asks[id]; w != nil {
		e.answered(w)
	}
}

// answered ends the waiting of an ask that gets its answer.
func (e *Engine) answered(w *ask) {
	delete(e.asks, w.Node)
	e.nodes[w.Node].answered = w.Number
}

// dealTo gives a node as many leases as fit beside those that it holds. A warm
// one gets further frames at most.
func (e *Engine) dealTo(ask deal.Ask) (out Answer) {
	n := e.s.Nodes[ask.Node]
	out = Answer{Node: ask.Node, Number: ask.Number}
	for len(out.Leases) < mostLeasesPerAnswer {
		d := e.policy.Next(ask, e.now)
		if len(out.Leases) == 0 {
			out.Why, out.cut = d.Why, d.Cut
		}
		e.Append(d.Records...)
		if e.err != nil {
			return Answer{}
		}
		l := dealt(e.s, d)
		if l == nil {
			break
		}
		out.Leases = append(out.Leases, l)
		if ask.Warm != 0 || !capacity.HasRoom(e.s, n) {
			break
		}
	}
	out.More = n != nil && capacity.HasRoom(e.s, n)
	return out
}

// dealt returns the lease that a decision opened or extended, or nil.
func dealt(s *farm.State, d deal.Decision) *farm.Lease {
	for _, r := range d.Records {
		switch r := r.(type) {
		case farm.LeaseOpened:
			return s.Lease(r.Lease)
		case farm.LeaseExtended:
			return s.Lease(r.Lease)
		}
	}
	return nil
}

// waiting returns the asks that wait, those of the fastest nodes first: they
// bring most while all wait the same.
func (e *Engine) waiting() []*ask {
	type waits struct {
		*ask
		speed float64
	}
	all := make([]waits, 0, len(e.asks))
	for _, w := range e.asks {
		all = append(all, waits{w, e.s.Nodes[w.Node].Facts.Speed})
	}
	slices.SortFunc(all, func(a, b waits) int {
		return cmp.Or(cmp.Compare(b.speed, a.speed), cmp.Compare(a.Node, b.Node))
	})
	out := make([]*ask, len(all))
	for i, w := range all {
		out[i] = w.ask
	}
	return out
}

// dealToWaiting gives work to nodes that wait for it.
func (e *Engine) dealToWaiting() {
	e.redeal = false
	for _, w := range e.waiting() {
		if e.asks[w.Node] != w || e.now.Before(w.defersUntil) {
			continue
		}
		a := e.dealTo(w.Ask)
		if e.err != nil {
			return
		}
		switch {
		case len(a.Leases) > 0:
			e.answer(w, a)
		case a.cut != nil:
			e.deferFor(w, *a.cut)
		default:
			e.lookSoon(0)
		}
	}
	e.redeal = false // what the dealing itself changed brings nothing new
}

// deferFor lets an ask wait for the end of a more urgent lease.
func (e *Engine) deferFor(w *ask, cut deal.Cut) {
	w.defersUntil = e.now.Add(deferLimit)
	e.askTrim(cut, w.Node)
	e.lookSoon(deferLimit)
}

// answer gives an ask that waited its leases.
func (e *Engine) answer(w *ask, a Answer) {
	e.answered(w)
	e.batch.Answers = append(e.batch.Answers, a)
}

// Measure lets an ask that waits know what its node measures now: the memory
// that is free, and what each lease has. It may have room at last for what did
// not fit before.
func (e *Engine) measure(id farm.NodeID, free int64, progress map[farm.LeaseID]Progress) {
	w := e.asks[id]
	if w == nil || w.Memory == nil || free < 0 {
		return
	}
	measured := &capacity.Memory{Free: free, Used: map[farm.LeaseID]int64{}}
	for lease, p := range progress {
		measured.Used[lease] = p.MemoryBytes
	}
	w.Memory = measured
	if e.s.Idle(id) { // memory keeps nobody from a first lease
		return
	}
	if a := e.dealTo(w.Ask); len(a.Leases) > 0 {
		e.answer(w, a)
	}
}
