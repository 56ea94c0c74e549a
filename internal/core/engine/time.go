package engine

import (
	"fmt"
	"slices"
	"time"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/protocol/accept"
	"vexillum/internal/core/triage"
)

// Tick does what is due at the time of the batch: nodes fall silent and are
// freed, come on duty and go off it; idle nodes look for something to take over,
// and what comes first gets its nodes.
func (e *Engine) Tick() {
	e.silence()
	e.Append(e.s.DutyChanges(e.now)...)
	e.steps()
	e.retries()
	if e.o.LookPause > 0 || !e.looksAt.IsZero() && !e.now.Before(e.looksAt) {
		e.look()
	}
	e.licences()
	e.trials()
	e.waiters()
	if !e.now.Before(e.yieldsAt) {
		e.yieldsAt = e.now.Add(e.yieldPause())
		e.yield()
	}
	e.Append(accept.Overdue(e.s, e.watchDeliveries(), e.now)...)
}

func (e *Engine) yieldPause() time.Duration {
	if e.o.YieldPause != nil {
		return e.o.YieldPause(e.now)
	}
	return 0 // with each Tick
}

// LooksAt returns when idle nodes look for something to take over next; false
// where that is not planned.
func (e *Engine) LooksAt() (time.Time, bool) {
	return e.looksAt, !e.looksAt.IsZero() && len(e.asks) > 0
}

// YieldsAt returns when nodes may next be asked to give back what they have not
// begun.
func (e *Engine) YieldsAt() time.Time { return e.yieldsAt }

// Resumed notes that nobody has listened for a while: no node fell silent in
// that time, and no delivery is overdue for it.
func (e *Engine) Resumed(gap time.Duration) {
	for _, n := range e.nodes {
		n.seen = e.now
	}
	for d, w := range e.deliveries {
		w.since = w.since.Add(gap)
		if !w.unnamed.IsZero() {
			w.unnamed = w.unnamed.Add(gap)
		}
		e.deliveries[d] = w
	}
}

// silence finds nodes that fell silent, and frees the work of those that have
// been for long. Nodes that drain and have nothing left are held.
func (e *Engine) silence() {
	var quiet []farm.NodeID
	for id, l := range e.nodes {
		n := e.s.Nodes[id]
		if n == nil || n.Session == 0 || !n.RetiredAt.IsZero() {
			continue
		}
		if e.o.Present != nil && e.o.Present(id) {
			l.seen = e.now
		}
		if n.Duty == farm.Draining || e.now.Sub(l.seen) > triage.SilentAfter {
			quiet = append(quiet, id)
		}
	}
	if len(quiet) == 0 {
		return
	}
	slices.Sort(quiet)
	outage, _ := e.MassOutage()
	for _, id := range quiet {
		n, l := e.s.Nodes[id], e.nodes[id]
		if n.Duty == farm.Draining && e.s.Idle(id) {
			e.Append(farm.NodeDuty{Node: id, Duty: farm.Held, Reason: farm.Drained, At: e.now})
		}
		quiet := e.now.Sub(l.seen)
		if n.Reach == farm.Online && quiet > triage.SilentAfter {
			l.fell = true
			e.Append(farm.NodeReach{
				Node: id, Reach: farm.Silent,
				Reason: fmt.Sprintf("nothing was heard from %s for %.0f s", n.Name, quiet.Seconds()), At: e.now,
			})
		}
		if n.Reach == farm.Silent && !l.freed && e.now.After(outage) && quiet > triage.FreeAfter(l.spent(e.now)) {
			l.freed = true
			reason := fmt.Sprintf("%s has been silent for %.0f s", n.Name, quiet.Seconds())
			e.Append(accept.Release(e.s, id, nil, reason, e.now)...)
		}
	}
}

// MassOutage returns until when nothing is taken from silent nodes because many
// fell silent together, and how many did; zero where that is not so.
func (e *Engine) MassOutage() (until time.Time, nodes int) {
	var fell []time.Time
	members := 0
	for id, l := range e.nodes {
		n := e.s.Nodes[id]
		if n == nil || n.Session == 0 || n.Reach == farm.Silent && !l.fell {
			continue // not started, or it has left
		}
		members++
		if n.Reach == farm.Silent {
			fell = append(fell, l.seen)
		}
	}
	return triage.MassOutage(fell, members, e.now)
}

