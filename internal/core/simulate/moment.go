package simulate

import (
	"maps"
	"math"
	"slices"
	"time"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/deal"
	"vexillum/internal/core/engine"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/triage"
)

// moment lets all happen that happens at the moment of an event, in one batch of
// the engine, and does what came of it.
func (w *world) moment(first event) error {
	w.now = max(w.now, first.at)
	w.e.Begin(w.at(w.now))
	w.happen(first)
	for {
		e, ok := w.events.peek()
		if !ok || e.at > w.now {
			break
		}
		w.events.next()
		w.happen(e)
	}
	for {
		w.askAll()
		out, err := w.finishBatch()
		if err != nil {
			return err
		}
		if w.unfinished == 0 {
			return nil
		}
		w.e.Begin(w.at(w.now))
		again := out.Again
		for _, a := range out.Answers {
			w.given(w.ids[a.Node], a)
		}
		for _, t := range out.Trims {
			again = w.answerTrim(t) || again
		}
		again = w.obey(out) || again
		if !again && len(w.wants) == 0 {
			break
		}
	}
	w.planTick()
	return nil
}

// finishBatch finishes a batch, and shows it to who wants to see it.
func (w *world) finishBatch() (engine.Batch, error) {
	out, err := w.e.Finish()
	if w.o.Script == nil || err != nil {
		return out, err
	}
	w.o.Script(w.script, out.Records)
	w.script = nil
	for again := out.Again; again; { // as a service decides at once what is left to decide
		w.e.Begin(w.at(w.now))
		more, err := w.e.Finish()
		if err != nil {
			return out, err
		}
		w.o.Script(nil, more.Records)
		again, out.Again = more.Again, false
		out.Answers, out.Trims = append(out.Answers, more.Answers...), append(out.Trims, more.Trims...)
		out.Orders, out.AllOrders = append(out.Orders, more.Orders...), out.AllOrders || more.AllOrders
	}
	return out, nil
}

// noted notes an event for who wants to see it.
func (w *world) noted(e Event) {
	if w.o.Script != nil {
		e.At = w.at(w.now)
		w.script = append(w.script, e)
	}
}

func (w *world) happen(e event) {
	switch e.kind {
	case submits:
		w.submit(e.index)
	case joins:
		w.join(e.index)
	case leaves:
		w.leave(e.index)
	case ticks:
		if e.at >= w.ticksAt {
			w.ticksAt = math.Inf(1)
		}
		if w.o.Script != nil { // the ticks of a service are its own
			w.events.plan(w.now+1, ticks, 0, 0, nil)
		}
		w.e.Tick()
	case beats:
		if m := &w.machines[e.index]; m.there && m.session == e.stamp {
			w.beat(e.index)
			w.events.plan(w.now+beatPause, beats, e.index, e.stamp, nil)
		}
	case started:
		if e.work.stamp == e.stamp {
			w.begin(e.index, e.work)
		}
	case ended:
		if e.work.stamp == e.stamp {
			w.frameEnds(e.index, e.work)
		}
	}
}

func (w *world) submit(job int) {
	id := w.s.LastRun + 1
	w.runs[id] = job
	spec := w.farm.Jobs[job].Spec
	spec.Wait, spec.Passes = false, nil // nobody is there to say yes, and a frame is one file
	spec.Number = w.s.NextNumber(spec.Project, spec.Job, spec.Kind)
	if spec.Sequence == farm.ScoutsFirst && spec.Scouts.Empty() {
		spec.Scouts = deal.Scouts(w.m, &farm.Run{ID: id, Spec: spec})
	}
	for _, a := range w.farm.Jobs[job].After {
		for of, index := range w.runs {
			if index == a.Job {
				spec.After = append(spec.After, farm.After{Run: of, Frames: a.Frames})
			}
		}
	}
	state, _ := w.s.Begins(spec)
	submitted := farm.RunSubmitted{
		Run: id, Spec: spec, State: state, Order: w.s.LastOrder + 1, At: w.at(w.now),
	}
	w.noted(Event{Submit: &submitted})
	w.e.Append(submitted)
	if w.e.Err() != nil {
		return
	}
	for frame, on := range w.farm.Jobs[job].Failed {
		for _, i := range on {
			w.s.PutTrouble(id, frame, w.machines[i].id)
		}
	}
	for _, i := range w.farm.Jobs[job].Launched {
		w.m.BelieveLaunched(w.s.Runs[id], w.machines[i].id)
	}
}

