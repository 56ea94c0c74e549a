package deal

import (
	"fmt"
	"time"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
	"vexillum/internal/core/span"
)

// waiting says why a run may not begin a frame on a node now for what it needs and has
// failed; "" if it may, or if it is its turn to try whether that is back.
func (d *Dealer) waiting(n *farm.Node, run *farm.Run, now time.Time) string {
	for _, of := range d.s.WaitsOf(n, run) {
		w := d.s.Waits[of]
		switch {
		case now.Before(w.Until):
			return fmt.Sprintf(
				"%s waits for %s (%s); one frame tries again in %s", run.Spec.Name(), of, w.Cause,
				span.Text(w.Until.Sub(now)),
			)
		case w.Scout != 0:
			if l := d.s.Lease(w.Scout); l != nil {
				return fmt.Sprintf(
					"%s waits for %s (%s); %s tries just now whether it is back", run.Spec.Name(), of, w.Cause,
					d.s.NodeName(l.Node),
				)
			}
		}
	}
	return ""
}

// trial decides what a node gets that is set aside and may show that it is well: one
// frame of what is to do.
func (d *Dealer) trial(n *farm.Node, ask Ask, now time.Time) Decision {
	if d.s.LeaseCount(n.ID) > 0 {
		return Decision{Why: n.Name + " is sidelined, and its trial is under way"}
	}
	for run := range d.queue.InTurn(now) {
		if !run.Deals() || run.Spec.Mode == farm.ModeWhole || run.Spec.Once || run.ToDo.Len() < 2 ||
			!capacity.Fits(d.s, n, run) || capacity.FreezeReason(d.s, n, run, now) != "" ||
			len(d.s.WaitsOf(n, run)) > 0 || d.limited(n, run, nil, now) != "" || scouting(run) != "" || unproven(run) {
			continue
		}
		todo := run.ToDo.Minus(d.bars(run, now).tried)
		if todo.Empty() {
			continue
		}
		share, full := capacity.Room(d.s, d.m, n, run, ask.Memory, nil)
		if full != "" {
			continue
		}
		set := frames.One(dearest(d.m, run, todo))
		why := fmt.Sprintf(
			"%s gets frame %d on trial: if it comes out well, the node works again", n.Name, set.First(),
		)
		return Decision{Records: d.opened(n, run, set, share, ask, why, now), Why: why}
	}
	return Decision{Why: n.Name + " is sidelined, and nothing is to do on which it could be tried"}
}

// dearest returns the frame of a set that is expected to cost most, of some of them: what
// fails machines is mostly heavy.
func dearest(m *pace.Model, run *farm.Run, set frames.Set) int {
	curve := m.Curve(run)
	if !curve.Known() {
		return set.First()
	}
	const looks = 64
	best, most := set.First(), -1.0
	for i := range min(looks, set.Len()) {
		f := set.Nth(i * (set.Len() - 1) / max(1, min(looks, set.Len())-1))
		if cost := curve.Cost(f); cost > most {
			best, most = f, cost
		}
	}
	return best
}
