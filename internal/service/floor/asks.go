package floor

import (
	"context"
	"slices"

	"vexillum/internal/core/accept"
	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
)

// Answer is what an ask gets: leases, or the reason why there is none.
type Answer struct {
	Leases []*LeaseView
	More   bool // a further lease may fit beside these: the node may ask at once
	Again  bool // another copy of the ask has taken its place: ask again under the same number
	Why    string
	cut    *deal.Cut // that it should take over
}

// Lease returns the first lease of the answer, or nil.
func (a Answer) Lease() *LeaseView {
	if len(a.Leases) == 0 {
		return nil
	}
	return a.Leases[0]
}

type waitingAsk struct {
	ask    deal.Ask
	reply  chan Answer
	defers bool // it waits for the end of a more urgent lease rather than begin what it could
}

// Question asks for work.
type Question struct {
	Session int64
	Number  int64        // the node's own count of its asks in the session
	Warm    farm.LeaseID // whose renderer is still up; 0 for none
	Ended   []Ended      // leases that have ended just before
	Memory  *deal.Memory // as the node measures it; nil where it does not
}

// Ended tells that all renderers of a lease are gone.
type Ended struct {
	Lease farm.LeaseID
	Why   string
}

// mostAnAnswer bounds the leases that one ask gets.
const mostAnAnswer = 64

// Ask asks for work and waits until there is some or the context ends; then
// the Answer has no lease. A node gets as many leases as fit beside those that
// it holds. The same ask gets the same leases again. One that tells which
// leases have ended does not wait: their node keeps their files until it is
// answered.
func (f *Floor) Ask(ctx context.Context, id farm.NodeID, q Question) (Answer, error) {
	w := &waitingAsk{ask: deal.Ask{Node: id, Number: q.Number, Warm: q.Warm, Memory: q.Memory}, reply: make(chan Answer, 1)}
	var now Answer
	waits := false
	err := f.do(context.WithoutCancel(ctx), func(t *turn) error {
		n, err := t.session(id, q.Session)
		if err != nil {
			return err
		}
		late := f.late(t, id, q)
		if q.Warm == 0 && !late {
			f.dropAsk(id)
		}
		for _, e := range q.Ended {
			records, _ := accept.Take(t.s, id, accept.Report{Outcome: accept.Ended, Lease: e.Lease, Message: e.Why}, t.now)
			t.append(records...)
		}
		for _, l := range t.s.LeasesOf(id) { // asked before
			if l.Ask == q.Number && !l.Left.Empty() && (q.Warm == 0 || q.Warm == l.ID) {
				now.Leases, now.Why = append(now.Leases, f.leaseView(n, l)), l.Reason
			}
		}
		if len(now.Leases) > 0 {
			now.More = deal.HasRoom(t.s, n)
			return nil
		}
		if late { // a copy: what it got would reach nobody
			now.More, now.Why = deal.HasRoom(t.s, n), "this ask was answered before"
			return nil
		}
		now = f.dealTo(t, w.ask)
		switch {
		case q.Warm != 0: // a renderer that is up shall not wait
		case len(now.Leases) > 0 || len(q.Ended) > 0:
			f.live[id].answered = q.Number
		default:
			waits = true
			f.asks[id] = w
			if cut := now.cut; cut != nil {
				w.defers = true
				f.question(t, *cut, id)
			} else {
				f.takeOver(t, id)
			}
		}
		return nil
	})
	if err != nil {
		return Answer{}, err // what was decided was not committed
	}
	if !waits {
		return now, nil
	}
	select {
	case a := <-w.reply:
		return a, nil
	case <-f.gone:
		return Answer{}, ErrGone
	case <-ctx.Done():
	}
	err = f.do(context.WithoutCancel(ctx), func(*turn) error {
		if f.asks[id] == w {
			f.answered(id, w)
		}
		return nil
	})
	select {
	case a := <-w.reply: // it came while we were leaving
		return a, nil
	default:
		return now, err
	}
}

