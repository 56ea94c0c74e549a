package play

import (
	"fmt"
	"slices"
	"time"

	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/pace"
	"vexillum/internal/core/span"
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
	launched   []map[int]bool // by job: machines on which it was launched
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
	told   deal.Sight // of its lease, when it vanished
	mute   float64    // until when a question that it did not answer is waited for
	gone   int        // how often it has left: what was meant for it before is void
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
	loading  float64 // seconds that the launch takes to its first frame
	busyFrom float64
	busy     float64
	joined   float64
	present  float64
	asks     int64
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
		launched := map[int]bool{}
		for _, i := range j.Launched {
			launched[i] = true
		}
		w.launched = append(w.launched, launched)
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
		d.Waits(func(id farm.NodeID) bool { return w.idle[w.ids[id]] })
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
	return w.farm.Start.Add(span.Of(seconds))
}

// sight is what a node has told of a lease. That it has vanished shows only
// when it does not answer, or has been silent for a while.
func (w *world) sight(l *farm.Lease) deal.Sight {
	m := &w.machines[w.ids[l.Node]]
	if m.lease != l {
		return deal.Sight{Rests: true}
	}
	if !m.there {
		seen := m.told
		seen.Seconds = w.now - m.since
		seen.Rests = w.now < m.mute || w.s.Nodes[m.id].Reach != farm.Online
		return seen
	}
	return deal.Sight{Begun: m.begun, Frame: m.frame, Seconds: w.now - m.since}
}

func (w *world) apply(records ...farm.Record) error {
	for _, rec := range records {
		if err := w.s.Apply(rec); err != nil {
			return err
		}
		if about := rec.About(); w.o.Tell && about.Reason != "" {
			told := Told{At: w.now, Node: w.s.NodeName(about.Node), Reason: about.Reason}
			if job, ok := w.runs[about.Run]; ok {
				told.Job = w.farm.Jobs[job].Spec.Job
			}
			w.told = append(w.told, told)
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

// stuck says which job does not end, and why.
func (w *world) stuck() error {
	queue := w.s.Queue()
	if len(queue) == 0 {
		return fmt.Errorf("%d jobs do not end", w.unfinished)
	}
	why := deal.New(w.s, w.m, nil).WhyRun(queue[0], w.at(w.now))
	for i := range w.machines {
		why += "; " + w.hand.Next(deal.Ask{Node: w.machines[i].id}, w.at(w.now)).Why
	}
	return fmt.Errorf("%s does not end: %s", queue[0].Spec.Name(), why)
}

func (w *world) report() (*Report, error) {
	if w.unfinished > 0 && w.o.Until == 0 {
		return nil, w.stuck()
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
