package blame

import (
	"cmp"
	"math"
	"slices"
)

// suspect is one of those whom a judgement weighs.
type suspect struct {
	Suspect
	in     []in // failures in which it took part
	passed float64
	prior  float64
	faulty float64 // posterior
	rate   float64 // mean, if faulty
	spoils float64 // mean part of tries that it spoils: faulty × rate
	fits   float64 // its part of how well all is explained
}

// likelyAgain is how likely a cause is, at least, where a suspect has spoilt tries by it
// before: who is at fault mostly does the same again.
const likelyAgain = 0.9

// before reports whether a suspect took part in a failure by a cause so far.
func (s *suspect) before(failures []Failure, cause string) bool {
	return slices.ContainsFunc(s.in, func(in in) bool { return failures[in.failure].Cause == cause })
}

// in is a failure in which a suspect took part, and how likely its cause is then.
type in struct {
	failure int
	likely  float64
}

// Judge weighs all evidence together.
func Judge(e Evidence) Opinion {
	c := court{
		failures: e.Failures, of: make([][]int, len(e.Failures)),
		likely: make([][]float64, len(e.Failures)), chance: make([]float64, len(e.Failures)),
	}
	index := map[Suspect]int{}
	for i, f := range e.Failures {
		likely := row(f.Cause)
		c.chance[i] = chanceRate * max(likely[Chance], 0.01)
		for _, s := range f.Suspects {
			if likely[s.Kind] == 0 {
				continue
			}
			at, known := index[s]
			if !known {
				at = len(c.suspects)
				index[s] = at
				prior, special := e.Prior[s]
				if !special {
					prior = priorsOf[s.Kind].faulty
				}
				c.suspects = append(c.suspects, suspect{Suspect: s, passed: e.Passed[s], prior: prior})
			}
			l := likely[s.Kind]
			if l >= fits && c.suspects[at].before(e.Failures, f.Cause) {
				l = max(l, likelyAgain)
			}
			c.suspects[at].in = append(c.suspects[at].in, in{i, l})
			c.of[i] = append(c.of[i], at)
			c.likely[i] = append(c.likely[i], l)
		}
	}
	c.clump(e.Passed)
	return c.opinion()
}

// Frames of a run are often wrong together. In a run of which some have failed on several
// machines the others are the likelier to be wrong, too: as if it had had clumpOf frames
// before, of which the usual part was.
const clumpOf = 50

// clump raises the prior of frames by what is known of others of their run.
func (c *court) clump(passed map[Suspect]float64) {
	type frames struct {
		bad, all float64
		run      Suspect
	}
	of := map[int64]*frames{}
	for _, s := range c.suspects {
		if s.Kind != Frame {
			continue
		}
		if of[s.ID] == nil {
			of[s.ID] = &frames{}
		}
		r := of[s.ID]
		r.all++
		first, several := Suspect{}, false
		for _, in := range s.in {
			for _, at := range c.of[in.failure] {
				switch other := c.suspects[at].Suspect; {
				case other.Kind == Run:
					r.run = other
				case other.Kind != Node:
				case first == Suspect{}:
					first = other
				default:
					several = several || other != first
				}
			}
		}
		if several && s.passed == 0 {
			r.bad++
		}
	}
	for i := range c.suspects {
		if s := &c.suspects[i]; s.Kind == Frame {
			r := of[s.ID]
			bad := r.bad
			if bad > 0 && s.passed == 0 && len(s.in) > 1 {
				bad-- // the others
			}
			s.prior = max(s.prior, (clumpOf*s.prior+bad)/(clumpOf+r.all+passed[r.run]))
		}
	}
}

// court is one judgement at work.
type court struct {
	failures []Failure
	of       [][]int     // suspects of each failure
	likely   [][]float64 // how likely the cause of each failure is, as in of
	chance   []float64   // that each came about though nobody is at fault
	suspects []suspect
}

// part are failures that have suspects in common, and those.
type part struct{ failures, suspects []int }

// leaveOut is below which odds, even if nobody else had spoilt anything, a suspect is left
// out.
const leaveOut = 1e-3

