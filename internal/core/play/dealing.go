package play

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"

	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/triage"
)

// askSoon lets all that wait ask, once everything has happened that happens at
// this moment.
func (w *world) askSoon() { w.events.plan(w.now, asks, 0, 0) }

// ask lets a machine ask for work.
func (w *world) ask(i int) error {
	m := &w.machines[i]
	m.asks++
	ask := deal.Ask{Node: m.id, Number: m.asks}
	if m.warm && m.lease != nil {
		ask.Warm = m.lease.ID
	}
	d := w.hand.Next(ask, w.at(w.now))
	if len(d.Records) == 0 && ask.Warm != 0 { // the renderer that is up ends
		if err := w.end(i); err != nil {
			return err
		}
		ask.Warm = 0
		d = w.hand.Next(ask, w.at(w.now))
	}
	if d.Cut != nil {
		w.idle[i] = true
		return w.handOver(i, *d.Cut)
	}
	if len(d.Records) == 0 {
		w.idle[i] = true
		w.lookSoon(0)
		return nil
	}
	if err := w.apply(d.Records...); err != nil {
		return err
	}
	return w.given(i, d.Records)
}

// given lets a machine begin with what it was dealt.
func (w *world) given(i int, records []farm.Record) error {
	m := &w.machines[i]
	delete(w.idle, i)
	for _, rec := range records {
		switch r := rec.(type) {
		case farm.LeaseOpened:
			m.lease, m.job, m.warm = w.s.Lease(r.Lease), w.runs[r.Run], false
			m.busyFrom = w.now
			w.start(i)
		case farm.LeaseExtended:
			if m.spoilt[r.Frames.First()] {
				w.start(i)
				continue
			}
			w.next(i, r.Frames.First())
		}
	}
	return nil
}

// wake lets all machines that wait ask again, the fastest first.
func (w *world) wake() error {
	for _, i := range w.waiting() {
		if !w.idle[i] {
			continue
		}
		if err := w.ask(i); err != nil {
			return err
		}
	}
	return nil
}

func (w *world) waiting() []int {
	return slices.SortedFunc(maps.Keys(w.idle), func(a, b int) int {
		return cmp.Or(cmp.Compare(w.farm.Nodes[b].Known, w.farm.Nodes[a].Known), cmp.Compare(a, b))
	})
}

// lookSoon plans that idle machines look for something to take over.
func (w *world) lookSoon(after float64) {
	at := w.now + after
	if w.looksAt > w.now && w.looksAt <= at {
		return // it is planned
	}
	w.looksAt = at
	w.events.plan(at, looks, 0, 0)
}

// look lets idle machines take over what they should.
func (w *world) look() error {
	again := math.Inf(1)
	for _, i := range w.waiting() {
		if !w.idle[i] {
			continue
		}
		cut, ok, wait := w.hand.TakeOver(w.machines[i].id, w.at(w.now))
		if !ok {
			again = min(again, wait.Seconds())
			if err := w.race(i); err != nil {
				return err
			}
			continue
		}
		if err := w.handOver(i, cut); err != nil {
			return err
		}
	}
	if err := w.yield(); err != nil {
		return err
	}
	if len(w.idle) > 0 && !math.IsInf(again, 0) {
		w.lookSoon(max(again, 1e-3))
	}
	return nil
}

// race lets a machine with nothing to do race for a frame in flight.
func (w *world) race(i int) error {
	m := &w.machines[i]
	m.asks++
	d := w.hand.Race(deal.Ask{Node: m.id, Number: m.asks}, w.at(w.now))
	if len(d.Records) == 0 {
		return nil
	}
	if err := w.apply(d.Records...); err != nil {
		return err
	}
	return w.given(i, d.Records)
}

// yieldsAny reports whether it can happen that a node gives something back: for
// another job, or for a faster node where there may be few.
func (w *world) yieldsAny() bool {
	return len(w.farm.Jobs) > 1 || !w.farm.Jobs[0].Spec.Ceiling.None() || w.farm.Jobs[0].Spec.Licence != nil
}

// yieldSoon plans that what comes first gets its nodes.
func (w *world) yieldSoon() {
	if w.yieldsAny() && w.yieldsAt <= w.now {
		step := max(1, w.now/2000)
		if w.o.Coarse {
			step = max(5, w.now/200)
		}
		w.yieldsAt = w.now + step
		w.events.plan(w.yieldsAt, yields, 0, 0)
	}
}

// yield lets machines give back what is not begun for what comes first.
func (w *world) yield() error {
	if !w.yieldsAny() {
		return nil
	}
	return w.takeBack()
}

// takeBack lets machines give back what the dealer wants back.
func (w *world) takeBack() error {
	for _, cut := range w.hand.Yield(w.at(w.now)) {
		m := &w.machines[w.ids[cut.Node]]
		if m.lease == nil || m.lease.ID != cut.Lease {
			continue
		}
		if !m.there {
			w.unanswered(m)
			continue
		}
		back := cut.Frames
		if m.begun {
			back = back.Minus(frames.One(m.frame))
		}
		if back.Empty() {
			continue
		}
		if err := w.apply(farm.LeaseTrimmed{Lease: cut.Lease, Node: cut.Node, Run: m.lease.Run, Frames: back, Reason: cut.Reason, At: w.at(w.now)}); err != nil {
			return err
		}
		if !m.begun && m.lease.Left.Empty() { // its launch is stopped before it has begun anything
			m.gone++
			if err := w.end(w.ids[cut.Node]); err != nil {
				return err
			}
			w.idle[w.ids[cut.Node]] = true
		}
		w.askSoon()
	}
	return nil
}

// unanswered notes that a machine that has vanished is asked something.
func (w *world) unanswered(m *machine) {
	m.mute = w.now + triage.SilentAfter.Seconds()
	w.lookSoon(1)
}

// handOver asks a node for the end of its lease. It gives what it has not
// begun, at once, and the taker gets that.
func (w *world) handOver(i int, cut deal.Cut) error {
	taker := &w.machines[i]
	owner := &w.machines[w.ids[cut.Node]]
	if owner.lease == nil || owner.lease.ID != cut.Lease {
		return fmt.Errorf("lease %d is to be cut, and %s does not have it", cut.Lease, w.s.NodeName(cut.Node))
	}
	if !owner.there {
		w.unanswered(owner)
		return nil
	}
	given := cut.Frames
	if owner.begun {
		given = given.Minus(frames.One(owner.frame))
	}
	if given.Empty() {
		return nil
	}
	run := w.s.Lease(cut.Lease).Run
	taker.asks++
	n := w.s.Nodes[taker.id]
	opened := farm.LeaseOpened{Lease: w.s.LastLease + 1, Node: taker.id, Run: run, Session: n.Session, Ask: taker.asks, Frames: given, Reason: cut.Reason, At: w.at(w.now)}
	if err := w.apply(farm.LeaseTrimmed{Lease: cut.Lease, Node: cut.Node, Run: run, Frames: given, At: w.at(w.now)}, opened); err != nil {
		return err
	}
	return w.given(i, []farm.Record{opened})
}
