package play

import (
	"cmp"
	"container/heap"
	"fmt"
	"maps"
	"math"
	"slices"
	"time"

	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
	"vexillum/internal/core/triage"
)

// world is the farm while it is played.
type world struct {
	farm   Farm
	o      Options
	s      *farm.State
	m      *pace.Model
	hand   Hand
	now    float64
	events agenda

	machines   []machine
	ids        map[farm.NodeID]int
	runs       map[farm.RunID]int // index of the job
	broken     []map[int]bool
	frameIndex []map[int]int // where frames have gaps
	tries      []map[int]int
	launches   []int
	finish     []float64
	unfinished int
	idle       map[int]bool // machines that wait for work
	looksAt    float64      // when take-overs are looked for next
	yieldsAt   float64      // when it is looked next at what comes first
	attempts   []Attempt
	told       []Told
	waits      bool // launches may have to wait for others that load
	renderers  []farm.Renderer
}

// machine is a node at work.
type machine struct {
	id     farm.NodeID
	there  bool
	gone   int // how often it has left: what was meant for it before is void
	lease  *farm.Lease
	job    int
	launch int
	warm   bool         // a renderer that is fed is up
	spoilt map[int]bool // frames that this launch failed: it is not fed them again

	try      int // at the frame
	begun    bool
	first    bool // the frame is the first of its launch
	frame    int
	since    float64 // the frame, or the launch, began
	busyFrom float64
	busy     float64
	joined   float64
	present  float64
	asks     int64
}

type kind int

const (
	submits kind = iota
	joins
	leaves
	freed
	started // the launch has come to its first frame
	ended   // a frame
	asks    // all that wait
	looks   // idle nodes look for something to take over
	yields  // nodes give back what others come first with
	duty
)

type event struct {
	at    float64
	order int64
	kind  kind
	index int // of the machine or the job
	stamp int // machine.gone when it was planned
}

// agenda holds what will happen, earliest first.
type agenda struct {
	heap  []event
	count int64
}

func (a agenda) Len() int { return len(a.heap) }
func (a agenda) Less(i, j int) bool {
	x, y := a.heap[i], a.heap[j]
	return x.at < y.at || x.at == y.at && x.order < y.order
}
func (a agenda) Swap(i, j int) { a.heap[i], a.heap[j] = a.heap[j], a.heap[i] }
func (a *agenda) Push(x any)   { a.heap = append(a.heap, x.(event)) }
func (a *agenda) Pop() any {
	last := len(a.heap) - 1
	e := a.heap[last]
	a.heap = a.heap[:last]
	return e
}

func (a *agenda) plan(at float64, k kind, index, stamp int) {
	a.count++
	heap.Push(a, event{at: at, order: a.count, kind: k, index: index, stamp: stamp})
}

func (a *agenda) next() (event, bool) {
	if len(a.heap) == 0 {
		return event{}, false
	}
	return heap.Pop(a).(event), true
}

func newWorld(f Farm, o Options) *world {
	w := &world{farm: f, o: o, s: farm.NewState(), m: o.Model, ids: map[farm.NodeID]int{}, runs: map[farm.RunID]int{}, idle: map[int]bool{}}
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
		w.waits = w.waits || p.Loads > 0
	}
	for _, l := range f.Licences {
		w.s.Licences[l.Name] = &l
	}
	for i, j := range f.Jobs {
		if !slices.ContainsFunc(w.renderers, func(r farm.Renderer) bool { return r.Recipe == j.Spec.Recipe }) {
			w.renderers = append(w.renderers, farm.Renderer{Recipe: j.Spec.Recipe, Version: "1"})
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
		if len(f.Holdings) == 0 || j.Submitted > 0 {
			w.events.plan(j.Submitted, submits, i, 0)
		}
	}
	w.launches, w.finish = make([]int, len(f.Jobs)), make([]float64, len(f.Jobs))
	w.unfinished = len(f.Jobs)
	w.machines = make([]machine, len(f.Nodes))
	for i, n := range f.Nodes {
		id := farm.NodeID(i + 1)
		w.machines[i] = machine{id: id}
		w.ids[id] = i
		if len(f.Holdings) == 0 || n.Joins > 0 {
			w.events.plan(n.Joins, joins, i, 0)
		}
	}
	if o.Hand != nil {
		w.hand = o.Hand(w.s)
	} else {
		d := deal.New(w.s, w.m, w.sight)
		d.Recall(f.Received)
		w.hand = d
	}
	return w
}