// parts sorts what has happened into what has nothing in common. Suspects that cannot have
// much to do with it are in none.
func (c *court) parts() []part {
	of := make([]int, len(c.failures)) // the least failure that each has something in common with
	for i := range of {
		of[i] = i
	}
	root := func(i int) int {
		for of[i] != i {
			i = of[i]
		}
		return i
	}
	in := make([]bool, len(c.suspects))
	for at := range c.suspects {
		s := &c.suspects[at]
		if in[at] = c.matters(s); !in[at] {
			continue
		}
		first := root(s.in[0].failure)
		for _, f := range s.in[1:] {
			if other := root(f.failure); other != first {
				of[max(first, other)] = min(first, other)
				first = min(first, other)
			}
		}
	}
	index := map[int]int{}
	var out []part
	for i := range c.failures {
		r := root(i)
		if _, known := index[r]; !known {
			index[r] = len(out)
			out = append(out, part{})
		}
		p := &out[index[r]]
		p.failures = append(p.failures, i)
	}
	for at := range c.suspects {
		if in[at] {
			p := &out[index[root(c.suspects[at].in[0].failure)]]
			p.suspects = append(p.suspects, at)
		}
	}
	return out
}

// matters reports whether a suspect may have spoilt something at all.
func (c *court) matters(s *suspect) bool {
	well := math.Log(1 - s.prior)
	for _, f := range s.in {
		well += math.Log(c.chance[f.failure])
	}
	sum := 0.0
	for _, r := range priorsOf[s.Kind].rates {
		l := math.Log(s.prior*r.common) + s.passed*math.Log(1-r.of)
		for _, f := range s.in {
			l += math.Log(r.of * f.likely)
		}
		sum += math.Exp(min(l-well, 100))
	}
	return sum >= leaveOut
}

// guilt is what an outcome says of a suspect.
type guilt struct {
	at             int
	faulty, spoils float64
}

// outcome is one way in which all may have happened; suspects that it does not name are
// well.
type outcome struct {
	weight float64
	guilts []guilt
}

// What is little enough to be weighed exactly.
const (
	exactFailures = 3
	exactSuspects = 16
)

// outcomes returns how a part may have happened; their weights add up to 1.
func (c *court) outcomes(p part) []outcome {
	var out []outcome
	if len(p.failures) <= exactFailures && len(p.suspects) <= exactSuspects {
		out = c.exactly(p)
	} else {
		out = c.hear(p)
	}
	most := math.Inf(-1)
	for _, o := range out {
		most = max(most, o.weight)
	}
	const nothing = 1e-7
	out = slices.DeleteFunc(out, func(o outcome) bool { return math.Exp(o.weight-most) < nothing })
	sum := 0.0
	for i := range out {
		out[i].weight = math.Exp(out[i].weight - most)
		sum += out[i].weight
	}
	for i := range out {
		out[i].weight /= sum
	}
	return out
}

// exactly weighs all ways in which none, one or two suspects are at fault. Weights are
// logarithms.
func (c *court) exactly(p part) []outcome {
	well := 0.0
	for _, at := range p.suspects {
		c.suspects[at].spoils = 0
		well += math.Log(1 - c.suspects[at].prior)
	}
	out := []outcome{{well + c.explains(p), nil}}
	accuse := func(at int, with func(logs float64, g guilt)) {
		s := &c.suspects[at]
		for _, r := range priorsOf[s.Kind].rates {
			s.spoils = r.of
			with(math.Log(s.prior*r.common)-math.Log(1-s.prior)+s.passed*math.Log(1-r.of), guilt{at, 1, r.of})
		}
		s.spoils = 0
	}
	for i, at := range p.suspects {
		accuse(at, func(one float64, a guilt) {
			out = append(out, outcome{well + one + c.explains(p), []guilt{a}})
			for _, other := range p.suspects[i+1:] {
				accuse(other, func(two float64, b guilt) {
					out = append(out, outcome{well + one + two + c.explains(p), []guilt{a, b}})
				})
			}
		})
	}
	return out
}

