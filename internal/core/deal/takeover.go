package deal

import (
	"fmt"
	"sort"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// Cut is the end of a lease that a node shall be asked to give back.
type Cut struct {
	Lease  farm.LeaseID
	Node   farm.NodeID // that holds it
	Frames frames.Set
	Reason string
}

// TakeOver finds, for a node with nothing to do, a lease whose end it should
// take over. All leases of a run and all nodes that could help have a time at
// which they could be done together; the node takes what it can finish by
// then from the lease that exceeds that time most. It returns false where that
// would not bring the end of that lease forward by more than it costs: half a
// start-up and a hundredth of what remains.
func (d *Dealer) TakeOver(id farm.NodeID, now time.Time) (Cut, bool) {
	n := d.s.Nodes[id]
	if n == nil || !n.Ready() {
		return Cut{}, false
	}
	for _, run := range d.s.Queue() {
		if run.State != farm.RunRendering || run.Spec.Mode == farm.ModeWhole || run.Spec.Chunk > 0 {
			continue
		}
		if !fits(d.s, n, run) || Stayed(d.s, n, run, now) != "" || !d.m.Curve(run).Known() {
			continue
		}
		most, _ := untilHome(d.m, n, run, now)
		if most == 0 {
			continue
		}
		if cut, ok := d.look(run, now).cut(d, n, most); ok {
			return cut, true
		}
	}
	return Cut{}, false
}

func (v *survey) cut(d *Dealer, n *farm.Node, most int) (Cut, bool) {
	mine := speed(d.m, n, v.run)
	var from *load
	for i := range v.loads {
		l := &v.loads[i]
		if l.rests || l.left.Empty() || l.node == n {
			continue
		}
		if from == nil || l.end > from.end {
			from = l
		}
	}
	if from == nil {
		return Cut{}, false
	}
	can := max(0, v.common-v.startup) * mine
	over := (from.end - v.common) * from.speed
	even := v.tail(from.left, min(can, over))
	take, finish, work := 0, from.end, 0.0
	for size := max(1, even); size <= min(even+1, from.left.Len(), most); size++ {
		w := v.curve.Work(from.left.TakeLast(size))
		if f := max(from.free+(from.work-w)/from.speed, v.startup+w/mine); f < finish {
			take, finish, work = size, f, w
		}
	}
	_ = work
	ahead := from.end - finish
	if take == 0 || ahead <= v.startup/2+from.end/100 {
		return Cut{}, false
	}
	tail := from.left.TakeLast(take).Minus(avoided(d.s, v.run, n))
	if tail.Empty() {
		return Cut{}, false
	}
	return Cut{Lease: from.lease.ID, Node: from.node.ID, Frames: tail, Reason: fmt.Sprintf("%s takes %s over from %s: finish %s earlier",
		n.Name, tail, from.node.Name, span(ahead))}, true
}

// tail returns how many of the last frames of a set cost no more than so many
// reference seconds together.
func (v *survey) tail(set frames.Set, seconds float64) int {
	return sort.Search(set.Len(), func(i int) bool { return v.curve.Work(set.TakeLast(i+1)) > seconds })
}