// dealTo gives a node as many leases as fit beside those that it holds. A warm
// one gets further frames at most.
func (f *Floor) dealTo(t *turn, ask deal.Ask) (out Answer) {
	n := t.s.Nodes[ask.Node]
	for len(out.Leases) < mostAnAnswer {
		d := f.dealer.Next(ask, t.now)
		if len(out.Leases) == 0 {
			out.Why, out.cut = d.Why, d.Cut
		}
		t.append(d.Records...)
		if t.broken != nil {
			return Answer{}
		}
		l := dealt(t.s, d)
		if l == nil {
			break
		}
		out.Leases = append(out.Leases, f.leaseView(n, l))
		if ask.Warm != 0 || !deal.HasRoom(t.s, n) {
			break
		}
	}
	out.More = n != nil && deal.HasRoom(t.s, n)
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

// dealToWaiting gives work to nodes that wait for it, if something changed
// that may bring some. The answers are given after the commit.
func (f *Floor) dealToWaiting(t *turn) (answers []func()) {
	if !f.redeal || t.broken != nil {
		return nil
	}
	f.redeal = false
	ids := make([]farm.NodeID, 0, len(f.asks))
	for id := range f.asks {
		ids = append(ids, id)
	}
	// The fastest first: they bring most while all wait the same.
	slices.SortFunc(ids, func(a, b farm.NodeID) int {
		x, y := t.s.Nodes[a].Facts.Speed, t.s.Nodes[b].Facts.Speed
		switch {
		case x > y:
			return -1
		case x < y:
			return 1
		}
		return int(a - b)
	})
	for _, id := range ids {
		w := f.asks[id]
		a := f.dealTo(t, w.ask)
		if t.broken != nil {
			return nil
		}
		if len(a.Leases) > 0 {
			f.answered(id, w)
			answers = append(answers, func() { w.reply <- a })
		} else if w.defers = a.cut != nil; w.defers {
			f.question(t, *a.cut, id)
		}
	}
	f.redeal = false // what the dealing itself changed brings nothing new
	return answers
}

// dropAsk lets go of an older ask of a node.
func (f *Floor) dropAsk(id farm.NodeID) {
	if w := f.asks[id]; w != nil {
		delete(f.asks, id)
		w.reply <- Answer{Again: true, Why: "a newer ask has taken its place"}
	}
}

// late reports whether an ask is a copy that comes after its answer or after a
// newer ask.
func (f *Floor) late(t *turn, id farm.NodeID, q Question) bool {
	if q.Warm != 0 {
		l := t.s.Lease(q.Warm)
		return l != nil && q.Number < l.Ask // it was extended since
	}
	waiting := f.asks[id]
	return q.Number <= f.live[id].answered || waiting != nil && q.Number < waiting.ask.Number
}

// answered ends the waiting of an ask that gets its answer. A copy of it that
// comes later takes nothing.
func (f *Floor) answered(id farm.NodeID, w *waitingAsk) {
	delete(f.asks, id)
	f.live[id].answered = w.ask.Number
}

// remeasure lets an ask that waits know what its node measures now. It may
// have room at last for what did not fit before.
func (f *Floor) remeasure(t *turn, id farm.NodeID, b Beat) {
	w := f.asks[id]
	if w == nil || w.ask.Memory == nil || b.Signs.MemoryFree < 0 {
		return
	}
	measured := &deal.Memory{Free: b.Signs.MemoryFree, Used: map[farm.LeaseID]int64{}}
	for lease, p := range b.Leases {
		measured.Used[lease] = p.MemoryBytes
	}
	w.ask.Memory = measured
	if f.s.Idle(id) { // memory keeps nobody from a first lease
		return
	}
	if a := f.dealTo(t, w.ask); len(a.Leases) > 0 {
		f.answered(id, w)
		t.answers = append(t.answers, func() { w.reply <- a })
	}
}
