package play

import (
	"slices"

	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/span"
	"vexillum/internal/core/triage"
)

func (w *world) submit(job int) error {
	id := w.s.LastRun + 1
	w.runs[id] = job
	spec := w.farm.Jobs[job].Spec
	spec.Number = w.s.NextNumber(spec.Project, spec.Job, spec.Kind)
	if spec.Sequence == farm.ScoutsFirst && spec.Scouts.Empty() {
		spec.Scouts = deal.Scouts(w.m, &farm.Run{ID: id, Spec: spec})
	}
	if err := w.apply(farm.RunSubmitted{Run: id, Spec: spec, State: farm.RunQueued, Order: w.s.LastOrder + 1, At: w.at(w.now)}); err != nil {
		return err
	}
	for frame, on := range w.farm.Jobs[job].Failed {
		for _, i := range on {
			w.s.PutTrouble(id, frame, w.machines[i].id)
		}
	}
	for _, i := range w.farm.Jobs[job].Launched {
		w.m.BelieveLaunched(w.s.Runs[id], w.machines[i].id)
	}
	w.askSoon()
	w.yieldSoon()
	return nil
}

func (w *world) join(i int) error {
	n, m := &w.farm.Nodes[i], &w.machines[i]
	renderers := w.renderers
	if n.Recipes != nil {
		renderers = slices.DeleteFunc(slices.Clone(renderers), func(r farm.Renderer) bool { return !slices.Contains(n.Recipes, r.Recipe) })
	}
	facts := n.AsNode(m.id, renderers).Facts
	if w.s.Nodes[m.id] == nil {
		w.s.PutNode(n.AsNode(m.id, renderers))
		if n.Leaves > 0 {
			w.events.plan(n.Leaves, leaves, i, 0)
		}
		if n.Leaves > 0 && n.Returns > n.Leaves {
			w.events.plan(n.Returns, joins, i, 0)
		}
	}
	if m.there {
		return nil
	}
	if err := w.lose(i, w.farm.Nodes[i].Name+" has started anew"); err != nil {
		return err
	}
	m.there, m.joined = true, w.now
	node := w.s.Nodes[m.id]
	if err := w.apply(farm.NodeStarted{Node: m.id, Session: node.Session + 1, Facts: facts, At: w.at(w.now)}); err != nil {
		return err
	}
	w.idle[i] = true
	w.askSoon()
	if n.Hours != nil {
		return w.duties(i)
	}
	return nil
}

// duties lets nodes come on duty and go off it by their hours. At the end of
// its hours the owner of a machine wins.
func (w *world) duties(i int) error {
	for _, rec := range deal.Duty(w.s, w.at(w.now)) {
		if err := w.apply(rec); err != nil {
			return err
		}
		at := w.ids[rec.About().Node]
		m := &w.machines[at]
		if w.s.Nodes[m.id].Duty == farm.OnDuty {
			w.askSoon()
			continue
		}
		if m.begun {
			w.tried(at, Stopped)
		}
		m.gone++
		if m.lease != nil {
			if err := w.end(at); err != nil {
				return err
			}
			w.askSoon()
		}
		if m.there {
			w.idle[at] = true
		}
	}
	if _, until := w.farm.Nodes[i].Hours.At(w.at(w.now)); !until.IsZero() {
		w.events.plan(until.Sub(w.farm.Start).Seconds()+1e-6, duty, i, 0)
	}
	return nil
}

// leave lets a machine vanish. The farm learns it as it would: by silence.
func (w *world) leave(i int) error {
	m := &w.machines[i]
	if !m.there {
		return nil
	}
	spent := 0.0
	m.told, m.mute = deal.Sight{Begun: m.begun, Frame: m.frame}, 0
	if m.begun {
		spent = w.now - m.since
		w.tried(i, Stopped)
	}
	w.rest(i)
	m.present += w.now - m.joined
	m.there, m.warm, m.begun = false, false, false
	m.gone++
	delete(w.idle, i)
	w.events.plan(w.now+triage.SilentAfter.Seconds(), freed, i, -m.gone)
	after := triage.FreeAfter(span.Of(spent))
	w.events.plan(w.now+max(after, triage.SilentAfter).Seconds(), freed, i, m.gone)
	return nil
}

// free is what happens to a silent node: first it is shown silent, then its
// frames are dealt anew.
func (w *world) free(i, stamp int) error {
	m := &w.machines[i]
	if m.there || stamp != m.gone && stamp != -m.gone {
		return nil
	}
	if stamp < 0 {
		w.askSoon()                                                       // what was left to it may be for others now
		w.events.plan(w.now+deal.BackFromSilence.Seconds()+1, asks, 0, 0) // and what waits for it, later
		return w.apply(farm.NodeReach{Node: m.id, Reach: farm.Silent, Reason: "nothing was heard from it for 15 s", At: w.at(w.now)})
	}
	if err := w.lose(i, w.farm.Nodes[i].Name+" has been silent for too long"); err != nil {
		return err
	}
	return w.wake()
}

// lose takes the lease of a machine back whose renderer is gone.
func (w *world) lose(i int, why string) error {
	m := &w.machines[i]
	if m.lease == nil {
		return nil
	}
	l := m.lease
	m.lease = nil
	if len(w.idle) > 0 && !w.s.Runs[l.Run].ToDo.Empty() {
		w.askSoon() // what it did not take may be for those that wait
	}
	return w.apply(farm.LeaseEnded{Lease: l.ID, Node: m.id, Run: l.Run, Reason: why, At: w.at(w.now)})
}