// explains is the logarithm of how likely the failures of a part are, as it stands.
func (c *court) explains(p part) float64 {
	sum := 0.0
	for _, i := range p.failures {
		sum += math.Log(c.explained(i, nil))
	}
	return sum
}

// theories are where the weighing may begin: with the kinds that are thought to have
// spoilt all they can. What one explains, the others need not, so that it may end in
// different places.
var theories = [][]Kind{
	{}, {Frame, Heavy}, {Node}, {Device}, {Run}, {Place, Licence}, {Renderer}, {Node, Frame, Heavy},
	{Device, Frame, Heavy},
}

// hear weighs the suspects of a part from each of the theories. Weights are logarithms.
func (c *court) hear(p part) (out []outcome) {
	present := [kinds]bool{}
	for _, at := range p.suspects {
		present[c.suspects[at].Kind] = true
	}
	for _, theory := range theories {
		if len(theory) > 0 && !present[theory[0]] {
			continue
		}
		for _, at := range p.suspects {
			c.begin(&c.suspects[at], slices.Contains(theory, c.suspects[at].Kind))
		}
		c.settle(p)
		o := outcome{weight: c.fits(p), guilts: make([]guilt, len(p.suspects))}
		for k, at := range p.suspects {
			o.guilts[k] = guilt{at, c.suspects[at].faulty, c.suspects[at].spoils}
		}
		if !slices.ContainsFunc(out, o.like) {
			out = append(out, o)
		}
	}
	return out
}

// like reports whether two outcomes of the same part are the same.
func (o *outcome) like(other outcome) bool {
	for i := range o.guilts {
		if math.Abs(o.guilts[i].spoils-other.guilts[i].spoils) > 0.02 {
			return false
		}
	}
	return true
}

// begin sets a suspect to where the weighing begins.
func (c *court) begin(s *suspect, accused bool) {
	rates := priorsOf[s.Kind].rates
	s.rate, s.faulty = 0, s.prior
	for _, r := range rates {
		s.rate += r.of * r.common
	}
	if accused {
		s.faulty = 1
		s.rate = min(0.98, float64(len(s.in))/(float64(len(s.in))+s.passed))
	}
	s.spoils = s.faulty * s.rate
}

// most rounds, and the change below which it stands still.
const (
	mostRounds = 20
	stands     = 1e-3
)

// settle weighs the suspects by turns: those first who explain most.
func (c *court) settle(p part) {
	order := slices.Clone(p.suspects)
	slices.SortStableFunc(order, func(a, b int) int {
		return cmp.Compare(len(c.suspects[b].in), len(c.suspects[a].in))
	})
	for range mostRounds {
		most := 0.0
		for _, at := range order {
			before := c.suspects[at].spoils
			c.weigh(&c.suspects[at])
			most = max(most, math.Abs(c.suspects[at].spoils-before))
		}
		if most < stands {
			return
		}
	}
}

// fits is how well what was found explains a part: the logarithm of its likelihood, less
// what it claims beyond what is common.
func (c *court) fits(p part) float64 {
	sum := c.explains(p)
	for _, at := range p.suspects {
		sum += c.suspects[at].fits
	}
	return sum
}

// weigh works out the posterior of a suspect, given the others.
func (c *court) weigh(s *suspect) {
	rates := priorsOf[s.Kind].rates
	// what the others leave unexplained of each failure
	var buffer [64]float64
	alone := buffer[:0]
	well := product{1, math.Log(1 - s.prior)}
	for _, f := range s.in {
		explained := c.explained(f.failure, s)
		alone = append(alone, 1-explained)
		well.times(explained)
	}
	var logs [8]float64
	highest := well.log()
	for k, r := range rates {
		l := product{1, math.Log(s.prior*r.common) + s.passed*math.Log(1-r.of)}
		for i, f := range s.in {
			l.times(1 - alone[i]*(1-r.of*f.likely))
		}
		logs[k] = l.log()
		highest = max(highest, logs[k])
	}
	wellLog := well.log()
	good := math.Exp(wellLog - highest)
	faulty, mean := 0.0, 0.0
	for k, r := range rates {
		w := math.Exp(logs[k] - highest)
		faulty += w
		mean += w * r.of
	}
	sum := good + faulty
	s.faulty, s.spoils = faulty/sum, mean/sum
	s.rate = mean / max(faulty, math.SmallestNonzeroFloat64)
	s.fits = beyond(good/sum, 1-s.prior)
	for k, r := range rates {
		w := math.Exp(logs[k]-highest) / sum
		s.fits += beyond(w, s.prior*r.common)
		if w > 0 {
			s.fits += w * s.passed * math.Log(1-r.of)
		}
	}
}

