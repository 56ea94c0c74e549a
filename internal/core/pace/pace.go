// Package pace is what the farm has learned about speed: how fast nodes are,
// what frames cost along the range of a run, how long a launch takes to its
// first frame and how much memory it grows to. It takes observations and gives
// estimates; it decides nothing and never looks at a clock.
//
// The unit of work is the reference second: what a node of speed 1 does in
// one second. A frame takes startup + cost ÷ speed seconds on a node.
package pace

import (
	"math"

	"vexillum/internal/core/farm"
)

// Estimate is what is expected of one quantity.
type Estimate struct {
	Mean   float64
	Spread float64 // standard deviation of the logarithm; 0 after one observation
	Count  int     // observations behind it
}

// Model holds what is learned. The zero Model is not ready; use New.
type Model struct {
	runs     map[farm.RunID]*known
	jobs     map[jobKey]*shape     // of the last run of each
	memories map[jobKey]*profile   // the same
	starts   map[jobKey]*launches  // the same
	habits   map[string]*habit     // of launches, by recipe, over all runs
	typical  map[string]*tally     // the same, what a pixel of a frame costs
	regions  map[tilesKey][]region // of the last tiled still of each
	scales   map[string]*scaling   // by recipe, how cost goes with settings
	speeds   map[speedKey]float64  // logarithms
	fetches  fetches
	learned  int64
	coarse   bool
}

// Learned returns a number that grows with all that the Model learns.
func (m *Model) Learned() int64 { return m.learned }

// known is what one run has told.
type known struct {
	curve    *Curve
	launches launches
	memory   *profile // nil as long as none was measured
	adopted  bool     // it goes by an open run of its job
	keys     map[farm.NodeID]speedKey
}

// speedKey is what a speed holds for.
type speedKey struct {
	node            farm.NodeID
	recipe, version string
}

// New returns a Model that knows nothing yet.
func New() *Model {
	return &Model{
		runs: map[farm.RunID]*known{}, jobs: map[jobKey]*shape{}, memories: map[jobKey]*profile{},
		starts: map[jobKey]*launches{}, habits: map[string]*habit{}, typical: map[string]*tally{},
		scales: map[string]*scaling{}, regions: map[tilesKey][]region{},
		speeds: map[speedKey]float64{}, fetches: newFetches(),
	}
}

// NewCoarse returns a Model that knows nothing yet, for many quick plays: it
// fits what it learns less often.
func NewCoarse() *Model {
	m := New()
	m.coarse = true
	return m
}

// trusted is by how much less a speed that earlier runs told may be off than
// one that was measured when the machine joined.
const trusted = 0.5

// Observe learns from one finished frame of a run that a node rendered with
// the given share of its power, above 0 and at most 1. Times that no renderer
// can have had are ignored.
func (m *Model) Observe(run *farm.Run, n *farm.Node, part float64, rec farm.FrameAccepted) {
	k := m.of(run)
	k.curve.ready()
	m.observe(k, run, n, part, rec)
}

// Recall is Observe for frames that were finished before a start: what follows
// from them is worked out when somebody asks.
func (m *Model) Recall(run *farm.Run, n *farm.Node, part float64, rec farm.FrameAccepted) {
	k := m.of(run)
	k.curve.late = true
	m.observe(k, run, n, part, rec)
}

func (m *Model) observe(k *known, run *farm.Run, n *farm.Node, part float64, rec farm.FrameAccepted) {
	m.learned++
	if positive(rec.RenderSeconds) && positive(part) {
		trust := 1.0
		key := keyOf(n, run.Spec.Recipe)
		if _, ok := m.speeds[key]; ok {
			trust = trusted
		}
		k.curve.observe(
			n.ID, math.Log(m.Speed(n, run.Spec.Recipe)), trust, rec.Frame, rec.RenderSeconds*part,
			rec.StartupSeconds > 0,
		)
		e := k.curve.nodes[n.ID]
		if m.typical[run.Spec.Recipe] == nil {
			m.typical[run.Spec.Recipe] = &tally{}
		}
		m.typical[run.Spec.Recipe].add(rec.RenderSeconds * part * math.Exp(e.known+e.off) / pixels(run.Spec))
		m.speeds[key] = e.known + e.off
		if k.curve.late {
			if k.keys == nil {
				k.keys = map[farm.NodeID]speedKey{}
			}
			k.keys[n.ID] = key
		}
	}
	if positive(rec.StartupSeconds) {
		m.launched(k, run, n.ID, rec.StartupSeconds)
	}
	if run.Spec.Bundle != "" {
		m.fetched(run.Spec.Bundle, n.ID, rec.Fetched)
	}
	k.remember(run, rec)
}

func positive(x float64) bool { return x > 0 && !math.IsInf(x, 0) }

