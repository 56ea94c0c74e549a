package play

import (
	"vexillum/internal/core/farm"
)

// resume puts the farm into the middle of its work.
func (w *world) resume() error {
	if len(w.farm.Holdings) == 0 {
		return nil
	}
	for job, j := range w.farm.Jobs {
		if j.Submitted <= 0 {
			if err := w.submit(job); err != nil {
				return err
			}
		}
	}
	for i, n := range w.farm.Nodes {
		if n.Joins <= 0 {
			if err := w.join(i); err != nil {
				return err
			}
		}
	}
	for _, h := range w.farm.Holdings {
		i, m := h.Node, &w.machines[h.Node]
		run := farm.RunID(0)
		for id, job := range w.runs {
			if job == h.Job {
				run = id
			}
		}
		m.asks++
		node := w.s.Nodes[m.id]
		records := []farm.Record{farm.LeaseOpened{Lease: w.s.LastLease + 1, Node: m.id, Run: run, Session: node.Session, Ask: m.asks, Frames: h.Frames, Reason: "it is at work on them", At: w.at(0)}}
		if w.s.Runs[run].State == farm.RunQueued {
			records = append(records, farm.RunMoved{Run: run, State: farm.RunRendering, Reason: "it is at work", At: w.at(0)})
		}
		if err := w.apply(records...); err != nil {
			return err
		}
		delete(w.idle, i)
		m.lease, m.job, m.busyFrom = w.s.Lease(w.s.LastLease), h.Job, 0
		m.launch++
		w.launches[m.job]++
		m.begun, m.since = h.Begun, -h.Elapsed
		if !h.Begun {
			m.loading = w.startup(i, h.Job)
			w.events.plan(max(0.02*h.Elapsed, m.loading-h.Elapsed), started, i, m.gone)
			continue
		}
		w.launched[h.Job][i] = true
		m.warm = w.farm.Jobs[h.Job].Spec.Mode == farm.ModeFeed
		m.frame, m.try = h.InFlight, 0
		seconds, _ := w.lasts(h.Job, i, h.InFlight, 0)
		// It has lasted so long already: what is left is at least a little.
		w.events.plan(max(seconds-h.Elapsed, 0.05*min(h.Elapsed, seconds)), ended, i, m.gone)
	}
	return nil
}
