package pace

import (
	"maps"
	"math"
	"slices"
	"strconv"

	"gonum.org/v1/gonum/mat"

	"vexillum/internal/core/farm"
)

// What a frame costs in a run that is larger, or of other quality, than an earlier run of
// its job is that run's cost times powers of the ratios:
//
//	log(cost ÷ cost before) = e·log(pixels ÷ pixels before) + Σ eᵢ·log((vᵢ+1) ÷ (vᵢ+1 before))
//
// The vᵢ are the settings that are numbers. The exponents are those of a Bayesian linear
// regression for each recipe (Bishop, Pattern Recognition and Machine Learning, 3.3), over
// pairs of runs of one job; as long as there is no pair, cost goes with the pixels.

const (
	pixelsMean   = 1.0  // exponent of the pixels before anything was seen
	pixelsSpread = 0.25 // and its standard deviation
	valueSpread  = 0.75 // of the exponents of settings, whose mean is 0
	pairNoise    = 0.15 // standard deviation of the logarithm of a pair
	mostTerms    = 24   // settings that are told apart, by recipe
)

// scaling is what pairs of runs have told of one recipe.
type scaling struct {
	names []string  // of the terms: "" is the pixels
	sums  []float64 // Σ xxᵀ ÷ noise², by rows
	rhs   []float64 // Σ xy ÷ noise²
	pairs int
}

// settings are what the cost of a run's frames may go with.
type settings struct {
	recipe string
	pixels float64
	values map[string]float64
}

func settingsOf(spec farm.Spec) settings {
	s := settings{recipe: spec.Recipe, pixels: float64(spec.Width) * float64(spec.Height), values: map[string]float64{}}
	for name, text := range spec.Values {
		if v, err := strconv.ParseFloat(text, 64); err == nil && v >= 0 && !math.IsInf(v, 0) {
			s.values[name] = v
		}
	}
	return s
}

// against returns the terms in which settings differ from those of an earlier run.
func (s settings) against(before settings) map[string]float64 {
	out := map[string]float64{}
	if s.recipe != before.recipe {
		return out
	}
	if s.pixels > 0 && before.pixels > 0 && s.pixels != before.pixels {
		out[""] = math.Log(s.pixels / before.pixels)
	}
	for name, v := range s.values {
		if was, both := before.values[name]; both && was != v {
			out[name] = math.Log((v + 1) / (was + 1))
		}
	}
	return out
}

func (s *scaling) index(name string) (int, bool) {
	i := slices.Index(s.names, name)
	return i, i >= 0
}

// learn takes in by how much more frames of a run have cost than those of another.
func (s *scaling) learn(terms map[string]float64, y float64) {
	for _, name := range slices.Sorted(maps.Keys(terms)) {
		if _, known := s.index(name); !known && len(s.names) < mostTerms {
			s.grow(name)
		}
	}
	x := make([]float64, len(s.names))
	for name, v := range terms {
		if i, known := s.index(name); known {
			x[i] = v
		}
	}
	n := len(x)
	for i := range n {
		for j := range n {
			s.sums[i*n+j] += x[i] * x[j] / square(pairNoise)
		}
		s.rhs[i] += x[i] * y / square(pairNoise)
	}
	s.pairs++
}

func (s *scaling) grow(name string) {
	n := len(s.names)
	sums := make([]float64, (n+1)*(n+1))
	for i := range n {
		copy(sums[i*(n+1):], s.sums[i*n:(i+1)*n])
	}
	s.names, s.sums, s.rhs = append(s.names, name), sums, append(s.rhs, 0)
}

func prior(name string) (mean, spread float64) {
	if name == "" {
		return pixelsMean, pixelsSpread
	}
	return 0, valueSpread
}

// factor returns the logarithm of by how much more frames cost, and its standard deviation.
func (s *scaling) factor(terms map[string]float64) (log, doubt float64) {
	if len(terms) == 0 {
		return 0, 0
	}
	known := &scaling{}
	if s != nil {
		known = &scaling{names: slices.Clone(s.names), sums: slices.Clone(s.sums), rhs: slices.Clone(s.rhs)}
	}
	for _, name := range slices.Sorted(maps.Keys(terms)) {
		if _, there := known.index(name); !there {
			known.grow(name)
		}
	}
	n := len(known.names)
	precision, rhs, x := mat.NewSymDense(n, nil), mat.NewVecDense(n, nil), mat.NewVecDense(n, nil)
	for i, name := range known.names {
		mean, spread := prior(name)
		for j := i; j < n; j++ {
			precision.SetSym(i, j, known.sums[i*n+j])
		}
		precision.SetSym(i, i, precision.At(i, i)+1/square(spread))
		rhs.SetVec(i, known.rhs[i]+mean/square(spread))
		x.SetVec(i, terms[name])
	}
	var chol mat.Cholesky
	if !chol.Factorize(precision) { // it is a sum of squares and a positive diagonal
		return 0, 0
	}
	var mean, spread mat.VecDense
	if chol.SolveVecTo(&mean, rhs) != nil || chol.SolveVecTo(&spread, x) != nil {
		return 0, 0
	}
	return mat.Dot(&mean, x), math.Sqrt(max(0, mat.Dot(&spread, x)))
}

// Scale returns by how much more a frame of one run costs than the same frame of another of
// its job, as far as that follows from their settings, and the standard deviation of the
// logarithm of that.
func (m *Model) Scale(of, before farm.Spec) (factor, doubt float64) {
	log, doubt := m.scales[of.Recipe].factor(settingsOf(of).against(settingsOf(before)))
	return math.Exp(log), doubt
}

// scaled returns what an earlier run of a job tells for a run of other settings.
func (m *Model) scaled(s *shape, spec farm.Spec) *shape {
	if s == nil || s.of.recipe == "" { // of a farm on paper
		return s
	}
	terms := settingsOf(spec).against(s.of)
	if len(terms) == 0 {
		return s
	}
	out := *s
	out.origin = s
	shift, doubt := m.scales[spec.Recipe].factor(terms)
	out.shift, out.doubt = s.shift+shift, math.Hypot(s.doubt, doubt)
	return &out
}

// pair learns from a run and the one of its job before.
func (m *Model) pair(run *farm.Run, c *Curve) {
	if c.shape == nil || c.knots == nil || c.shape.of.recipe == "" || len(c.kept) == 0 {
		return
	}
	terms := settingsOf(run.Spec).against(c.shape.of)
	if len(terms) == 0 {
		return
	}
	sum := 0.0
	for _, s := range c.kept {
		sum += c.log(int(s.frame))
	}
	if m.scales[run.Spec.Recipe] == nil {
		m.scales[run.Spec.Recipe] = &scaling{}
	}
	m.scales[run.Spec.Recipe].learn(terms, c.shape.shift-c.shape.whole().shift+sum/float64(len(c.kept)))
}