func (w *world) index(job, frame int) int {
	if i, ok := w.frameIndex[job][frame]; ok {
		return i
	}
	return frame - w.farm.Jobs[job].Spec.Frames.First()
}

// at turns seconds into a time for Records.
func (w *world) at(seconds float64) time.Time {
	return w.farm.Start.Add(time.Duration(seconds * float64(time.Second)))
}

// sight is what a node would tell of a lease.
func (w *world) sight(l *farm.Lease) deal.Sight {
	m := &w.machines[w.ids[l.Node]]
	if m.lease != l || !m.there {
		return deal.Sight{Rests: true}
	}
	return deal.Sight{Begun: m.begun, Frame: m.frame, Seconds: w.now - m.since}
}

func (w *world) apply(records ...farm.Record) error {
	for _, rec := range records {
		if err := w.s.Apply(rec); err != nil {
			return err
		}
		if about := rec.About(); w.o.Tell && about.Reason != "" {
			w.told = append(w.told, Told{At: w.now, Run: about.Run, Node: w.s.NodeName(about.Node), Reason: about.Reason})
		}
	}
	return nil
}

func (w *world) happen(e event) error {
	switch e.kind {
	case submits:
		return w.submit(e.index)
	case joins:
		return w.join(e.index)
	case leaves:
		return w.leave(e.index)
	case freed:
		return w.free(e.index, e.stamp)
	case asks:
		return w.wake()
	case duty:
		return w.duties(e.index)
	case looks:
		return w.look()
	case yields:
		if err := w.yield(); err != nil {
			return err
		}
		for run := range w.runs { // as long as there is anything to decide
			if !w.s.Runs[run].State.Closed() && !w.s.Runs[run].ToDo.Empty() {
				w.yieldsAt = w.now
				w.yieldSoon()
				break
			}
		}
		return nil
	}
	m := &w.machines[e.index]
	if e.stamp != m.gone || !m.there {
		return nil
	}
	switch e.kind {
	case started:
		return w.begin(e.index)
	case ended:
		return w.frameEnds(e.index)
	}
	return nil
}

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
			w.events.plan(max(0.02*h.Elapsed, w.farm.Jobs[h.Job].Startup-h.Elapsed), started, i, m.gone)
			continue
		}
		m.warm = w.farm.Jobs[h.Job].Spec.Mode == farm.ModeFeed
		m.frame, m.try = h.InFlight, 0
		seconds, _ := w.lasts(h.Job, i, h.InFlight, 0)
		// It has lasted so long already: what is left is at least a little.
		w.events.plan(max(seconds-h.Elapsed, 0.05*min(h.Elapsed, seconds)), ended, i, m.gone)
	}
	return nil
}

