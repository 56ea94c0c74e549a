// Package pace is what the farm has learned about speed: how fast nodes are
// and what frames cost. It takes observations and gives estimates; it decides
// nothing and keeps no records of its own.
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
	costs    map[farm.RunID]*tally // reference seconds a frame
	startups map[farm.RunID]*tally // seconds a launch
	memory   map[farm.RunID]int64  // most bytes that a launch had
}

// New returns a Model that knows nothing yet.
func New() *Model {
	return &Model{costs: map[farm.RunID]*tally{}, startups: map[farm.RunID]*tally{}, memory: map[farm.RunID]int64{}}
}

// Observe learns from one finished frame that a node of the given speed
// rendered. Times that no renderer can have had are ignored.
func (m *Model) Observe(rec farm.FrameAccepted, speed float64) {
	if rec.RenderSeconds > 0 && speed > 0 && !math.IsInf(rec.RenderSeconds, 0) {
		at(m.costs, rec.Run).add(rec.RenderSeconds * speed)
	}
	if rec.StartupSeconds > 0 && !math.IsInf(rec.StartupSeconds, 0) {
		at(m.startups, rec.Run).add(rec.StartupSeconds)
	}
	if rec.MemoryBytes > m.memory[rec.Run] {
		m.memory[rec.Run] = rec.MemoryBytes
	}
}

// Speed returns how many reference seconds of a recipe's work the node does
// in a second. It is above 0.
func (m *Model) Speed(n *farm.Node, recipe string) float64 {
	if n.Facts.Speed > 0 && !math.IsInf(n.Facts.Speed, 0) {
		return n.Facts.Speed
	}
	return 1
}

// Cost returns the cost of a frame of the run in reference seconds, and false
// as long as no frame has been seen.
func (m *Model) Cost(run farm.RunID) (Estimate, bool) { return m.costs[run].estimate() }

// Startup returns the seconds from a launch to its first frame, and false as
// long as no launch has been seen.
func (m *Model) Startup(run farm.RunID) (Estimate, bool) { return m.startups[run].estimate() }

// Memory returns the most main memory in bytes that a launch of the run was seen
// to have, and false as long as none was measured.
func (m *Model) Memory(run farm.RunID) (peak int64, known bool) {
	peak, known = m.memory[run]
	return peak, known
}

// Forget drops what is known about a run that has ended.
func (m *Model) Forget(run farm.RunID) {
	delete(m.costs, run)
	delete(m.startups, run)
	delete(m.memory, run)
}

func at(tallies map[farm.RunID]*tally, run farm.RunID) *tally {
	if tallies[run] == nil {
		tallies[run] = &tally{}
	}
	return tallies[run]
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
	l := math.Log(x)
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
