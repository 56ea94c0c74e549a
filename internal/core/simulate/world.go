package simulate

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"

	"vexillum/internal/core/deal"
	"vexillum/internal/core/engine"
	"vexillum/internal/core/explain"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/pace"
	"vexillum/internal/core/span"
)

// world is the farm while it is played: what is true of it, around the engine.
type world struct {
	farm   Farm
	o      Options
	e      *engine.Engine
	s      *farm.State // of the engine, to be read
	m      *pace.Model // likewise
	now    float64
	events agenda

	machines   []machine
	ids        map[farm.NodeID]int
	gone       map[int]bool       // machines that have vanished, as long as the farm has to find it out
	withHours  []int              // machines with duty hours
	runs       map[farm.RunID]int // index of the job
	broken     []map[int]bool
	frameIndex []map[int]int // where frames have gaps
	tries      []map[int]int
	launches   []int
	launched   []map[int]bool          // by job: machines on which it was launched
	has        map[string]map[int]bool // by bundle: machines that have it
	finish     []float64
	over       []bool // by job: nothing more comes of it
	unfinished int
	measures   bool      // some launch grows to an amount of memory that is measured
	yields     bool      // it can happen that a node gives something back for other work
	wants      []wanting // machines that ask when all has happened that happens at this moment
	ticksAt    float64   // when the engine is told the time next
	script     []Event   // of the batch, where somebody wants to see it
	attempts   []Attempt
	failures   []Failure
	aside      map[int]bool // machines that the farm has set aside, or a device of them
	told       []Told
	sidelined  []string
	renderers  []farm.Renderer
}

// wanting is a machine that is about to ask.
type wanting struct {
	machine int
	warm    *work // that could go on
	ended   []engine.Ended
}

func newWorld(f Farm, o Options) *world {
	w := &world{
		farm: f, o: o, s: farm.NewState(), m: o.Model, ids: map[farm.NodeID]int{}, runs: map[farm.RunID]int{},
		gone: map[int]bool{}, aside: map[int]bool{}, has: map[string]map[int]bool{},
	}
	if w.m == nil {
		w.m = pace.New()
	}
	for _, p := range f.Pools {
		w.s.Pools[p.Name] = &p
	}
	for _, p := range f.Projects {
		w.s.Projects[p.Name] = &p
	}
	for _, p := range f.Places {
		w.s.Places[p.Name] = &p
	}
	for _, l := range f.Licences {
		w.s.Licences[l.Name] = &l
	}
	for i, j := range f.Jobs {
		w.addJob(i, j)
	}
	w.yields = len(f.Jobs) > 1 || len(f.Jobs) == 1 && (!f.Jobs[0].Spec.Ceiling.None() || f.Jobs[0].Spec.Licence != nil)
	w.launches, w.finish = make([]int, len(f.Jobs)), make([]float64, len(f.Jobs))
	w.ticksAt = math.Inf(1)
	w.over, w.unfinished = make([]bool, len(f.Jobs)), len(f.Jobs)
	w.machines = make([]machine, len(f.Nodes))
	for i, n := range f.Nodes {
		id := farm.NodeID(i + 1)
		w.machines[i] = machine{id: id}
		w.ids[id] = i
		if n.Hours != nil {
			w.withHours = append(w.withHours, i)
		}
		if len(f.Holdings) == 0 || n.Joins > 0 {
			w.events.plan(n.Joins, joins, i, 0, nil)
		}
	}
	options := engine.Options{
		State: w.s, Pace: w.m, Policy: o.Policy, Applied: w.applied, YieldPause: w.yieldPause,
		Present: func(id farm.NodeID) bool { return w.machines[w.ids[id]].there },
	}
	if o.Script != nil {
		options = engine.Live(options)
		w.events.plan(1, ticks, 0, 0, nil)
	}
	w.e = engine.New(options, f.Start)
	if d := w.e.Dealer(); d != nil {
		d.Queue().Restore(f.Received)
	}
	return w
}

