package play

import (
	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/triage"
)

// start launches a renderer for the next frame of the machine's lease.
func (w *world) start(i int) {
	m := &w.machines[i]
	m.launch++
	w.launches[m.job]++
	m.begun, m.since, m.spoilt = false, w.now, nil
	m.loading = w.startup(i, m.job)
	w.events.plan(w.now+m.loading, started, i, m.gone)
}

// startup returns the seconds that a launch of a job on a machine takes.
func (w *world) startup(i, job int) float64 {
	j := &w.farm.Jobs[job]
	if j.Again > 0 && w.launched[job][i] {
		return j.Again
	}
	return j.Startup
}

// begin is the end of a start-up.
func (w *world) begin(i int) error {
	m := &w.machines[i]
	w.launched[m.job][i] = true
	if m.lease.Left.Empty() { // all was taken from it meanwhile
		return w.through(i)
	}
	m.warm = w.farm.Jobs[m.job].Spec.Mode == farm.ModeFeed
	w.next(i, m.lease.Left.First())
	m.first = true
	if w.waits {
		return w.wake()
	}
	return nil
}

func (w *world) next(i, frame int) {
	m := &w.machines[i]
	m.begun, m.first, m.frame, m.since = true, false, frame, w.now
	if m.lease.Race {
		w.tries[m.job][frame]++
	}
	m.try = w.tries[m.job][frame]
	seconds, _ := w.lasts(m.job, i, frame, m.try)
	w.events.plan(w.now+seconds, ended, i, m.gone)
}

func (w *world) tried(i int, result Result) {
	m := &w.machines[i]
	w.attempts = append(w.attempts, Attempt{
		Node: w.farm.Nodes[i].Name, Job: w.farm.Jobs[m.job].Spec.Job, Frame: m.frame, Launch: m.launch, Start: m.since, End: w.now, Result: result,
	})
	if result != Done {
		w.tries[m.job][m.frame]++
		if m.spoilt == nil {
			m.spoilt = map[int]bool{}
		}
		m.spoilt[m.frame] = true
	}
	m.begun = false
}

// frameEnds takes in what became of a frame and goes on with the next.
func (w *world) frameEnds(i int) error {
	m := &w.machines[i]
	l := m.lease
	run := w.s.Runs[l.Run]
	seconds := w.now - m.since
	_, fails := w.lasts(m.job, i, m.frame, m.try)
	if fails {
		w.tried(i, Failed)
		records := triage.Failed(w.s, triage.Failure{Lease: l.ID, Launch: m.launch, Frame: m.frame, Cause: triage.CauseCrash, Message: "exit status 1"}, w.at(w.now))
		if err := w.apply(records...); err != nil {
			return err
		}
		if run.State == farm.RunHeld { // nobody is there to release it
			return w.settle(run)
		}
	} else {
		w.tried(i, Done)
		accepted := farm.FrameAccepted{Run: run.ID, Frame: m.frame, Lease: l.ID, Node: m.id, Launch: m.launch, Hash: "-", RenderSeconds: seconds, At: w.at(w.now)}
		if m.first {
			accepted.StartupSeconds = m.loading
		}
		if err := w.apply(accepted); err != nil {
			return err
		}
		done := farm.FrameDone{Run: run.ID, Frame: m.frame, Lease: l.ID, Node: m.id, Hash: "-", At: w.at(w.now)}
		if err := w.apply(triage.Done(w.s, done, w.at(w.now))...); err != nil {
			return err
		}
		node := w.s.Nodes[m.id]
		w.m.Observe(run, node, node.Part(l.Share), accepted)
		w.hand.Receive(run.Spec.Project, run.Spec.Owner, seconds*node.Part(l.Share)*w.m.SpeedFor(node, run), w.at(w.now))
		if err := w.beaten(run); err != nil {
			return err
		}
		if len(w.idle) > 0 && !run.ToDo.Empty() && deal.Reconsider(w.m.Seen(run.ID)) {
			w.askSoon() // what is known now may change what suits those that wait
		}
	}
	if fails {
		if err := w.takeBack(); err != nil {
			return err
		}
		if err := w.wake(); err != nil {
			return err
		}
		if m.lease != l { // all was taken from it
			return nil
		}
	}
	if err := w.goOn(i, fails); err != nil {
		return err
	}
	if _, settled := run.Settled(); settled {
		return w.settle(run)
	}
	return nil
}

// beaten stops those who raced for a frame and were not first.
func (w *world) beaten(run *farm.Run) error {
	if run.Races() == 0 {
		return nil
	}
	for i := range w.machines {
		m := &w.machines[i]
		if m.lease == nil || m.lease.Run != run.ID || !m.lease.Beaten || !m.there {
			continue
		}
		if m.begun {
			w.tried(i, Stopped)
			w.tries[m.job][m.frame]-- // it was not its fault, and nobody tries again
		}
		m.gone++
		if err := w.end(i); err != nil {
			return err
		}
		w.idle[i] = true
		w.askSoon()
	}
	return nil
}

func (w *world) goOn(i int, failed bool) error {
	m := &w.machines[i]
	mode := w.farm.Jobs[m.job].Spec.Mode
	left := m.lease.Left
	if left.Empty() {
		if mode == farm.ModeFeed {
			return w.ask(i)
		}
		return w.through(i)
	}
	// A launch renders what follows; after a gap or a failure it is another.
	if !failed && left.First() == m.frame+1 && mode == farm.ModeRange || mode == farm.ModeFeed && !m.spoilt[left.First()] || mode == farm.ModeWhole && !failed {
		w.next(i, left.First())
		return nil
	}
	w.start(i)
	return nil
}

// through is a machine that has done all that its lease had.
func (w *world) through(i int) error {
	run := w.s.Runs[w.machines[i].lease.Run]
	if err := w.end(i); err != nil {
		return err
	}
	if _, settled := run.Settled(); settled {
		if err := w.settle(run); err != nil {
			return err
		}
	}
	return w.ask(i)
}

func (w *world) rest(i int) {
	m := &w.machines[i]
	if m.lease != nil {
		m.busy += w.now - m.busyFrom
		m.busyFrom = w.now
	}
}

// end ends the lease of a machine.
func (w *world) end(i int) error {
	m := &w.machines[i]
	w.rest(i)
	m.warm = false
	return w.lose(i, w.farm.Nodes[i].Name+" has finished its frames")
}

// settle ends a run in which nothing is left to do.
func (w *world) settle(run *farm.Run) error {
	if run.State.Closed() {
		return nil
	}
	job := w.runs[run.ID]
	for i := range w.machines {
		m := &w.machines[i]
		if m.lease != nil && m.lease.Run == run.ID {
			if err := w.end(i); err != nil {
				return err
			}
			m.gone++ // a launch that has nothing to render any more
			if m.there {
				w.idle[i] = true
			}
		}
	}
	if run.State != farm.RunHeld {
		state, _ := run.Settled()
		if err := w.apply(farm.RunMoved{
			Run: run.ID, State: state, Reason: "all frames have a result", At: w.at(w.now),
		}); err != nil {
			return err
		}
	}
	w.m.Close(run)
	w.finish[job] = w.now
	w.unfinished--
	return w.wake()
}