func (w *world) join(i int) {
	n, m := &w.farm.Nodes[i], &w.machines[i]
	if m.there {
		return
	}
	renderers := w.renderers
	if n.Recipes != nil {
		renderers = slices.DeleteFunc(
			slices.Clone(renderers), func(r farm.Renderer) bool { return !slices.Contains(n.Recipes, r.Recipe) },
		)
	}
	if n.Version != "" {
		renderers = slices.Clone(renderers)
		for r := range renderers {
			renderers[r].Version = n.Version
		}
	}
	node := n.AsNode(m.id, renderers)
	if w.s.Nodes[m.id] == nil {
		w.s.PutNode(node)
		if n.Leaves > 0 {
			w.events.plan(n.Leaves, leaves, i, 0, nil)
			if n.Returns > n.Leaves {
				w.events.plan(n.Returns, joins, i, 0, nil)
			}
		}
	}
	m.there, m.joined = true, w.now
	delete(w.gone, i)
	w.noted(Event{Node: m.id, Start: &node.Facts})
	w.e.Start(m.id, node.Facts, nil)
	m.asks = 0
	if m.session++; w.o.Script != nil {
		w.events.plan(w.now+beatPause, beats, i, m.session, nil)
	}
	w.want(i, nil, nil)
	if n.Hours != nil {
		w.tickSoon(w.now)
	}
}

// leave lets a machine vanish. The farm learns it as it would: by silence.
func (w *world) leave(i int) {
	m := &w.machines[i]
	if !m.there {
		return
	}
	for _, k := range slices.Clone(m.works) {
		if k.begun {
			w.tried(i, k, Stopped)
		}
		w.drop(i, k)
	}
	m.present += w.now - m.joined
	m.there = false
	w.gone[i] = true
	w.noted(Event{Node: m.id, Gone: true})
	w.e.Forget(m.id)
	if w.o.Script == nil {
		w.e.Seen(m.id) // until now
		w.tickSoon(w.now + triage.SilentAfter.Seconds() + 1e-3)
	}
}

// beatPause is how often, in seconds, a machine gives a sign of life where that
// matters.
const beatPause = 2

// beat is a machine's sign of life.
func (w *world) beat(i int) {
	m := &w.machines[i]
	leases := map[farm.LeaseID]engine.Progress{}
	for _, k := range m.works {
		var p engine.Progress
		if k.begun {
			frame := k.frame
			p.Frame = &frame
		}
		leases[k.lease.ID] = p
	}
	w.noted(Event{Node: m.id, Beat: maps.Clone(leases)})
	w.hear(m)
	w.e.Beat(m.id, leases, -1)
}

// hear lets the engine know that a machine is heard from, where that matters.
func (w *world) hear(m *machine) {
	if w.o.Script != nil {
		w.e.Hear(m.id)
	}
}

// tickSoon plans that the engine is told the time.
func (w *world) tickSoon(at float64) {
	if at < w.ticksAt {
		w.ticksAt = at
		w.events.plan(at, ticks, 0, 0, nil)
	}
}

// planTick plans the next time at which the engine has something to do though
// nothing happens.
func (w *world) planTick() {
	if w.o.Script != nil {
		return
	}
	seconds := func(t time.Time) float64 { return max(t.Sub(w.farm.Start).Seconds(), w.now+1e-3) }
	if at, ok := w.e.LooksAt(); ok {
		w.tickSoon(seconds(at))
	}
	deciding := false
	for run := range w.runs {
		r := w.s.Runs[run]
		deciding = deciding || !r.State.Closed() && !r.ToDo.Empty()
	}
	if w.yields && deciding {
		w.tickSoon(seconds(w.e.YieldsAt()))
	}
	for _, l := range w.s.Licences {
		if l.LoweredUntil.After(w.at(w.now)) {
			w.tickSoon(seconds(l.LoweredUntil) + 1e-3)
		}
	}
	for _, wait := range w.s.Waits {
		if wait.Scout == 0 {
			w.tickSoon(max(seconds(wait.Until), w.now+waitLook))
		}
	}
	for _, i := range slices.Sorted(maps.Keys(w.aside)) {
		if at, ok := w.trialAt(w.s.Nodes[w.machines[i].id]); ok {
			w.tickSoon(max(seconds(at), w.now+trialLook))
		}
	}
	for _, i := range slices.Sorted(maps.Keys(w.gone)) {
		if w.listened(w.machines[i].id) {
			w.tickSoon(w.now + silencePause)
		} else {
			delete(w.gone, i)
		}
	}
	for _, i := range w.withHours {
		if m, n := &w.machines[i], &w.farm.Nodes[i]; m.there {
			if _, until := n.Hours.At(w.at(w.now)); !until.IsZero() {
				w.tickSoon(seconds(until))
			}
		}
	}
}

// trialAt returns when a node that is set aside, or a device of it, is tried next; false
// where it is not by itself, or just now.
func (w *world) trialAt(n *farm.Node) (at time.Time, ok bool) {
	if n.Health == farm.Sidelined && !n.TrialAt.IsZero() && w.s.Idle(n.ID) {
		at, ok = n.TrialAt, true
	}
	for _, a := range n.Aside {
		if !a.Back && !a.TrialAt.IsZero() && (!ok || a.TrialAt.Before(at)) {
			at, ok = a.TrialAt, true
		}
	}
	return at, ok
}

// waitLook is how often, in seconds, it is looked whether a frame can try whether what
// others wait for is back.
const waitLook = 1

