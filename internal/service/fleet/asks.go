package fleet

import (
	"context"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/engine"
	"vexillum/internal/core/farm"
	"vexillum/internal/service/writer"
)

// Answer is what an ask gets: leases, or the reason why there is none.
type Answer struct {
	Leases []*LeaseView
	More   bool // a further lease may fit beside these: the node may ask at once
	Again  bool // another copy of the ask has taken its place: ask again under the same number
	Why    string
}

// Lease returns the first lease of the answer, or nil.
func (a Answer) Lease() *LeaseView {
	if len(a.Leases) == 0 {
		return nil
	}
	return a.Leases[0]
}

// waiter is a caller whose ask waits.
type waiter struct {
	number int64
	reply  chan Answer
}

// Question asks for work.
type Question struct {
	Session int64
	Number  int64            // the node's own count of its asks in the session
	Warm    farm.LeaseID     // whose renderer is still up; 0 for none
	Ended   []Ended          // leases that have ended just before
	Memory  *capacity.Memory // as the node measures it; nil where it does not
}

// Ended is a lease of which all renderers are gone.
type Ended = engine.Ended

// Ask asks for work and waits until there is some or the context ends; then
// the Answer has no lease. See [engine.Engine.Ask] for what a node gets.
func (d *Desk) Ask(ctx context.Context, id farm.NodeID, q Question) (Answer, error) {
	w := &waiter{number: q.Number, reply: make(chan Answer, 1)}
	var now Answer
	waits := false
	err := d.do(context.WithoutCancel(ctx), func(t *transaction) error {
		if _, err := t.session(id, q.Session); err != nil {
			return err
		}
		question := engine.Question{Number: q.Number, Warm: q.Warm, Ended: q.Ended, Memory: q.Memory}
		if q.Warm == 0 && !d.e.Outdated(id, question) {
			d.dropWaiter(id)
		}
		var a engine.Answer
		if a, waits = d.e.Ask(id, question); waits {
			d.waiters[id] = w
		}
		now = d.answerView(a)
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
	case <-d.w.Gone():
		return Answer{}, writer.ErrGone
	case <-ctx.Done():
	}
	err = d.do(context.WithoutCancel(ctx), func(*transaction) error {
		if d.waiters[id] == w {
			delete(d.waiters, id)
			d.e.Forget(id)
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

func (d *Desk) answerView(a engine.Answer) Answer {
	out := Answer{More: a.More, Why: a.Why}
	for _, l := range a.Leases {
		out.Leases = append(out.Leases, d.leaseView(d.s.Nodes[l.Node], l))
	}
	return out
}
