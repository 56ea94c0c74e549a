package pace

import (
	"math"
	"math/rand/v2"
	"slices"

	"gonum.org/v1/gonum/blas"
	"gonum.org/v1/gonum/blas/blas64"
	"gonum.org/v1/gonum/lapack/lapack64"

	"vexillum/internal/core/farm"
)

// Posterior is what a run has told, as a distribution: from it come ways in
// which things may really be.
type Posterior struct {
	c     *Curve
	upper *blas64.Triangular // of the precision of the curve; nil where nothing was seen
}

// Standard deviations, of logarithms, of what was not seen at all.
const (
	doubtOfGuess = 0.8 // that frames cost what frames of the recipe mostly cost
	doubtOfShape = 0.2 // that they cost what they did in an earlier run
	// doubtOfCurve is by how much more a curve is doubted than its regression
	// says: that takes its stiffness and the noise for known, and costs for less
	// abrupt than they are. It was chosen by the calibration of forecasts over
	// random farms.
	doubtOfCurve = 1.5
)

// Posterior returns the distribution of what is known of a run.
func (c *Curve) Posterior() *Posterior {
	c.ready()
	p := &Posterior{c: c.copy()}
	if c.knots == nil {
		return p
	}
	m := c.reduce(c.tuning.nodes)
	if upper, ok := lapack64.Potrf(m.penalised(c.tuning.curve).RawSymmetric()); ok {
		p.upper = &upper
	}
	return p
}

// copy returns what of a Curve is needed to tell costs and speeds. It shares
// nothing with it that changes.
func (c *Curve) copy() *Curve {
	out := &Curve{
		first: c.first, last: c.last, step: c.step, shape: c.shape, guess: c.guess,
		diag: make([]float64, len(c.diag)), knots: slices.Clone(c.knots),
		nodes: make(map[farm.NodeID]*effect, len(c.nodes)), noise: c.noise, tuning: c.tuning, count: c.count,
	}
	for id, e := range c.nodes {
		kept := *e
		kept.knots = slices.Clone(e.knots)
		out.nodes[id] = &kept
	}
	return out
}

// Truth is one way in which costs and speeds of a run may really be.
type Truth struct {
	c     *Curve
	knots []float64
	level float64
	r     *rand.Rand
	offs  map[farm.NodeID]float64
}

// Draw returns one way.
func (p *Posterior) Draw(r *rand.Rand) *Truth {
	t := &Truth{c: p.c, r: r, offs: map[farm.NodeID]float64{}}
	switch {
	case p.upper != nil:
		t.knots = make([]float64, len(p.c.knots))
		for i := range t.knots {
			t.knots[i] = r.NormFloat64()
		}
		blas64.Trsv(blas.NoTrans, *p.upper, blas64.Vector{N: len(t.knots), Inc: 1, Data: t.knots})
		for i, off := range t.knots {
			t.knots[i] = p.c.knots[i] + doubtOfCurve*off
		}
	case p.c.shape != nil:
		t.level = math.Hypot(doubtOfShape, p.c.shape.doubt) * r.NormFloat64()
	default:
		t.level = math.Log(p.c.guess) + doubtOfGuess*r.NormFloat64()
	}
	return t
}

// Cost returns what frame f costs on average in reference seconds.
func (t *Truth) Cost(f int) float64 {
	g := t.level + t.c.shapeAt(f)
	if t.knots != nil {
		knot, b := t.c.at(f)
		g += (1-b)*t.knots[knot] + b*t.knots[knot+1]
	}
	return math.Exp(g) * t.c.smear()
}

// Speed returns the speed of a node, given what it was thought to be before
// the run.
func (t *Truth) Speed(n farm.NodeID, known float64) float64 {
	off, drawn := t.offs[n]
	if !drawn {
		off = t.off(n)
		t.offs[n] = off
	}
	if e := t.c.nodes[n]; e != nil {
		return math.Exp(e.known + off - e.drift.value())
	}
	return known * math.Exp(off)
}

func (t *Truth) off(n farm.NodeID) float64 {
	e := t.c.nodes[n]
	if e == nil || t.knots == nil {
		trust := trusted
		if e != nil {
			trust = e.trust
		}
		return t.c.tuning.nodes * trust * t.r.NormFloat64()
	}
	s2 := 1 / (t.c.sigma() * t.c.sigma())
	precision := e.weight*s2 + 1/square(t.c.tuning.nodes*e.trust)
	sum := 0.0
	for i, a := range e.knots {
		sum += a * t.knots[i]
	}
	return (sum-e.sum)*s2/precision + t.r.NormFloat64()/math.Sqrt(precision)
}

// Believe takes a speed for granted until frames tell otherwise. It is for
// farms on paper.
func (m *Model) Believe(n *farm.Node, recipe string, speed float64) {
	m.speeds[keyOf(n, recipe)] = math.Log(speed)
}

// BelieveRun does the same for what launches of a recipe take, the first on a
// node and further ones, and for what the frames of a job cost, all in seconds;
// the frames are those of a range in order.
func (m *Model) BelieveRun(run *farm.Run, startup, again float64, costs []float64) {
	if startup > 0 && again > 0 {
		all := &habit{}
		all.first.add(startup)
		all.part.add(again / startup)
		m.habits[run.Spec.Recipe] = all
	}
	if len(costs) == 0 {
		return
	}
	s := &shape{
		First: run.Spec.Frames.First(), Last: run.Spec.Frames.Last(),
		Logs: make([]float64, min(mostBins, len(costs))),
	}
	for i := range s.Logs {
		sum, count := 0.0, 0
		for k := i * len(costs) / len(s.Logs); k < (i+1)*len(costs)/len(s.Logs); k++ {
			sum, count = sum+costs[k], count+1
		}
		s.Logs[i] = math.Log(sum / float64(count))
	}
	m.jobs[jobOf(run)] = s
}

// BelieveLaunched takes for granted that a run was launched on a node before.
func (m *Model) BelieveLaunched(run *farm.Run, n farm.NodeID) {
	m.of(run).launches.mark(n)
}

// Mean returns what a frame between two costs on average as far as is known,
// in reference seconds.
func (p *Posterior) Mean(first, last int) float64 { return p.c.Cost((first + last) / 2) }

// Spread returns the standard deviation of the logarithm of single frames.
func (p *Posterior) Spread() float64 { return p.c.sigma() }

// SpeedOf returns the speed of a node in the run, or what it was thought to be
// before.
func (p *Posterior) SpeedOf(n farm.NodeID, known float64) float64 {
	if v, ok := p.c.speed(n); ok {
		return v
	}
	return known
}
