package deal

import (
	"fmt"
	"math"
	"time"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/span"
)

// A race is worth while if it is expected to end after at most this part of
// what the frame in flight still takes.
const racePart = 0.7

// raceBackoff remembers that a node of some speed found nothing of a run worth racing
// for.
type raceBackoff struct {
	takeOverBackoff
	speed float64
}

// Race finds, for a node with nothing to do, a last frame in flight on another
// node that it would have done much earlier, and lets it render that, too. The
// first good picture counts.
func (d *Dealer) Race(ask Ask, now time.Time) Decision {
	n := d.s.Nodes[ask.Node]
	if n == nil || !n.Ready() || !d.s.Idle(n.ID) {
		return Decision{Why: "only a ready node with nothing to do may race"}
	}
	for run := range d.queue.InTurn(now) {
		if run.State != farm.RunRendering || run.Spec.Mode == farm.ModeWhole || run.Spec.Once || !run.ToDo.Empty() ||
			run.DealtCount() == 0 {
			continue
		}
		mine := capacity.Speed(d.m, n, run)
		if calm := d.raceBackoffs[run.ID]; now.Before(calm.until) && calm.open == run.OpenCount() &&
			calm.last == d.s.LastLease &&
			mine <= calm.speed {
			continue // a node that is faster has just found nothing
		}
		if !d.m.Curve(run).Known() || !d.may(n, run, now) || d.distrusts(n.ID, run, now) {
			continue
		}
		if most, _ := framesBeforeOffDuty(d.m, n, run, frames.Set{}, now); most == 0 {
			continue
		}
		share, full := capacity.Room(d.s, d.m, n, run, ask.Memory, nil)
		if full != "" {
			continue
		}
		v := d.surveyOf(run, now)
		var best *load
		var frame int
		launch := v.launch(n)
		most := 0.5 * launch // gained, at least
		for i := range v.loads {
			l := &v.loads[i]
			f, ok := d.flight(v, l)
			if !ok || l.node == n || mine < f.least || run.Trouble[f.frame].FailedOn(n.ID) {
				continue
			}
			takes := launch + f.cost/mine
			// what looks through all leases comes last
			if takes < racePart*f.left && f.left-takes > most && !run.Raced(f.frame) && !v.sooner(n, l, f.cost, takes) {
				best, frame, most = l, f.frame, f.left-takes
			}
		}
		if best == nil {
			wait := min(max(span.Of(backoffPart*v.finish()), backoffLeast), backoffMost)
			d.raceBackoffs[run.ID] = raceBackoff{
				takeOverBackoff{until: now.Add(wait), open: run.OpenCount(), last: d.s.LastLease}, mine,
			}
			continue
		}
		why := fmt.Sprintf(
			"%s races %s for frame %d: it should finish it %s earlier", n.Name, best.node.Name, frame, inAbout(most),
		)
		if best.node.Reach == farm.Silent {
			why = fmt.Sprintf("%s renders frame %d, too: %s, which has it, is silent", n.Name, frame, best.node.Name)
		}
		return Decision{Why: why, Records: []farm.Record{farm.LeaseOpened{
			Lease: d.s.LastLease + 1, Node: n.ID, Run: run.ID, Session: n.Session, Ask: ask.Number,
			Frames: frames.One(frame), Share: share, Race: true, Reason: why, At: now,
		}}}
	}
	return Decision{Why: "there is nothing to race for"}
}

// inFlight is a frame in flight that can be raced for.
type inFlight struct {
	frame int
	left  float64 // seconds that its node is expected still to take
	cost  float64 // reference seconds that another node would need
	least float64 // speed of a node that may race
}

// flight returns the frame of a lease that can be raced for.
func (d *Dealer) flight(v *survey, l *load) (inFlight, bool) {
	if l.lease.Left.Empty() {
		return inFlight{}, false
	}
	seen := d.sight(l.lease)
	if l.node.Reach == farm.Silent { // whatever it does, nobody hears of it
		f := l.lease.Left.First()
		if seen.Begun && l.lease.Left.Has(seen.Frame) {
			f = seen.Frame
		}
		return inFlight{frame: f, left: math.Inf(1), cost: v.curve.Cost(f)}, true
	}
	if !l.left.Empty() || !seen.Begun || !l.lease.Left.Has(seen.Frame) {
		return inFlight{}, false
	}
	out := inFlight{frame: seen.Frame, left: l.free, cost: v.curve.Cost(seen.Frame)}
	switch expected := out.cost / l.speed; {
	case seen.Seconds > stalls*expected:
		// As likely as not it takes as long again. It may have stalled; or it is
		// dear, and then a slower node is of no use.
		out.left = max(out.left, seen.Seconds)
		if seen.Seconds < 3*stalls*expected {
			out.least = 0.9 * l.speed
		}
	case seen.Seconds > expected: // it costs more than was thought, wherever it is rendered
		out.cost = (seen.Seconds + out.left) * l.speed
	}
	return out, true
}

// sooner reports whether a node that is through with its part soon would have
// a frame done before one that is free now, and needs the given seconds.
func (v *survey) sooner(n *farm.Node, owner *load, cost, takes float64) bool {
	for i := range v.loads {
		o := &v.loads[i]
		if o != owner && o.node != n && !o.goes && o.left.Empty() && o.free+v.again+cost/o.speed < takes {
			return true
		}
	}
	return false
}