func (w *world) submit(job int) error {
	id := w.s.LastRun + 1
	w.runs[id] = job
	spec := w.farm.Jobs[job].Spec
	spec.Number = w.s.NextNumber(spec.Job, spec.Kind)
	if spec.Sequence == farm.ScoutsFirst && spec.Scouts.Empty() {
		spec.Scouts = deal.Scouts(w.m, &farm.Run{ID: id, Spec: spec})
	}
	if err := w.apply(farm.RunSubmitted{Run: id, Spec: spec, State: farm.RunQueued, Order: w.s.LastOrder + 1, At: w.at(w.now)}); err != nil {
		return err
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

// askSoon lets all that wait ask, once everything has happened that happens at
// this moment.
func (w *world) askSoon() { w.events.plan(w.now, asks, 0, 0) }

// leave lets a machine vanish. The farm learns it as it would: by silence.
func (w *world) leave(i int) error {
	m := &w.machines[i]
	if !m.there {
		return nil
	}
	spent := 0.0
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
	after := triage.FreeAfter(time.Duration(spent * float64(time.Second)))
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
		w.askSoon() // what was left to it may be for others now
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

// ask lets a machine ask for work.
func (w *world) ask(i int) error {
	m := &w.machines[i]
	m.asks++
	ask := deal.Ask{Node: m.id, Number: m.asks}
	if m.warm && m.lease != nil {
		ask.Warm = m.lease.ID
	}
	d := w.hand.Next(ask, w.at(w.now))
	if len(d.Records) == 0 && ask.Warm != 0 { // the renderer that is up ends
		if err := w.end(i); err != nil {
			return err
		}
		ask.Warm = 0
		d = w.hand.Next(ask, w.at(w.now))
	}
	if d.Cut != nil {
		w.idle[i] = true
		return w.handOver(i, *d.Cut)
	}
	if len(d.Records) == 0 {
		w.idle[i] = true
		w.lookSoon(0)
		return nil
	}
	if err := w.apply(d.Records...); err != nil {
		return err
	}
	return w.given(i, d.Records)
}

// given lets a machine begin with what it was dealt.
func (w *world) given(i int, records []farm.Record) error {
	m := &w.machines[i]
	delete(w.idle, i)
	for _, rec := range records {
		switch r := rec.(type) {
		case farm.LeaseOpened:
			m.lease, m.job, m.warm = w.s.Lease(r.Lease), w.runs[r.Run], false
			m.busyFrom = w.now
			w.start(i)
		case farm.LeaseExtended:
			if m.spoilt[r.Frames.First()] {
				w.start(i)
				continue
			}
			w.next(i, r.Frames.First())
		}
	}
	return nil
}

// start launches a renderer for the next frame of the machine's lease.
func (w *world) start(i int) {
	m := &w.machines[i]
	m.launch++
	w.launches[m.job]++
	m.begun, m.since, m.spoilt = false, w.now, nil
	w.events.plan(w.now+w.farm.Jobs[m.job].Startup, started, i, m.gone)
}

// begin is the end of a start-up.
func (w *world) begin(i int) error {
	m := &w.machines[i]
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
	} else {
		w.tried(i, Done)
		accepted := farm.FrameAccepted{Run: run.ID, Frame: m.frame, Lease: l.ID, Node: m.id, Launch: m.launch, Hash: "-", RenderSeconds: seconds, At: w.at(w.now)}
		if m.first {
			accepted.StartupSeconds = w.farm.Jobs[m.job].Startup
		}
		if err := w.apply(accepted, farm.FrameDone{Run: run.ID, Frame: m.frame, Lease: l.ID, Node: m.id, Hash: "-", At: w.at(w.now)}); err != nil {
			return err
		}
		node := w.s.Nodes[m.id]
		w.m.Observe(run, node, node.Part(l.Share), accepted)
		w.hand.Receive(run.Spec.Project, run.Spec.Owner, seconds*node.Part(l.Share)*w.m.SpeedFor(node, run), w.at(w.now))
		if err := w.beaten(run); err != nil {
			return err
		}
		if w.s.Runs[l.Run].Done.Len() == 1 && run.Spec.StartOn > 0 {
			w.askSoon() // the crowd joins
		}
	}
	if fails {
		if err := w.wake(); err != nil {
			return err
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
	if !failed && left.First() == m.frame+1 && mode == farm.ModeRange || mode == farm.ModeFeed || mode == farm.ModeWhole && !failed {
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
	state, _ := run.Settled()
	if err := w.apply(farm.RunMoved{Run: run.ID, State: state, Reason: "all frames have a result", At: w.at(w.now)}); err != nil {
		return err
	}
	w.m.Close(run)
	w.finish[job] = w.now
	w.unfinished--
	return w.wake()
}

// wake lets all machines that wait ask again, the fastest first.
func (w *world) wake() error {
	for _, i := range w.waiting() {
		if !w.idle[i] {
			continue
		}
		if err := w.ask(i); err != nil {
			return err
		}
	}
	return nil
}

func (w *world) waiting() []int {
	return slices.SortedFunc(maps.Keys(w.idle), func(a, b int) int {
		return cmp.Or(cmp.Compare(w.farm.Nodes[b].Known, w.farm.Nodes[a].Known), cmp.Compare(a, b))
	})
}

// lookSoon plans that idle machines look for something to take over.
func (w *world) lookSoon(after float64) {
	at := w.now + after
	if w.looksAt > w.now && w.looksAt <= at {
		return // it is planned
	}
	w.looksAt = at
	w.events.plan(at, looks, 0, 0)
}

// look lets idle machines take over what they should.
func (w *world) look() error {
	again := math.Inf(1)
	for _, i := range w.waiting() {
		if !w.idle[i] {
			continue
		}
		cut, ok, wait := w.hand.TakeOver(w.machines[i].id, w.at(w.now))
		if !ok {
			again = min(again, wait.Seconds())
			if err := w.race(i); err != nil {
				return err
			}
			continue
		}
		if err := w.handOver(i, cut); err != nil {
			return err
		}
	}
	if err := w.yield(); err != nil {
		return err
	}
	if len(w.idle) > 0 && !math.IsInf(again, 0) {
		w.lookSoon(max(again, 1e-3))
	}
	return nil
}

// race lets a machine with nothing to do race for a frame in flight.
func (w *world) race(i int) error {
	m := &w.machines[i]
	m.asks++
	d := w.hand.Race(deal.Ask{Node: m.id, Number: m.asks}, w.at(w.now))
	if len(d.Records) == 0 {
		return nil
	}
	if err := w.apply(d.Records...); err != nil {
		return err
	}
	return w.given(i, d.Records)
}

// yieldSoon plans that what comes first gets its nodes.
func (w *world) yieldSoon() {
	if len(w.farm.Jobs) > 1 && w.yieldsAt <= w.now {
		w.yieldsAt = w.now + max(1, w.now/2000)
		w.events.plan(w.yieldsAt, yields, 0, 0)
	}
}

// yield lets machines give back what is not begun for what comes first.
func (w *world) yield() error {
	if len(w.farm.Jobs) < 2 {
		return nil
	}
	for _, cut := range w.hand.Yield(w.at(w.now)) {
		m := &w.machines[w.ids[cut.Node]]
		if m.lease == nil || m.lease.ID != cut.Lease {
			continue
		}
		back := cut.Frames
		if m.begun {
			back = back.Minus(frames.One(m.frame))
		}
		if back.Empty() {
			continue
		}
		if err := w.apply(farm.LeaseTrimmed{Lease: cut.Lease, Node: cut.Node, Run: m.lease.Run, Frames: back, Reason: cut.Reason, At: w.at(w.now)}); err != nil {
			return err
		}
		if !m.begun && m.lease.Left.Empty() { // its launch is stopped before it has begun anything
			m.gone++
			if err := w.end(w.ids[cut.Node]); err != nil {
				return err
			}
			w.idle[w.ids[cut.Node]] = true
		}
		w.askSoon()
	}
	return nil
}

// handOver asks a node for the end of its lease. It gives what it has not
// begun, at once, and the taker gets that.
func (w *world) handOver(i int, cut deal.Cut) error {
	taker := &w.machines[i]
	owner := &w.machines[w.ids[cut.Node]]
	if owner.lease == nil || owner.lease.ID != cut.Lease {
		return fmt.Errorf("lease %d is to be cut, and %s does not have it", cut.Lease, w.s.NodeName(cut.Node))
	}
	given := cut.Frames
	if owner.begun {
		given = given.Minus(frames.One(owner.frame))
	}
	if given.Empty() {
		return nil
	}
	run := w.s.Lease(cut.Lease).Run
	taker.asks++
	n := w.s.Nodes[taker.id]
	opened := farm.LeaseOpened{Lease: w.s.LastLease + 1, Node: taker.id, Run: run, Session: n.Session, Ask: taker.asks, Frames: given, Reason: cut.Reason, At: w.at(w.now)}
	if err := w.apply(farm.LeaseTrimmed{Lease: cut.Lease, Node: cut.Node, Run: run, Frames: given, At: w.at(w.now)}, opened); err != nil {
		return err
	}
	return w.given(i, []farm.Record{opened})
}

func (w *world) report() (*Report, error) {
	if w.unfinished > 0 && w.o.Until == 0 {
		if queue := w.s.Queue(); len(queue) > 0 {
			why := deal.WhyRun(w.s, queue[0])
			for i := range w.machines {
				why += "; " + w.hand.Next(deal.Ask{Node: w.machines[i].id}, w.at(w.now)).Why
			}
			return nil, fmt.Errorf("%s does not end: %s", queue[0].Spec.Name(), why)
		}
		return nil, fmt.Errorf("%d jobs do not end", w.unfinished)
	}
	r := &Report{Attempts: w.attempts, Told: w.told}
	for j := range w.farm.Jobs {
		r.Finish = max(r.Finish, w.finish[j])
		r.Jobs = append(r.Jobs, Outcome{Finish: w.finish[j], Launches: w.launches[j]})
	}
	for run, j := range w.runs {
		r.Jobs[j].State = w.s.Runs[run].State
	}
	for i := range w.machines {
		m := &w.machines[i]
		present := m.present
		if m.there {
			present += max(0, r.Finish-m.joined)
		}
		r.Busy, r.Present = append(r.Busy, m.busy), append(r.Present, present)
	}
	return r, nil
}