// beyond is what a posterior claims beyond a prior, as a loss.
func beyond(posterior, prior float64) float64 {
	if posterior <= 0 {
		return 0
	}
	return -posterior * math.Log(posterior/prior)
}

// explained is the chance that a failure would have come about without a suspect.
func (c *court) explained(failure int, without *suspect) float64 {
	left := 1 - c.chance[failure]
	for k, at := range c.of[failure] {
		if s := &c.suspects[at]; s != without {
			left *= 1 - s.spoils*c.likely[failure][k]
		}
	}
	return 1 - left
}

// product is a product of many numbers between 0 and 1 that does not get too small.
type product struct{ of, logs float64 }

func (p *product) times(x float64) {
	if p.of *= x; p.of < 1e-200 {
		p.logs += math.Log(p.of)
		p.of = 1
	}
}

func (p *product) log() float64 { return p.logs + math.Log(p.of) }

// opinion reads off what has been found.
func (c *court) opinion() Opinion {
	o := Opinion{
		Faulty: make(map[Suspect]float64, len(c.suspects)), Rate: make(map[Suspect]float64, len(c.suspects)),
		Shares: make([][]Share, len(c.failures)),
	}
	for i := range c.failures {
		o.Shares[i] = make([]Share, 1+len(c.of[i]))
		o.Shares[i][0].Suspect = Suspect{Kind: Chance}
		for k, at := range c.of[i] {
			o.Shares[i][k+1].Suspect = c.suspects[at].Suspect
		}
	}
	for at := range c.suspects {
		c.suspects[at].faulty, c.suspects[at].spoils = 0, 0
	}
	faulty, spoils := make([]float64, len(c.suspects)), make([]float64, len(c.suspects))
	parts := c.parts()
	for _, p := range parts {
		outcomes := c.outcomes(p)
		for _, at := range p.suspects {
			c.suspects[at].spoils = 0
		}
		for _, out := range outcomes {
			for _, g := range out.guilts {
				faulty[g.at] += out.weight * g.faulty
				spoils[g.at] += out.weight * g.spoils
				c.suspects[g.at].spoils = g.spoils
			}
			for _, i := range p.failures {
				c.share(i, out.weight, o.Shares[i])
			}
			for _, g := range out.guilts {
				c.suspects[g.at].spoils = 0
			}
		}
	}
	for at, s := range c.suspects {
		o.Faulty[s.Suspect] = min(faulty[at], 1)
		o.Rate[s.Suspect] = min(spoils[at]/max(faulty[at], math.SmallestNonzeroFloat64), 1)
	}
	for _, shares := range o.Shares {
		slices.SortStableFunc(shares, func(a, b Share) int { return cmp.Compare(b.Of, a.Of) })
	}
	return o
}

// share adds to the shares of a failure what they are as it stands.
func (c *court) share(i int, weight float64, shares []Share) {
	var buffer [16]float64
	hazards := append(buffer[:0], hazard(c.chance[i]))
	sum := hazards[0]
	for k, at := range c.of[i] {
		h := hazard(c.suspects[at].spoils * c.likely[i][k])
		hazards = append(hazards, h)
		sum += h
	}
	for k := range shares {
		shares[k].Of += weight * hazards[k] / sum
	}
}

// hazard weighs a chance against others of which the first to strike is to blame.
func hazard(p float64) float64 { return -math.Log1p(-min(p, 1-1e-9)) }