func (m *Model) of(run *farm.Run) *known {
	k := m.runs[run.ID]
	if run.Spec.Tiles != nil {
		if k == nil {
			k = &known{curve: newCurve(run.Spec.Frames, m.tileShape(run))}
			m.runs[run.ID] = k
		}
		return k
	}
	if k == nil ||
		k.curve.count == 0 && !k.adopted &&
			k.curve.shape.whole() != m.jobs[jobOf(run)] { // another run of the job has told
		before := k
		k = &known{curve: newCurve(run.Spec.Frames, m.scaled(m.jobs[jobOf(run)], run.Spec))}
		if before != nil {
			k.launches, k.memory = before.launches, before.memory
		}
		if m.coarse {
			k.curve.growth = coarseGrowth
		}
		m.runs[run.ID] = k
	}
	if t := m.typical[run.Spec.Recipe]; t != nil && k.curve.count == 0 {
		k.curve.guess = math.Exp(t.logMean) * pixels(run.Spec)
	}
	return k
}

// pixels returns how many pixels a frame has, and 1 of runs on paper, which have no size.
func pixels(spec farm.Spec) float64 { return max(1, float64(spec.Width)*float64(spec.Height)) }

// jobKey is a job, and what it renders: what one scene has shown says nothing of another.
type jobKey struct {
	project, job string
	subject      farm.Subject
}

func jobOf(run *farm.Run) jobKey { return keyOfJob(run.Spec) }

func keyOfJob(spec farm.Spec) jobKey { return jobKey{spec.Project, spec.Job, spec.Subject()} }

func keyOf(n *farm.Node, recipe string) speedKey {
	r, _ := n.Facts.Renderer(recipe)
	return speedKey{n.ID, recipe, r.Version}
}

// Speed returns how many reference seconds of a recipe's work the node does
// in a second, as far as earlier runs or the measure taken when it joined
// tell. It is above 0.
func (m *Model) Speed(n *farm.Node, recipe string) float64 {
	if len(m.speeds) > 0 {
		if log, ok := m.speeds[keyOf(n, recipe)]; ok {
			return math.Exp(log)
		}
	}
	if positive(n.Facts.Speed) {
		return n.Facts.Speed
	}
	return 1
}

// SpeedFor is Speed for one run: what the node has shown in the run itself
// counts first.
func (m *Model) SpeedFor(n *farm.Node, run *farm.Run) float64 {
	if k := m.runs[run.ID]; k != nil {
		if v, ok := k.curve.speed(n.ID); ok {
			return v
		}
	}
	return m.Speed(n, run.Spec.Recipe)
}

// Curve returns what is known of the cost of a run's frames. It is never nil.
func (m *Model) Curve(run *farm.Run) *Curve { return m.of(run).curve }

// Cost returns the mean cost of a frame of the run in reference seconds, and
// false as long as nothing is known of it.
func (m *Model) Cost(run *farm.Run) (Estimate, bool) {
	k := m.runs[run.ID]
	if k == nil || !k.curve.Known() {
		if m.jobs[jobOf(run)] == nil {
			return Estimate{}, false
		}
		k = m.of(run)
	}
	return Estimate{
		Mean: k.curve.Work(run.Spec.Frames) / float64(run.Spec.Frames.Len()), Spread: k.curve.Spread(),
		Count: k.curve.count,
	}, true
}

// Seen returns how many frames of a run have told something.
func (m *Model) Seen(run farm.RunID) int {
	if k := m.runs[run]; k != nil {
		return k.curve.count
	}
	return 0
}

// Forget drops what was kept of a run, and learns nothing from it.
func (m *Model) Forget(id farm.RunID) {
	m.learned++
	delete(m.runs, id)
}

// Close keeps what a run has told for the next one of its job, and drops the
// rest.
func (m *Model) Close(run *farm.Run) {
	m.learned++
	k := m.runs[run.ID]
	if k == nil {
		return
	}
	if k.curve.late {
		k.curve.ready()
		for id, e := range k.curve.nodes {
			if key, ok := k.keys[id]; ok {
				m.speeds[key] = e.known + e.off
			}
		}
	}
	if k.launches.first.n > 0 {
		m.starts[jobOf(run)] = &launches{first: k.launches.first, again: k.launches.again}
	}
	if k.memory != nil {
		m.memories[jobOf(run)] = k.memory.join(m.memories[jobOf(run)])
	}
	if run.Spec.Tiles != nil { // what tiles cost says nothing of frames
		m.keepTiles(run, k.curve)
		delete(m.runs, run.ID)
		return
	}
	m.pair(run, k.curve)
	if s := k.curve.asShape(); s != nil {
		s.of = settingsOf(run.Spec)
		m.jobs[jobOf(run)] = s
	}
	delete(m.runs, run.ID)
}

// tally keeps a mean, and the variance of the logarithms by Welford's method
// (Technometrics 4, 1962).
type tally struct {
	n             int
	mean          float64
	logMean, log2 float64
}

func (t *tally) add(x float64) {
	t.n++
	t.mean += (x - t.mean) / float64(t.n)
	l := math.Log(max(x, 1e-12))
	d := l - t.logMean
	t.logMean += d / float64(t.n)
	t.log2 += d * (l - t.logMean)
}

func (t *tally) estimate() (Estimate, bool) {
	if t == nil || t.n == 0 {
		return Estimate{}, false
	}
	e := Estimate{Mean: t.mean, Count: t.n}
	if t.n > 1 {
		e.Spread = math.Sqrt(t.log2 / float64(t.n-1))
	}
	return e, true
}

// Normal90 is the 90 % point of the standard normal distribution.
const Normal90 = 1.2816
