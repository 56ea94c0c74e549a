package deal

import (
	"fmt"
	"slices"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/span"
)

// Cut is the end of a lease that a node shall be asked to give back.
type Cut struct {
	Lease  farm.LeaseID
	Node   farm.NodeID // that holds it
	Frames frames.Set
	Ahead  time.Duration // by which the lease would end earlier without these frames
	Reason string
}

// TookOver says who took what over from whom, and by how much the finish comes
// forward.
func TookOver(taker, owner string, set frames.Set, ahead time.Duration) string {
	return fmt.Sprintf("%s takes %s over from %s: finish %s earlier", taker, set, owner, span.Text(ahead))
}

// TakeOver finds, for a node with nothing to do, a lease whose end it should
// take over. All leases of a run and all nodes that could help have a time at
// which they could be done together, launches counted; the node takes what it
// can finish by then. It returns false where that would not bring the end of
// that lease forward by more than it costs, and after which time another
// answer may come even if no lease has ended by then.
func (d *Dealer) TakeOver(id farm.NodeID, now time.Time) (cut Cut, ok bool, again time.Duration) {
	n := d.s.Nodes[id]
	if n == nil || !n.Ready() {
		return Cut{}, false, backoffMost
	}
	return d.takeOver(n, nil, now)
}

// first finds the end of a lease that a node should take over before it begins
// with a run: one of a run that is more urgent, and of which all is dealt.
func (d *Dealer) first(n *farm.Node, than *farm.Run, warm *farm.Lease, now time.Time) (Cut, bool) {
	queue := d.s.Queue()
	idle := d.s.Idle(n.ID) || warm != nil && len(d.s.LeasesOf(n.ID)) == 1
	if len(queue) == 0 || queue[0].Terms.Level.Rank() >= than.Terms.Level.Rank() || !idle {
		return Cut{}, false
	}
	cut, ok, _ := d.takeOver(n, than, now)
	return cut, ok
}

// takeOver looks through all runs, or those that are more urgent than one.
func (d *Dealer) takeOver(n *farm.Node, than *farm.Run, now time.Time) (cut Cut, ok bool, again time.Duration) {
	again = backoffMost
	for run := range d.queue.InTurn(now) {
		if than != nil && run.Terms.Level.Rank() >= than.Terms.Level.Rank() {
			break
		}
		if run.State != farm.RunRendering || run.Spec.Mode == farm.ModeWhole || run.Spec.Chunk > 0 {
			continue
		}
		old := d.takeOverBackoffs[run.ID]
		if now.Before(old.until) && old.open == run.OpenCount() && old.last == d.s.LastLease {
			again = min(again, old.until.Sub(now))
			continue
		}
		if !d.m.Curve(run).Known() || !d.may(n, run, now) || d.distrusts(n.ID, run, now) {
			continue
		}
		most, _ := framesBeforeOffDuty(d.m, n, run, frames.Set{}, now)
		if most == 0 {
			continue
		}
		v := d.surveyOf(run, now)
		p := v.plan()
		if p != nil {
			if cut, ok := v.cut(d, p, n, most); ok {
				return cut, true, 0
			}
			if slices.ContainsFunc(p.pieces, func(x piece) bool { return x.taker >= 0 }) {
				continue // it is for others that wait
			}
		}
		wait := min(max(span.Of(backoffPart*v.finish()), backoffLeast), backoffMost)
		d.takeOverBackoffs[run.ID] = takeOverBackoff{until: now.Add(wait), open: run.OpenCount(), last: d.s.LastLease}
		again = min(again, wait)
	}
	return Cut{}, false, again
}

// cut returns what a plan has for a node, at most the given number of frames.
func (v *survey) cut(d *Dealer, p *plan, n *farm.Node, most int) (Cut, bool) {
	best := -1 // the largest piece that the plan has for the node
	for i, x := range p.pieces {
		if x.taker >= 0 && v.takers[x.taker].node == n && (best < 0 || x.frames > p.pieces[best].frames) {
			best = i
		}
	}
	if best < 0 {
		return Cut{}, false
	}
	from := &v.loads[p.pieces[best].from]
	if !from.lease.Open() { // it has ended since the survey
		return Cut{}, false
	}
	take := min(p.pieces[best].frames, most)
	ahead := from.end - p.then
	if ahead <= 0.1*v.startup {
		return Cut{}, false
	}
	delete(d.surveys, v.run.ID) // it will not be so any more
	tail := from.left.Intersect(from.lease.Left).TakeLast(take).Minus(d.bars(v.run, v.at).frames[n.ID])
	if in, _ := framesBeforeOffDuty(d.m, n, v.run, tail, v.at); in < tail.Len() {
		tail = tail.TakeLast(in)
	}
	if tail.Empty() {
		return Cut{}, false
	}
	work := v.curve.Work(tail)
	if apiece(v.run) {
		work += v.again * from.speed * float64(tail.Len())
	}
	ahead = min(ahead, work/from.speed) // the rest is what others take of it
	out := Cut{Lease: from.lease.ID, Node: from.node.ID, Frames: tail, Ahead: span.Of(ahead)}
	out.Reason = TookOver(n.Name, from.node.Name, tail, out.Ahead)
	return out, true
}
