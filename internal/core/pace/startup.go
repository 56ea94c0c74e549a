package pace

import "vexillum/internal/core/farm"

// launches is how many seconds the launches of a run took until their first
// frame. The first on a node reads everything from its place; for further ones
// it is at hand.
type launches struct {
	on           map[farm.NodeID]bool // nodes on which it was launched
	first, again tally
}

// habit is what launches of a recipe took in all runs.
type habit struct {
	first tally // seconds, on nodes that had not launched the run before
	part  tally // of that, of further launches
}

// launched learns from one launch of a run on a node.
func (m *Model) launched(k *known, run *farm.Run, n farm.NodeID, seconds float64) {
	all := m.habits[run.Spec.Recipe]
	if all == nil {
		all = &habit{}
		m.habits[run.Spec.Recipe] = all
	}
	l := &k.launches
	if !l.on[n] {
		l.mark(n)
		l.first.add(seconds)
		all.first.add(seconds)
		return
	}
	l.again.add(seconds)
	if l.first.n > 0 {
		all.part.add(seconds / l.first.mean)
	}
}

func (l *launches) mark(n farm.NodeID) {
	if l.on == nil {
		l.on = map[farm.NodeID]bool{}
	}
	l.on[n] = true
}

// Launched reports whether a launch of the run on the node has come to a first
// frame.
func (m *Model) Launched(run *farm.Run, n farm.NodeID) bool {
	k := m.runs[run.ID]
	return k != nil && k.launches.on[n]
}

// launchesOf returns what launches of a run took, or of the run of its job
// before as long as none of its own was seen; or nil.
func (m *Model) launchesOf(run *farm.Run) *launches {
	if k := m.runs[run.ID]; k != nil && k.launches.first.n > 0 {
		return &k.launches
	}
	return m.starts[jobOf(run)]
}

// Startup returns the seconds from the first launch of a run on a node to its
// first frame, and false as long as no launch of the run, of its job or of its
// recipe has been seen.
func (m *Model) Startup(run *farm.Run) (Estimate, bool) {
	if l := m.launchesOf(run); l != nil {
		return l.first.estimate()
	}
	if all := m.habits[run.Spec.Recipe]; all != nil {
		return all.first.estimate()
	}
	return Estimate{}, false
}

// Relaunch returns the same for further launches of the run on a node. As long
// as none of the run has been seen it is as much shorter than the first as with
// other runs of the recipe.
func (m *Model) Relaunch(run *farm.Run) (Estimate, bool) {
	if l := m.launchesOf(run); l != nil && l.again.n > 0 {
		return l.again.estimate()
	}
	e, ok := m.Startup(run)
	if all := m.habits[run.Spec.Recipe]; ok && all.part.n > 0 {
		e.Mean *= min(1, all.part.mean)
	}
	return e, ok
}

// StartupOn returns Startup or Relaunch, whichever the next launch of the run
// on the node would be.
func (m *Model) StartupOn(run *farm.Run, n farm.NodeID) (Estimate, bool) {
	if m.Launched(run, n) {
		return m.Relaunch(run)
	}
	return m.Startup(run)
}