// trialLook is how often, in seconds, it is looked whether a machine that is set aside can
// be tried.
const trialLook = 5

// silencePause is how often, in seconds, it is looked whether the work of a
// machine that has vanished is taken from it.
const silencePause = 1

// listened reports whether the farm still has to find out that a machine has
// vanished.
func (w *world) listened(id farm.NodeID) bool {
	n := w.s.Nodes[id]
	return n != nil && (n.Reach == farm.Online || !w.s.Idle(id))
}

// yieldPause spaces the looks at what comes first: the longer the play, the less
// often.
func (w *world) yieldPause(time.Time) time.Duration {
	step := max(1, w.now/2000)
	if w.o.Coarse {
		step = max(5, w.now/200)
	}
	return time.Duration(step * float64(time.Second))
}

// want lets a machine ask for work at the end of the moment.
func (w *world) want(i int, warm *work, ended []engine.Ended) {
	w.wants = append(w.wants, wanting{i, warm, ended})
}

// askAll lets the machines ask that want to, the fastest first.
func (w *world) askAll() {
	w.sortWants()
	for len(w.wants) > 0 && w.e.Err() == nil {
		wants := w.wants
		w.wants = nil
		for _, x := range wants {
			w.ask(x)
		}
	}
}

func (w *world) ask(x wanting) {
	m := &w.machines[x.machine]
	if !m.there {
		return
	}
	if x.warm != nil && (x.warm.over || !x.warm.lease.Open()) {
		x.warm = nil
	}
	m.asks++
	q := engine.Question{Number: m.asks, Ended: x.ended, Memory: w.memory(x.machine)}
	if x.warm != nil {
		q.Warm = x.warm.lease.ID
	}
	w.noted(Event{Node: m.id, Ask: &q})
	w.hear(m)
	a, waits := w.e.Ask(m.id, q)
	switch {
	case x.warm != nil && len(a.Leases) == 0: // the renderer that is up ends
		w.through(x.machine, x.warm)
	case waits: // the answer comes with a batch
	case len(a.Leases) > 0:
		w.given(x.machine, a)
	case len(x.ended) > 0: // answered, so that the node may clean up; it asks again
		w.want(x.machine, nil, nil)
	}
}

// memory is what a machine measures, where launches grow to known amounts.
func (w *world) memory(i int) *capacity.Memory {
	n := &w.farm.Nodes[i]
	if !w.measures || n.Memory == 0 {
		return nil
	}
	out := &capacity.Memory{Free: n.Memory, Used: map[farm.LeaseID]int64{}}
	for _, k := range w.machines[i].works {
		used := w.farm.Jobs[k.job].Memory
		out.Free -= used
		out.Used[k.lease.ID] = used
	}
	return out
}

// given lets a machine begin with the leases of an answer.
func (w *world) given(i int, a engine.Answer) {
	m := &w.machines[i]
	for _, l := range a.Leases {
		k := m.workOn(l)
		if k == nil {
			k = &work{lease: l, job: w.runs[l.Run]}
			if len(m.works) == 0 {
				m.busyFrom = w.now
			}
			m.works = append(m.works, k)
			w.start(i, k)
			continue
		}
		w.goOn(i, k, k.failed)
	}
	if a.More {
		w.want(i, nil, nil)
	}
}

// answerTrim lets a machine give back what it has not begun. It reports whether
// anything was decided.
func (w *world) answerTrim(t engine.Trim) bool {
	i := w.ids[t.Node]
	m := &w.machines[i]
	l := w.s.Lease(t.Lease)
	if !m.there || l == nil {
		return false // nobody answers
	}
	k := m.workOn(l)
	given := t.Frames.Intersect(l.Left)
	if k != nil && k.begun {
		given = given.Minus(frames.One(k.frame))
	}
	w.noted(Event{Node: t.Node, Trim: &TrimAnswer{t.ID, t.Lease, given}})
	w.hear(m)
	w.e.Trimmed(t.Node, t.ID, t.Lease, given)
	if k != nil && !k.begun && l.Left.Empty() { // its launch is stopped before it has begun anything
		w.through(i, k)
	}
	return true
}

// obey ends the leases that have to end. It reports whether anything was
// decided.
func (w *world) obey(out engine.Batch) (acted bool) {
	nodes := out.Orders
	if out.AllOrders {
		nodes = slices.Sorted(maps.Keys(w.ids))
	}
	for _, id := range nodes {
		i := w.ids[id]
		m := &w.machines[i]
		if !m.there || len(m.works) == 0 {
			continue
		}
		for _, o := range w.e.Orders(id, m.leases()) {
			k := m.workOn(w.s.Lease(o.Lease))
			switch {
			case k == nil:
			case k.begun && !o.Now:
				k.stops = true
			default:
				if k.begun {
					w.tried(i, k, Stopped)
					if k.lease.Superseded {
						w.tries[k.job][k.frame]-- // it was not its fault, and nobody tries again
					}
				}
				w.through(i, k)
				acted = true
			}
		}
	}
	return acted
}
