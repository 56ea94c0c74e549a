package simulate

import (
	"fmt"
	"slices"

	"vexillum/internal/core/blame"
	"vexillum/internal/core/engine"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/protocol/accept"
)

// machine is a node at work.
type machine struct {
	id       farm.NodeID
	there    bool
	session  int
	asks     int64 // of its session so far
	launch   int   // renderers started so far
	works    []*work
	busyFrom float64
	busy     float64
	joined   float64
	present  float64
}

// work is one lease on a machine, with its renderer.
type work struct {
	lease  *farm.Lease
	job    int
	launch int
	stamp  int          // of the event that is planned for it: others are void
	over   bool         // the machine has let go of it
	stops  bool         // it ends with the frame in flight
	warm   bool         // a renderer that is fed is up
	failed bool         // its last frame failed
	spoilt map[int]bool // frames that this launch failed: it is not fed them again

	fault   fault // of the frame in flight
	try     int   // at the frame
	begun   bool
	first   bool // the frame is the first of its launch
	frame   int
	since   float64 // the frame, or the launch, began
	loading float64 // seconds that the launch takes to its first frame
	fetched farm.Fetched
}

func (m *machine) workOn(l *farm.Lease) *work {
	for _, k := range m.works {
		if k.lease == l {
			return k
		}
	}
	return nil
}

func (m *machine) leases() []farm.LeaseID {
	out := make([]farm.LeaseID, len(m.works))
	for i, k := range m.works {
		out[i] = k.lease.ID
	}
	return out
}

// start launches a renderer for the next frame of a lease.
func (w *world) start(i int, k *work) {
	m := &w.machines[i]
	m.launch++
	w.launches[k.job]++
	k.launch = m.launch
	k.begun, k.since, k.spoilt, k.warm, k.failed = false, w.now, nil, false, false
	k.loading, k.fetched = w.startup(i, k.job), w.fetch(i, k.job)
	w.plan(w.now+k.fetched.Seconds+k.loading, started, i, k)
}

// plan plans what happens next with a lease.
func (w *world) plan(at float64, what kind, i int, k *work) {
	k.stamp++
	w.events.plan(at, what, i, k.stamp, k)
}

// startup returns the seconds that a launch of a job on a machine takes.
func (w *world) startup(i, job int) float64 {
	j := &w.farm.Jobs[job]
	if j.Again > 0 && w.launched[job][i] {
		return j.Again
	}
	return j.Startup
}

// fetch returns what a machine gets of a job's bundle before it can launch.
func (w *world) fetch(i, job int) (f farm.Fetched) {
	spec := &w.farm.Jobs[job].Spec
	return fetch(spec, w.has[spec.Bundle][i], w.has[spec.BundleBefore][i], w.farm.Nodes[i].Fetches)
}

// obtain notes that a machine has a bundle.
func (w *world) obtain(bundle string, i int) {
	if bundle == "" {
		return
	}
	if w.has[bundle] == nil {
		w.has[bundle] = map[int]bool{}
	}
	w.has[bundle][i] = true
}

// begin is the end of a start-up.
func (w *world) begin(i int, k *work) {
	w.obtain(w.farm.Jobs[k.job].Spec.Bundle, i)
	w.launched[k.job][i] = true
	if k.lease.Left.Empty() { // all was taken from it meanwhile
		w.through(i, k)
		return
	}
	k.warm = w.farm.Jobs[k.job].Spec.Mode == farm.ModeFeed
	w.next(i, k, k.lease.Left.First())
	k.first = true
}

// next begins a frame.
func (w *world) next(i int, k *work, frame int) {
	k.begun, k.first, k.failed, k.frame, k.since = true, false, false, frame, w.now
	if k.lease.Race {
		w.tries[k.job][frame]++
	}
	k.try = w.tries[k.job][frame]
	seconds, f := w.lasts(k.job, i, frame, k.try, k.lease.Share)
	k.fault = f
	w.plan(w.now+seconds/w.part(i, k), ended, i, k)
	if w.o.Script != nil {
		w.beat(i)
		return
	}
	w.e.Begun(w.machines[i].id, k.lease.ID, frame, w.at(w.now))
}

// part is what of a machine a lease has.
func (w *world) part(i int, k *work) float64 { return w.s.Nodes[w.machines[i].id].Part(k.lease.Share) }

