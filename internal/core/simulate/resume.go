package simulate

import "vexillum/internal/core/farm"

// resume puts the farm into the middle of its work.
func (w *world) resume() error {
	if len(w.farm.Holdings) == 0 {
		return nil
	}
	w.e.Begin(w.at(0))
	for job, j := range w.farm.Jobs {
		if j.Submitted <= 0 {
			w.submit(job)
		}
	}
	for i, n := range w.farm.Nodes {
		if n.Joins <= 0 {
			w.join(i)
		}
	}
	byJob := map[int]farm.RunID{}
	for id, job := range w.runs {
		byJob[job] = id
	}
	for _, h := range w.farm.Holdings {
		w.hold(h, byJob[h.Job])
	}
	// Who holds nothing asks in the first moment.
	w.events.plan(0, ticks, 0, 0, nil)
	_, err := w.e.Finish()
	return err
}

// hold lets a machine be at work on a lease as the play begins.
func (w *world) hold(h Holding, run farm.RunID) {
	i, m := h.Node, &w.machines[h.Node]
	m.asks++
	node := w.s.Nodes[m.id]
	w.e.Append(farm.LeaseOpened{
		Lease: w.s.LastLease + 1, Node: m.id, Run: run, Session: node.Session, Ask: m.asks, Frames: h.Frames,
		Share:  h.Share,
		Reason: "it is at work on them", At: w.at(0),
	})
	if w.e.Err() == nil && w.s.Runs[run].State == farm.RunQueued {
		w.e.Append(farm.RunMoved{Run: run, State: farm.RunRendering, Reason: "it is at work", At: w.at(0)})
	}
	if w.e.Err() != nil {
		return
	}
	for j, x := range w.wants { // it asks when it is through
		if x.machine == i {
			w.wants = append(w.wants[:j], w.wants[j+1:]...)
			break
		}
	}
	k := &work{lease: w.s.Lease(w.s.LastLease), job: h.Job}
	if len(m.works) == 0 {
		m.busyFrom = 0
	}
	m.works = append(m.works, k)
	m.launch++
	k.launch = m.launch
	w.launches[k.job]++
	k.begun, k.since = h.Begun, -h.Elapsed
	if !h.Begun {
		k.loading, k.fetched = w.startup(i, h.Job), w.fetch(i, h.Job)
		w.plan(max(0.02*h.Elapsed, k.fetched.Seconds+k.loading-h.Elapsed), started, i, k)
		return
	}
	w.launched[h.Job][i] = true
	w.obtain(w.farm.Jobs[h.Job].Spec.Bundle, i)
	k.warm = w.farm.Jobs[h.Job].Spec.Mode == farm.ModeFeed
	k.frame = h.InFlight
	w.e.Begun(m.id, k.lease.ID, k.frame, w.at(-h.Elapsed))
	seconds, f := w.lasts(h.Job, i, h.InFlight, 0, k.lease.Share)
	k.fault = f
	seconds /= w.part(i, k)
	// It has lasted so long already: what is left is at least a little.
	w.plan(max(seconds-h.Elapsed, 0.05*min(h.Elapsed, seconds)), ended, i, k)
}