// spent is the longest time that the node has spent on a frame in flight.
func (n *node) spent(now time.Time) time.Duration {
	var longest time.Duration
	for _, p := range n.progress {
		longest = max(longest, now.Sub(p.Since))
	}
	return longest
}

// steps ends releases in steps that are through, and lets the next step begin.
func (e *Engine) steps() {
	for _, of := range capacity.ThawedSteps(e.s, e.now) {
		e.Append(farm.FreezeSet{Of: of, At: e.now})
	}
	for _, stay := range e.s.Freezes {
		e.redeal = e.redeal || !stay.Held
	}
}

// retryPause is how often it is looked whether a frame that has failed has
// waited long enough for a node that is away.
const retryPause = 5 * time.Second

// retries offers frames that have failed to nodes that wait, from time to time.
func (e *Engine) retries() {
	if len(e.asks) == 0 || e.now.Before(e.retriesAt) {
		return
	}
	e.retriesAt = e.now.Add(retryPause)
	for _, run := range e.s.Queue() {
		if len(run.Trouble)+len(run.Short) > 0 && !run.ToDo.Empty() {
			e.redeal = true
			return
		}
	}
}

// licencePause is for how long after a licence may be there again nodes are
// dealt to for it.
const licencePause = 3 * time.Second

// licences lets a renderer look again for a licence that was short.
func (e *Engine) licences() {
	for _, l := range e.s.Licences {
		since := e.now.Sub(l.LoweredUntil)
		e.redeal = e.redeal || !l.LoweredUntil.IsZero() && since > 0 && since < licencePause
	}
}

// trials lets nodes that are set aside show that they are well, and devices work again
// whose time has come.
func (e *Engine) trials() {
	for _, n := range e.s.NodeList() {
		if len(n.Aside) > 0 {
			e.Append(triage.DevicesBack(n, e.now)...)
		}
		w := e.asks[n.ID]
		if w == nil || !n.TrialDue(e.now) || !e.s.Idle(n.ID) {
			continue
		}
		if a := e.dealTo(w.Ask); len(a.Leases) > 0 {
			e.answer(w, a)
		}
	}
}

// waiters lets a frame try whether what others wait for is back, and ends the waiting
// where nobody needs it any more.
func (e *Engine) waiters() {
	for _, of := range triage.Unneeded(e.s) {
		e.Append(farm.WaitSet{Of: of, Reason: fmt.Sprintf("nothing waits for %s any more", of), At: e.now})
	}
	for _, w := range e.s.Waits {
		since := e.now.Sub(w.Until)
		e.redeal = e.redeal || w.Scout == 0 && since >= 0 && since < licencePause
	}
	if len(e.s.Waits) > 0 && !e.now.Before(e.retriesAt) {
		e.retriesAt = e.now.Add(retryPause)
		e.redeal = true
	}
}

// delivery names a frame on its way from a node.
type delivery = accept.Delivery

// watched is what is known of a delivery since this Engine has watched it.
type watched struct {
	since   time.Time
	unnamed time.Time // since when its node's signs of life do not name it
}

// watchDeliveries returns what [accept.Overdue] asks. Deliveries that have come
// to an end are forgotten.
func (e *Engine) watchDeliveries() func(delivery) (known, quiet time.Duration) {
	before := e.deliveries
	e.deliveries = map[delivery]watched{}
	return func(d delivery) (known, quiet time.Duration) {
		w, ok := before[d]
		if !ok {
			w.since = e.now
		}
		l := e.nodes[d.Node]
		switch {
		case l == nil || e.s.Nodes[d.Node].Reach != farm.Online || l.verifies(e.s, d.Run, d.Frame):
			w.unnamed = time.Time{}
		case w.unnamed.IsZero():
			w.unnamed = e.now
		}
		e.deliveries[d] = w
		if !w.unnamed.IsZero() {
			quiet = e.now.Sub(w.unnamed)
		}
		return e.now.Sub(w.since), quiet
	}
}

func (n *node) verifies(s *farm.State, run farm.RunID, frame int) bool {
	for id, p := range n.progress {
		if lease := s.Lease(id); lease != nil && lease.Run == run && slices.Contains(p.Verifying, frame) {
			return true
		}
	}
	return false
}
