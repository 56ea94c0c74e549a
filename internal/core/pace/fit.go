package pace

import (
	"maps"
	"math"
	"slices"

	"gonum.org/v1/gonum/blas/blas64"
	"gonum.org/v1/gonum/lapack/lapack64"
	"gonum.org/v1/gonum/mat"
)

// What the standard deviations may be: of the curve from end to end, and of
// how far the speed of a node is off.
var (
	curveGrid = []float64{0.02, 0.1, 0.3, 1, 3}
	nodesGrid = []float64{0.03, 0.1, 0.3}
)

// refit solves the regression for what has been observed. It costs time with
// the cube of the knots and the number of nodes times the square of the knots
// that each has touched, however many observations there are.
func (c *Curve) refit() {
	if c.count >= 2*c.tuned {
		c.tuned = c.count
		best := math.Inf(-1)
		for _, nodes := range nodesGrid {
			m := c.reduce(nodes)
			for _, curve := range curveGrid {
				if _, likelihood, ok := m.solve(curve); ok && likelihood > best {
					best, c.tuning = likelihood, tuning{curve: curve, nodes: nodes}
				}
			}
		}
	}
	m := c.reduce(c.tuning.nodes)
	knots, _, ok := m.solve(c.tuning.curve)
	c.fitted = c.count
	if !ok {
		return
	}
	c.knots = knots
	s2 := 1 / (c.sigma() * c.sigma())
	for _, e := range c.nodes {
		precision := e.weight*s2 + 1/square(c.tuning.nodes*e.trust)
		sum := 0.0
		for i, a := range e.knots {
			sum += a * knots[i]
		}
		e.off = (sum - e.sum) * s2 / precision
	}
}

// reduced is the system after the nodes are eliminated.
type reduced struct {
	system     *mat.SymDense
	rhs        []float64
	likelihood float64 // what does not depend on the curve
}

func (c *Curve) reduce(tau float64) reduced {
	n := len(c.diag)
	s2 := 1 / (c.sigma() * c.sigma())
	m := reduced{system: mat.NewSymDense(n, nil), rhs: make([]float64, n)}
	data := m.system.RawSymmetric().Data // the upper half, by rows
	for i := range n {
		data[i*n+i] = c.diag[i]*s2 + 1e-6
		if i+1 < n {
			data[i*n+i+1] = c.off[i] * s2
		}
		m.rhs[i] = c.rhs[i] * s2
	}
	var touched []int
	for _, id := range slices.Sorted(maps.Keys(c.nodes)) { // always added in the same order
		e := c.nodes[id]
		prior := 1 / square(tau*e.trust)
		precision := e.weight*s2 + prior
		touched = touched[:0]
		for i, a := range e.knots {
			if a != 0 {
				touched = append(touched, i)
			}
		}
		for x, i := range touched {
			a := e.knots[i] * s2 / precision
			for _, j := range touched[x:] {
				data[i*n+j] -= a * e.knots[j] * s2
			}
			m.rhs[i] -= a * e.sum * s2
		}
		m.likelihood += square(e.sum*s2)/precision/2 - math.Log(precision/prior)/2
	}
	return m
}

// solve adds the penalty of a curve that moves by so much from end to end, and
// returns the curve and its marginal log likelihood up to a constant.
func (m reduced) solve(curve float64) (knots []float64, likelihood float64, ok bool) {
	n := len(m.rhs)
	step := square(curve) / float64(n-1)
	// mat.Cholesky would also work out how well conditioned the system is, which
	// takes as long as all the rest.
	upper, ok := lapack64.Potrf(m.penalised(curve).RawSymmetric())
	if !ok {
		return nil, 0, false
	}
	knots = slices.Clone(m.rhs)
	lapack64.Potrs(upper, blas64.General{Rows: n, Cols: 1, Stride: 1, Data: knots})
	logs, fit := 0.0, 0.0
	for i, x := range knots {
		logs += math.Log(upper.Data[i*upper.Stride+i]) // half of the logarithm of the determinant
		fit += x * m.rhs[i]
	}
	likelihood = m.likelihood + fit/2 - logs - float64(n-1)/2*math.Log(step)
	return knots, likelihood, true
}

// penalised returns the precision of the knots of a curve that moves by so much
// from end to end.
func (m reduced) penalised(curve float64) *mat.SymDense {
	n := len(m.rhs)
	data := append([]float64(nil), m.system.RawSymmetric().Data...)
	step := square(curve) / float64(n-1)
	for i := range n - 1 {
		data[i*n+i] += 1 / step
		data[(i+1)*n+i+1] += 1 / step
		data[i*n+i+1] -= 1 / step
	}
	return mat.NewSymDense(n, data)
}

func square(x float64) float64 { return x * x }

// shape is what the frames of a job cost in an earlier run.
type shape struct {
	First int       `json:"first"`
	Last  int       `json:"last"`
	Logs  []float64 `json:"logs"` // of reference seconds, at equal distances

	of     settings // of that run; without a recipe on paper
	origin *shape   // nil: it is as it was seen
	// logarithm of by how much more a run of other settings costs, and its standard deviation
	shift, doubt float64
}

// whole returns the shape as it was seen.
func (s *shape) whole() *shape {
	if s == nil || s.origin == nil {
		return s
	}
	return s.origin
}

// width is how many frames lie from one value to the next.
func (s *shape) width() float64 { return float64(s.Last-s.First+1) / float64(len(s.Logs)) }

func (s *shape) log(f int) float64 {
	// Values stand for the middle of their stretch.
	x := (float64(f-s.First)+0.5)/s.width() - 0.5
	x = min(max(x, 0), float64(len(s.Logs)-1))
	i := min(int(x), max(0, len(s.Logs)-2))
	if i+1 >= len(s.Logs) {
		return s.shift + s.Logs[i]
	}
	b := x - float64(i)
	return s.shift + (1-b)*s.Logs[i] + b*s.Logs[i+1]
}

// asShape returns what a next run of the same job should expect, or nil if
// nothing was seen. Where frames were seen they count beside the curve, the
// more the more there were.
func (c *Curve) asShape() *shape {
	if c.ready(); c.knots == nil {
		if c.shape == nil {
			return nil
		}
		s := *c.shape.whole()
		s.shift, s.doubt = c.shape.shift, c.shape.doubt
		s.origin = nil
		return &s
	}
	s := &shape{First: c.first, Last: c.last, Logs: make([]float64, min(mostBins, c.last-c.first+1))}
	sums, counts := make([]float64, len(s.Logs)), make([]float64, len(s.Logs))
	for _, k := range c.kept {
		f := int(k.frame)
		i := (f - s.First) * len(s.Logs) / (s.Last - s.First + 1)
		sums[i] += min(max(float64(k.y)+c.nodes[k.node].off-c.log(f), -most), most)
		counts[i]++
	}
	for i := range s.Logs {
		f := s.First + int((float64(i)+0.5)*s.width())
		s.Logs[i] = c.shapeAt(f) + c.log(f) + sums[i]/(counts[i]+0.5)
	}
	return s
}
