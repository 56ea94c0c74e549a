package floor

import (
	"fmt"
	"slices"
	"time"

	"vexillum/internal/core/accept"
	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/triage"
)

// absence is how long a lease has not been named.
type absence struct {
	times int
	since time.Time
}

// A lease that is missing from so many signs of life in a row, and for so
// long, has not arrived or is lost.
const (
	missingMost  = 2
	missingAfter = 15 * time.Second
)

// inventory ends leases of which the node knows nothing.
func (t *turn) inventory(l *liveNode, id farm.NodeID, holds map[farm.LeaseID]Progress) {
	missing := map[farm.LeaseID]absence{}
	for _, lease := range t.s.LeasesOf(id) {
		if _, held := holds[lease.ID]; held {
			continue
		}
		a, known := l.missing[lease.ID]
		if !known {
			a.since = t.now
		}
		if a.times++; a.times >= missingMost && t.now.Sub(a.since) >= missingAfter {
			t.append(farm.LeaseEnded{Lease: lease.ID, Node: id, Run: lease.Run, Reason: t.s.NodeName(id) + " does not know of it", At: t.now})
			continue
		}
		missing[lease.ID] = a
	}
	l.missing = missing
}

// tick runs every second: it finds nodes that fell silent.
func (f *Floor) tick(t *turn) error {
	stopped := t.now.Sub(f.lastTick) > 3*time.Second
	f.lastTick = t.now
	hush, _ := f.hush(t.now)
	for id, l := range f.live {
		n := t.s.Nodes[id]
		if n == nil || n.Session == 0 || !n.RetiredAt.IsZero() {
			continue
		}
		if n.Duty == farm.Draining && t.s.Idle(id) {
			t.append(farm.NodeDuty{Node: id, Duty: farm.Held, Reason: "drained; its last frame has left", At: t.now})
		}
		if stopped { // it was us who did not listen
			l.seen = t.now
			continue
		}
		quiet := t.now.Sub(l.seen)
		if n.Reach == farm.Online && quiet > triage.SilentAfter {
			l.fell = true
			t.append(farm.NodeReach{Node: id, Reach: farm.Silent, Reason: fmt.Sprintf("nothing was heard from %s for %.0f s", n.Name, quiet.Seconds()), At: t.now})
		}
		if n.Reach == farm.Silent && !l.freed && t.now.After(hush) && quiet > triage.FreeAfter(l.spent(t.now)) {
			l.freed = true
			t.append(accept.Release(t.s, id, nil, fmt.Sprintf("%s has been silent for %.0f s", n.Name, quiet.Seconds()), t.now)...)
		}
	}
	f.dutyNow(t)
	for _, of := range deal.Passed(t.s, t.now) {
		t.append(farm.StaySet{Of: of, At: t.now})
	}
	for _, stay := range t.s.Stays { // a step may have come
		f.redeal = f.redeal || !stay.Held
	}
	f.redeal = f.redeal || len(f.asks) > 0 && t.now.Unix()%lookAgain == 0 && f.failedWait()
	for id, w := range f.asks {
		if w.defers { // it should not wait for ever
			f.redeal = true
			continue
		}
		f.takeOver(t, id)
	}
	for _, l := range t.s.Licences { // a renderer may find one again
		f.redeal = f.redeal || !l.LoweredUntil.IsZero() && t.now.After(l.LoweredUntil) && t.now.Sub(l.LoweredUntil) < 3*time.Second
	}
	for _, cut := range f.dealer.Yield(t.now) {
		f.question(t, cut, 0)
	}
	if !stopped {
		t.append(accept.Overdue(t.s, f.watchDeliveries(t.now), t.now)...)
	}
	return nil
}

// lookAgain is how often, in seconds, it is looked whether a frame that has failed
// has waited long enough for a node that is away.
const lookAgain = 5

// failedWait reports whether frames that have failed wait to be dealt.
func (f *Floor) failedWait() bool {
	for _, run := range f.s.Queue() {
		if len(run.Trouble) > 0 && !run.ToDo.Empty() {
			return true
		}
	}
	return false
}

// dutyNow lets nodes come on duty and go off it by their hours.
func (f *Floor) dutyNow(t *turn) { t.append(deal.Duty(t.s, t.now)...) }

// watched is what is known of a delivery since this service has watched it.
type watched struct {
	since   time.Time
	unnamed time.Time // since when its node's signs of life do not name it
}

// watchDeliveries returns what Overdue asks. Deliveries that have come to an
// end are forgotten.
func (f *Floor) watchDeliveries(now time.Time) func(accept.Delivery) (known, quiet time.Duration) {
	before := f.deliveries
	f.deliveries = map[accept.Delivery]watched{}
	return func(d accept.Delivery) (known, quiet time.Duration) {
		w, ok := before[d]
		if !ok {
			w.since = now
		}
		l := f.live[d.Node]
		switch {
		case l == nil || f.s.Nodes[d.Node].Reach != farm.Online || l.verifies(f.s, d.Run, d.Frame):
			w.unnamed = time.Time{}
		case w.unnamed.IsZero():
			w.unnamed = now
		}
		f.deliveries[d] = w
		if !w.unnamed.IsZero() {
			quiet = now.Sub(w.unnamed)
		}
		return now.Sub(w.since), quiet
	}
}

func (l *liveNode) verifies(s *farm.State, run farm.RunID, frame int) bool {
	for id, p := range l.progress {
		if lease := s.Lease(id); lease != nil && lease.Run == run && slices.Contains(p.Verifying, frame) {
			return true
		}
	}
	return false
}

// hush returns until when nothing is taken from silent nodes because many fell
// silent together, and how many did; it is zero when there is no hush.
func (f *Floor) hush(now time.Time) (until time.Time, nodes int) {
	var fell []time.Time
	members := 0
	for id, l := range f.live {
		n := f.s.Nodes[id]
		if n == nil || n.Session == 0 || n.Reach == farm.Silent && !l.fell {
			continue // not started, or it has left
		}
		members++
		if n.Reach == farm.Silent {
			fell = append(fell, l.seen)
		}
	}
	return triage.Hush(fell, members, now)
}

// spent is the longest time that the node has spent on a frame in flight.
func (l *liveNode) spent(now time.Time) time.Duration {
	var longest time.Duration
	for _, p := range l.progress {
		longest = max(longest, now.Sub(p.Since))
	}
	return longest
}
