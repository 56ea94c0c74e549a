package pace

import (
	"math"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// The cost of frames is fitted as a penalised regression on the logarithm:
//
//	log seconds = shape(f) + g(f) − h(n) − e(n) + noise
//
// shape is what an earlier run of the job cost (0 where there is none), g is
// piecewise linear over a bounded number of knots, its steps are normally
// distributed with variance q, h is the logarithm of the speed that a node was
// thought to have, and e, with variance τ², what it is off in this run. The
// node terms are eliminated (a Schur complement), so that a fit solves one
// small system. q and τ are chosen by the marginal likelihood (Rasmussen and
// Williams, Gaussian Processes for Machine Learning, ch. 5).

const (
	mostKnots = 40
	mostBins  = 256 // of a shape

	// growth of the number of observations after which a fit is made again; and
	// where less exactness will do.
	growth       = 1.02
	coarseGrowth = 1.04

	least = 0.005 // standard deviation that noise has at least
	most  = 1.0   // and at most

	// outlier is by how many standard deviations an observation may lie off
	// before its weight shrinks (Huber, Annals of Mathematical Statistics 35,
	// 1964).
	outlier = 2.5
	// coldWeight is the weight of the first frame of a launch, which often
	// takes longer for reasons of its own.
	coldWeight = 0.5
)

// Curve is what is known of the cost of one run's frames.
type Curve struct {
	first, last int
	step        float64 // frames from knot to knot
	shape       *shape  // of an earlier run, or nil
	growth      float64
	guess       float64 // what a frame costs as long as nothing is known of the run

	// Sums over observations with their weights.
	diag, off, rhs []float64 // of the normal equations: tridiagonal
	nodes          map[farm.NodeID]*effect
	count          int

	noise  tally     // of differences between neighbours
	kept   []sample  // of the observations, for the next run of the job
	every  int       // one in this number is kept
	late   bool      // something was recalled that no fit has in it yet
	knots  []float64 // g of the last fit; nil before there is one
	fitted int       // observations in it
	tuned  int       // observations when its q and τ were chosen
	tuning tuning
}

// effect is what one node showed in the run.
type effect struct {
	known  float64 // logarithm of the speed that it was thought to have
	trust  float64 // factor of τ: below 1 where that rests on earlier runs
	weight float64
	sum    float64   // Σ weight × observation
	knots  []float64 // Σ weight × basis
	off    float64   // e, of the last fit
	drift  drift
	last   int     // frame observed last
	lastY  float64 // and its observation
	seen   int
}

// sample is one observation as it was.
type sample struct {
	node  farm.NodeID
	frame int32
	y     float32
}

// mostSamples bounds the observations that are kept as they were.
const mostSamples = 4096

// tuning are the two standard deviations that are chosen by likelihood.
type tuning struct{ curve, nodes float64 }

// newCurve returns the Curve of a run of which nothing has been seen. shape
// may be nil.
func newCurve(set frames.Set, shape *shape) *Curve {
	first, last := set.First(), set.Last()
	knots := min(mostKnots, max(2, set.Len()))
	c := &Curve{
		first: first, last: last, step: max(1, float64(last-first)/float64(knots-1)), shape: shape, guess: 1,
		growth: growth, diag: make([]float64, knots), off: make([]float64, knots), rhs: make([]float64, knots),
		nodes: map[farm.NodeID]*effect{}, every: 1,
		tuning: tuning{curve: 1, nodes: 0.1},
	}
	if shape != nil {
		c.tuning.curve = 0.1
	}
	return c
}

// at returns the knot before frame f and the weight of the one after it.
func (c *Curve) at(f int) (knot int, weight float64) {
	x := min(max(float64(f-c.first)/c.step, 0), float64(len(c.diag)-1))
	knot = min(int(x), len(c.diag)-2)
	return knot, x - float64(knot)
}

// observe takes in the seconds in which a node rendered frame f, of which
// the share of it has been taken out.
func (c *Curve) observe(n farm.NodeID, known, trust float64, f int, seconds float64, cold bool) {
	e := c.nodes[n]
	if e == nil {
		e = &effect{known: known, trust: trust, knots: make([]float64, len(c.diag))}
		c.nodes[n] = e
	}
	y := math.Log(seconds) - c.shapeAt(f) + e.known
	weight := 1.0
	if cold {
		weight = coldWeight
	}
	if e.seen > 0 && !cold && math.Abs(float64(f-e.last)) <= max(1, c.step/2) {
		d := y - e.lastY
		c.noise.add(min(d*d/2, most*most))
	}
	e.last, e.lastY = f, y
	e.seen++
	if c.knots != nil {
		miss := y - c.log(f) + e.off
		sigma := c.sigma()
		if c.fitted >= 5 {
			if far := math.Abs(miss) / sigma; far > outlier {
				weight *= outlier / far
			}
		}
		e.drift.follow(miss, sigma)
	}
	knot, b := c.at(f)
	a := 1 - b
	c.diag[knot] += weight * a * a
	c.diag[knot+1] += weight * b * b
	c.off[knot] += weight * a * b
	c.rhs[knot] += weight * a * y
	c.rhs[knot+1] += weight * b * y
	e.weight += weight
	e.sum += weight * y
	e.knots[knot] += weight * a
	e.knots[knot+1] += weight * b
	c.keep(sample{node: n, frame: int32(f), y: float32(y)})
	c.count++
	if !c.late && float64(c.count) >= float64(c.fitted)*c.growth {
		c.refit()
	}
}

// ready makes the fit of what was recalled when somebody wants to know: a start
// of the service reads many frames of runs that nobody asks about.
func (c *Curve) ready() {
	if c.late {
		c.late = false
		c.refit()
	}
}

// log returns g at frame f; there is a fit.
func (c *Curve) log(f int) float64 {
	knot, b := c.at(f)
	return (1-b)*c.knots[knot] + b*c.knots[knot+1]
}

// sigma returns the standard deviation of the logarithm of single frames
// around what the curve says.
func (c *Curve) sigma() float64 {
	// Differences of neighbours say it soonest; two are as good as a guess.
	const guess, guesses = 0.08, 2
	square := (c.noise.mean*float64(c.noise.n) + guess*guess*guesses) / float64(c.noise.n+guesses)
	return min(max(math.Sqrt(square), least), most)
}

// keep keeps one in c.every observations, so that there are never too many.
func (c *Curve) keep(s sample) {
	if c.count%c.every != 0 {
		return
	}
	if len(c.kept) == mostSamples {
		for i := range mostSamples / 2 {
			c.kept[i] = c.kept[2*i]
		}
		c.kept = c.kept[:mostSamples/2]
		c.every *= 2
	}
	c.kept = append(c.kept, s)
}

func (c *Curve) shapeAt(f int) float64 {
	if c.shape == nil {
		return 0
	}
	return c.shape.log(f)
}

// Known reports whether anything is known of what frames cost.
func (c *Curve) Known() bool {
	c.ready()
	return c.knots != nil || c.shape != nil
}

// Seen returns how many frames the Curve rests on.
func (c *Curve) Seen() int { return c.count }

// Cost returns what frame f is expected to cost in reference seconds; where
// nothing is known, what frames of the recipe mostly cost.
func (c *Curve) Cost(f int) float64 {
	if !c.Known() {
		return c.guess
	}
	g := c.shapeAt(f)
	if c.knots != nil {
		g += c.log(f)
	}
	return math.Exp(g) * c.smear()
}

// smear is by how much the mean of a lognormal distribution lies above the
// exponential of its mean.
func (c *Curve) smear() float64 {
	s := min(c.sigma(), 0.7)
	return math.Exp(s * s / 2)
}

// Doubt returns the standard deviation of the logarithm of what frame f costs,
// given what was seen of the frames around it: of a random walk between two
// points that are known (a Brownian bridge), or from one.
func (c *Curve) Doubt(f int) float64 {
	if !c.Known() {
		return doubtOfGuess
	}
	if c.knots == nil {
		return math.Hypot(doubtOfShape, c.shape.doubt)
	}
	x := (float64(f) - float64(c.first)) / c.step
	before, after := math.Inf(1), math.Inf(1)
	for k := int(x); k >= 0 && math.IsInf(before, 0); k-- {
		if c.diag[k] > 0 {
			before = x - float64(k)
		}
	}
	for k := int(math.Ceil(x)); k < len(c.diag) && math.IsInf(after, 0); k++ {
		if c.diag[k] > 0 {
			after = float64(k) - x
		}
	}
	away := 0.0 // knots of a walk from one point that would leave as much doubt
	switch {
	case math.IsInf(before, 0):
		away = after
	case math.IsInf(after, 0):
		away = before
	case before+after > 0:
		away = before * after / (before + after)
	}
	return c.tuning.curve * math.Sqrt(away/float64(len(c.diag)-1))
}

// Spread returns the standard deviation of the logarithm of single frames.
func (c *Curve) Spread() float64 { return c.sigma() }

// fewSpans is how many stretches of a set are summed one by one.
const fewSpans = 64

// Work returns what the frames of a set are expected to cost together, in
// reference seconds.
func (c *Curve) Work(set frames.Set) float64 {
	if !c.Known() {
		return float64(set.Len()) * c.guess
	}
	if set.Empty() {
		return 0
	}
	sum, spans := 0.0, 0
	for sp := range set.Spans() {
		if spans++; spans > fewSpans {
			return c.scattered(set)
		}
		sum += c.between(sp.First, sp.Last)
	}
	return sum
}

// scattered is Work of a set of many stretches: of each stretch between two
// knots as many frames count as the set has there, at the mean of the stretch.
func (c *Curve) scattered(set frames.Set) float64 {
	sum := 0.0
	for first := c.first; first <= c.last; {
		knot, _ := c.at(first)
		end := min(c.last, max(first, c.first+int(math.Ceil(float64(knot+1)*c.step))-1))
		if n := set.Between(first, end); n > 0 {
			sum += float64(n) * c.between(first, end) / float64(end-first+1)
		}
		first = end + 1
	}
	return sum
}

// between returns the cost of all frames from first to last. Long stretches
// are summed by Simpson's rule between the knots.
func (c *Curve) between(first, last int) float64 {
	const plain = 8
	sum := 0.0
	for first <= last {
		end := last
		if c.step > plain {
			knot, _ := c.at(first)
			end = min(last, max(first, c.first+int(math.Ceil(float64(knot+1)*c.step))-1))
		}
		if n := end - first + 1; n <= plain || c.shape != nil && c.shape.width() < float64(n)/2 {
			for f := first; f <= end; f++ {
				sum += c.Cost(f)
			}
		} else {
			sum += float64(n) / 6 * (c.Cost(first) + 4*c.Cost(first+(n-1)/2) + c.Cost(end))
		}
		first = end + 1
	}
	return sum
}

// Within returns how many of the first frames of a set cost no more than so
// many reference seconds together, at most all, and what they cost.
func (c *Curve) Within(set frames.Set, seconds float64) (count int, work float64) {
	for sp := range set.Spans() {
		if !c.Known() {
			n := min(sp.Len(), int(max(0, seconds-work)/c.guess+1e-9))
			count, work = count+n, work+float64(n)*c.guess
			if n < sp.Len() {
				return count, work
			}
			continue
		}
		if w := c.between(sp.First, sp.Last); work+w <= seconds {
			count, work = count+sp.Len(), work+w
			continue
		}
		low, high := 0, sp.Len() // low fit, high do not
		lowWork := 0.0
		for high-low > 1 {
			middle := low + (high-low)/2
			w := lowWork + c.between(sp.First+low, sp.First+middle-1)
			if work+w <= seconds {
				low, lowWork = middle, w
			} else {
				high = middle
			}
		}
		return count + low, work + lowWork
	}
	return count, work
}

// speed returns how many reference seconds of the run's work a node does in a
// second, if the run itself has told.
func (c *Curve) speed(n farm.NodeID) (float64, bool) {
	c.ready()
	e := c.nodes[n]
	if e == nil {
		return 0, false
	}
	return math.Exp(e.known + e.off - e.drift.value()), true
}

// drift follows a node whose speed changes while it renders: a local level
// (Harvey, Forecasting, Structural Time Series Models and the Kalman Filter,
// ch. 2) of which only what stands out of the noise counts.
type drift struct{ level, variance float64 }

const (
	driftStep = 0.02 // standard deviation of the change from frame to frame
	driftSure = 2.0  // standard deviations that are taken for noise
)

func (d *drift) follow(miss, sigma float64) {
	miss = min(max(miss, -1.5), 1.5)
	d.variance += driftStep * driftStep
	gain := d.variance / (d.variance + sigma*sigma)
	d.level += gain * (miss - d.level)
	d.variance *= 1 - gain
}

func (d *drift) value() float64 {
	noise := driftSure * math.Sqrt(d.variance)
	switch {
	case d.level > noise:
		return d.level - noise
	case d.level < -noise:
		return d.level + noise
	}
	return 0
}
