package deal

import (
	"fmt"
	"math"
	"time"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// A run that may have only a few nodes, for its licences or its ceiling, should
// have fast ones: where a faster one waits, a slower gives its place up at a
// frame border.

// Waits tells the dealer how to see which nodes have asked for work and wait
// for it. Without it nobody gives a place up to another.
func (d *Dealer) Waits(waits func(farm.NodeID) bool) { d.waits = waits }

// nodeLimited reports whether not all nodes may work on a run at once.
func (d *Dealer) nodeLimited(run *farm.Run) bool {
	return !run.Terms.Ceiling.None() || run.Spec.Licence != nil && d.s.Licences[run.Spec.Licence.Name] != nil
}

// replaceable reports whether nodes may give up their places in a run to faster ones.
func (d *Dealer) replaceable(run *farm.Run) bool {
	return d.waits != nil && run.Spec.Mode != farm.ModeWhole && d.nodeLimited(run)
}

// admitted returns those of a run's takers that may join it, the fastest first.
func (d *Dealer) admitted(run *farm.Run, takers []taker, now time.Time) []taker {
	sortTakers(takers)
	places := d.ceilingLeft(run, nil, now)
	licences, counted := capacity.LicencesFree(d.s, run, 0, now)
	joined := map[farm.NodeID]bool{}
	out := takers[:0]
	for _, t := range takers {
		more := joined[t.node.ID] || worksOn(t.node, run)
		takes := 0
		if counted && !(joined[t.node.ID] && run.Spec.Licence.Per == farm.PerNode) {
			takes = capacity.LicencesFor(d.s, run, t.node, 0)
		}
		if !more && places == 0 || takes > licences {
			continue
		}
		if !more {
			places--
		}
		licences -= takes
		joined[t.node.ID] = true
		out = append(out, t)
	}
	return out
}

// places returns how many more nodes may work on a run, without one lease if it
// is not nil.
func (d *Dealer) places(run *farm.Run, without *farm.Lease, now time.Time) int {
	gone := farm.LeaseID(0)
	if without != nil {
		gone = without.ID
	}
	free := d.ceilingLeft(run, without, now)
	if licences, counted := capacity.LicencesFree(d.s, run, gone, now); counted {
		least := 1 // the fewest that a node takes up
		if run.Spec.Licence.Per == farm.PerDevice {
			least = max(1, run.Spec.Takes.Devices)
		}
		free = min(free, licences/least)
	}
	return max(0, free)
}

// ceilingLeft returns how many more nodes the ceiling of a run lets work on it,
// without one lease if it is not nil.
func (d *Dealer) ceilingLeft(run *farm.Run, without *farm.Lease, now time.Time) int {
	most := run.Terms.Ceiling
	if most.None() {
		return math.MaxInt
	}
	nodes := map[farm.NodeID]bool{}
	for l := range run.OpenLeases {
		if l != without {
			nodes[l.Node] = true
		}
	}
	return max(0, most.Most(d.able(run, now))-len(nodes))
}

// forFaster asks for the lease of a run on its slowest node if it may have no
// more nodes and a faster one waits that would be worth another launch.
func (d *Dealer) forFaster(run *farm.Run, now time.Time, ask func(*farm.Lease, frames.Set, string)) {
	if !d.replaceable(run) || run.DealtCount() == 0 || d.places(run, nil, now) > 0 {
		return
	}
	v := d.surveyOf(run, now)
	var slow *load
	for i := range v.loads {
		l := &v.loads[i]
		if !l.rests && !l.goes && !l.lease.Race && (slow == nil || l.speed < slow.speed) {
			slow = l
		}
	}
	if slow == nil {
		return
	}
	better := d.faster(v, slow.node, slow.lease, now)
	if len(better) == 0 {
		return
	}
	ask(
		slow.lease, d.unbegun(slow.lease, run.SubmittedAt),
		fmt.Sprintf(
			"%s waits and is faster than %s, and %s may have no more nodes", better[0].node.Name, slow.node.Name,
			run.Spec.Name(),
		),
	)
}

// reservedFor says for whom a run keeps the places that it has left, or "" if the node
// may have one. warm is the lease whose renderer is up on it, or nil.
func (d *Dealer) reservedFor(n *farm.Node, run *farm.Run, warm *farm.Lease, now time.Time) string {
	if !d.replaceable(run) {
		return ""
	}
	if warm != nil && warm.Run != run.ID {
		warm = nil
	}
	if warm == nil && worksOn(n, run) {
		return ""
	}
	better := d.faster(d.surveyOf(run, now), n, warm, now)
	if len(better) == 0 {
		return ""
	}
	if free := d.places(run, warm, now); len(better) < free {
		return ""
	}
	return fmt.Sprintf(
		"%s may have few nodes, and keeps its place for %s, which waits and is faster", run.Spec.Name(),
		better[0].node.Name,
	)
}

// faster returns the nodes that wait and would be worth a launch in the place of
// a node, the fastest first. lease is what that has of the run, or nil where it
// would have to launch, too.
func (d *Dealer) faster(v *survey, n *farm.Node, lease *farm.Lease, now time.Time) (out []taker) {
	work, others, mine := v.todo, 0.0, capacity.Speed(d.m, n, v.run)
	for i := range v.loads {
		l := &v.loads[i]
		work += l.work
		if l.lease != lease {
			others += l.speed
		}
	}
	launch, left := v.launch(n), v.run.ToDo
	if lease != nil {
		launch, left = 0, left.Union(lease.Left)
	}
	alone := (work + mine*launch) / (others + mine) // seconds until all is done, if it goes on
	for _, o := range d.s.Roomy() {
		theirs := capacity.Speed(d.m, o, v.run)
		if o == n || theirs <= mine || !o.Ready() || !d.s.Idle(o.ID) || !d.waits(o.ID) ||
			!capacity.Fits(d.s, o, v.run) ||
			capacity.FreezeReason(d.s, o, v.run, now) != "" {
			continue
		}
		takes := v.launch(o)
		gain := alone - (work+theirs*takes)/(others+theirs)
		if gain <= takes/2+0.01*alone {
			continue
		}
		if most, _ := framesBeforeOffDuty(d.m, o, v.run, frames.Set{}, now); most == 0 {
			continue
		}
		if b := d.bars(v.run, now); d.distrusts(o.ID, v.run, now) ||
			!b.frames[o.ID].Empty() && left.Minus(b.frames[o.ID]).Empty() {
			continue
		}
		out = append(out, taker{node: o, speed: theirs, alone: d.m.Fetch(v.run, o) + work/theirs})
	}
	sortTakers(out)
	return out
}