func (w *world) addJob(i int, j Job) {
	if !slices.ContainsFunc(w.renderers, func(r farm.Renderer) bool { return r.Recipe == j.Spec.Recipe }) {
		w.renderers = append(w.renderers, farm.Renderer{Recipe: j.Spec.Recipe})
	}
	broken := map[int]bool{}
	for _, frame := range j.Fails {
		broken[frame] = true
	}
	w.broken = append(w.broken, broken)
	index := map[int]int{}
	if set := j.Spec.Frames; set.Last()-set.First()+1 != set.Len() {
		for frame := range set.All() {
			index[frame] = len(index)
		}
	}
	w.frameIndex = append(w.frameIndex, index)
	w.tries = append(w.tries, map[int]int{})
	launched := map[int]bool{}
	for _, i := range j.Launched {
		launched[i] = true
	}
	w.launched = append(w.launched, launched)
	for bundle, those := range map[string][]int{j.Spec.Bundle: j.Has, j.Spec.BundleBefore: j.HasBefore} {
		for _, i := range those {
			w.obtain(bundle, i)
			w.m.BelieveHas(bundle, farm.NodeID(i+1))
		}
	}
	w.measures = w.measures || j.Memory > 0
	if len(w.farm.Holdings) == 0 || j.Submitted > 0 {
		w.events.plan(j.Submitted, submits, i, 0, nil)
	}
}

func (w *world) index(job, frame int) int {
	if i, ok := w.frameIndex[job][frame]; ok {
		return i
	}
	return frame - w.farm.Jobs[job].Spec.Frames.First()
}

// at turns seconds into a time for Records.
func (w *world) at(seconds float64) time.Time { return w.farm.Start.Add(span.Of(seconds)) }

// applied hears each Record.
func (w *world) applied(r farm.Record) {
	about := r.About()
	job, known := w.runs[about.Run]
	if w.o.Tell && about.Reason != "" {
		told := Told{At: w.now, Node: w.s.NodeName(about.Node), Reason: about.Reason}
		if known {
			told.Job = w.farm.Jobs[job].Spec.Job
		}
		w.told = append(w.told, told)
	}
	if f, ok := r.(farm.FrameFailed); ok && len(w.failures) > 0 {
		w.failures[len(w.failures)-1].Told = f.Blame.Kind
	}
	if h, ok := r.(farm.NodeHealth); ok && h.Health == farm.Sidelined {
		w.sidelined = append(w.sidelined, w.s.NodeName(h.Node))
		w.aside[w.ids[h.Node]] = true
	}
	// Nobody is there to release a run that is held.
	if m, ok := r.(farm.RunMoved); ok && known && !w.over[job] && (m.State.Closed() || m.State == farm.RunHeld) {
		w.over[job], w.finish[job] = true, w.now
		w.unfinished--
	}
}

// stuck says which job does not end, and why.
func (w *world) stuck() error {
	queue := w.s.Queue()
	if len(queue) == 0 {
		return fmt.Errorf("%d jobs do not end", w.unfinished)
	}
	dealer := deal.New(w.s, w.m, nil)
	why := explain.New(dealer, w.s, w.m).Run(queue[0], w.at(w.now))
	for i := range w.machines {
		why += "; " + dealer.Next(deal.Ask{Node: w.machines[i].id}, w.at(w.now)).Why
	}
	return fmt.Errorf("%s does not end: %s", queue[0].Spec.Name(), why)
}

func (w *world) report() (*Report, error) {
	if w.unfinished > 0 && w.o.Until == 0 {
		return nil, w.stuck()
	}
	r := &Report{Attempts: w.attempts, Failures: w.failures, Told: w.told, Sidelined: w.sidelined}
	for j := range w.farm.Jobs {
		r.Finish = max(r.Finish, w.finish[j])
		r.Jobs = append(r.Jobs, Outcome{Finish: w.finish[j], Launches: w.launches[j]})
	}
	for run, j := range w.runs {
		r.Jobs[j].State = w.s.Runs[run].State
	}
	for i := range w.machines {
		m := &w.machines[i]
		present, busy := m.present, m.busy
		if m.there {
			present += max(0, r.Finish-m.joined)
			if len(m.works) > 0 {
				busy += w.now - m.busyFrom
			}
		}
		r.Busy, r.Present = append(r.Busy, busy), append(r.Present, present)
	}
	return r, nil
}

// sortWants puts the fastest machines first, as far as the farm knows.
func (w *world) sortWants() {
	slices.SortStableFunc(w.wants, func(a, b wanting) int {
		return cmp.Or(
			cmp.Compare(w.farm.Nodes[b.machine].Known, w.farm.Nodes[a.machine].Known),
			cmp.Compare(a.machine, b.machine),
		)
	})
}