func (w *world) tried(i int, k *work, result Result) {
	w.attempts = append(w.attempts, Attempt{
		Node: w.farm.Nodes[i].Name, Job: w.farm.Jobs[k.job].Spec.Job, Frame: k.frame, Launch: k.launch, Start: k.since,
		End: w.now, Result: result,
	})
	if result == Failed {
		w.failures = append(w.failures, Failure{
			Attempt: w.attempts[len(w.attempts)-1], Lease: k.lease.ID, Fault: k.fault.of, Gone: k.fault.gone,
		})
	}
	if result != Done {
		w.tries[k.job][k.frame]++
		if k.spoilt == nil {
			k.spoilt = map[int]bool{}
		}
		k.spoilt[k.frame] = true
	}
	k.begun = false
}

// said is what a renderer says that fails: of what it could not read or write it names the
// file, as systems do.
func (w *world) said(k *work) string {
	const status = "exit status 1"
	p, folder := w.s.Projects[w.farm.Jobs[k.job].Spec.Project], ""
	path := func(place string) string {
		if at := w.s.Places[place]; at != nil {
			return at.Paths["linux"]
		}
		return ""
	}
	switch cause := k.fault.cause; {
	case cause == blame.PlaceGone:
		folder = path(k.fault.gone)
	case blame.Reads(cause) && p != nil:
		folder = path(p.Scenes)
	case blame.Writes(cause) && p != nil:
		folder = path(p.Frames)
	}
	if folder == "" {
		return status
	}
	return fmt.Sprintf("%s: open %s/shot: no such file or directory", status, folder)
}

// frameEnds reports what became of a frame, and goes on with the next.
func (w *world) frameEnds(i int, k *work) {
	m := &w.machines[i]
	r := accept.Report{
		Lease: k.lease.ID, Launch: k.launch, Frame: k.frame, Hash: paperHash, RenderSeconds: w.now - k.since,
		MemoryBytes: w.farm.Jobs[k.job].Memory,
	}
	if k.first {
		r.StartupSeconds, r.Fetched = k.loading, k.fetched
	}
	fails := k.fault.cause != ""
	if fails {
		w.tried(i, k, Failed)
		w.reportFrame(m, accept.Report{
			Outcome: accept.Failed, Lease: k.lease.ID, Launch: k.launch, Frame: k.frame, Cause: k.fault.cause,
			Message: w.said(k),
		})
	} else {
		r.Outcome = accept.Good
		if w.reportFrame(m, r).Deliver {
			w.tried(i, k, Done)
			r.Outcome = accept.Delivered
			w.reportFrame(m, r)
		} else {
			w.tried(i, k, Stopped)
		}
	}
	w.goOn(i, k, fails)
}

// reportFrame reports to the engine what became of a frame.
func (w *world) reportFrame(m *machine, r accept.Report) accept.Verdict {
	w.noted(Event{Node: m.id, Report: &r})
	w.hear(m)
	return w.e.Report(m.id, r)
}

// paperHash stands for the content of a frame that was rendered on paper.
const paperHash = "-"

// goOn lets a machine go on with a lease after a frame, or when it was given more.
func (w *world) goOn(i int, k *work, failed bool) {
	mode := w.farm.Jobs[k.job].Spec.Mode
	left := k.lease.Left
	k.failed = failed
	switch {
	case k.stops || !k.lease.Open():
		w.through(i, k)
	case left.Empty() && (mode == farm.ModeFeed || mode == farm.ModeSingle):
		w.want(i, k, nil)
	case left.Empty():
		w.through(i, k)
	case !failed && left.First() == k.frame+1 && mode == farm.ModeRange,
		k.warm && !k.spoilt[left.First()],
		mode == farm.ModeWhole && !failed:
		w.next(i, k, left.First())
	default: // after a gap or a failure it is another launch
		w.start(i, k)
	}
}

// drop takes a lease from a machine: its renderer is gone.
func (w *world) drop(i int, k *work) {
	m := &w.machines[i]
	k.over, k.begun = true, false
	k.stamp++
	m.works = slices.DeleteFunc(m.works, func(x *work) bool { return x == k })
	if len(m.works) == 0 {
		m.busy += w.now - m.busyFrom
	}
}

// through is a machine that is through with a lease: it says so, and asks for
// more.
func (w *world) through(i int, k *work) {
	if k.over {
		return
	}
	w.drop(i, k)
	w.want(i, nil, []engine.Ended{{Lease: k.lease.ID, Why: "has finished its frames"}})
}
