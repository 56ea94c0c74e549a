package frames

import (
	"math/bits"
	"slices"
)

// builder gathers spans and chooses how the finished set is kept.
type builder struct {
	spans    []Span
	unsorted bool
}

func (b *builder) add(s Span) {
	if s.Len() <= 0 {
		return
	}
	if n := len(b.spans); n > 0 {
		last := &b.spans[n-1]
		if s.First < last.First {
			b.unsorted = true
		} else if s.First <= last.Last+1 {
			last.Last = max(last.Last, s.Last)
			return
		}
	}
	b.spans = append(b.spans, s)
}

func (b *builder) set() Set {
	if b.unsorted {
		slices.SortFunc(b.spans, func(x, y Span) int { return x.First - y.First })
		sorted := builder{spans: make([]Span, 0, len(b.spans))}
		for _, s := range b.spans {
			sorted.add(s)
		}
		b.spans = sorted.spans
	}
	if len(b.spans) == 0 {
		return Set{}
	}
	count := 0
	for _, s := range b.spans {
		count += s.Len()
	}
	base, last := floor64(b.spans[0].First), b.spans[len(b.spans)-1].Last
	wordCount := (last-base)/64 + 1
	if 8*wordCount >= 16*len(b.spans) {
		return Set{spans: slices.Clip(b.spans), count: count}
	}
	words := make([]uint64, wordCount)
	for _, s := range b.spans {
		fill(words, base, s, true)
	}
	return Set{words: words, base: base, parts: len(b.spans), count: count}
}

// cursor reads the spans of a set one after the other.
type cursor struct {
	set Set
	at  int // index of the next span, or offset of the next bit
}

func (c *cursor) next() (Span, bool) {
	if c.set.words == nil {
		if c.at >= len(c.set.spans) {
			return Span{}, false
		}
		c.at++
		return c.set.spans[c.at-1], true
	}
	first, ok := c.set.bitFrom(c.at, false)
	if !ok {
		return Span{}, false
	}
	end, ok := c.set.bitFrom(first, true)
	if !ok {
		end = 64 * len(c.set.words)
	}
	c.at = end
	return Span{c.set.base + first, c.set.base + end - 1}, true
}

// bitFrom returns the offset of the first bit from i on that is set, or that
// is clear.
func (s Set) bitFrom(i int, unset bool) (int, bool) {
	for w := i / 64; w < len(s.words); w++ {
		word := s.words[w]
		if unset {
			word = ^word
		}
		if w == i/64 {
			word &= ^uint64(0) << (i % 64)
		}
		if word != 0 {
			return 64*w + bits.TrailingZeros64(word), true
		}
	}
	return 0, false
}

// merge walks both sets once and keeps the stretches for which keep says so.
func merge(s, t Set, keep func(inS, inT bool) bool) Set {
	var b builder
	b.spans = make([]Span, 0, min(len(s.spans), 1<<16)+min(len(t.spans), 1<<16)+1)
	curS, curT := cursor{set: s}, cursor{set: t}
	a, okA := curS.next()
	c, okC := curT.next()
	for okA || okC {
		// The stretch from the lowest open border to the next border.
		from := Most + 1
		if okA {
			from = a.First
		}
		if okC {
			from = min(from, c.First)
		}
		inA, inC := okA && a.First == from, okC && c.First == from
		to := Most
		if okA {
			if inA {
				to = min(to, a.Last)
			} else {
				to = min(to, a.First-1)
			}
		}
		if okC {
			if inC {
				to = min(to, c.Last)
			} else {
				to = min(to, c.First-1)
			}
		}
		if keep(inA, inC) {
			b.add(Span{from, to})
		}
		if inA {
			if a.First = to + 1; a.Len() <= 0 {
				a, okA = curS.next()
			}
		}
		if inC {
			if c.First = to + 1; c.Len() <= 0 {
				c, okC = curT.next()
			}
		}
	}
	return b.set()
}

// without returns s less one frame that it has; s is more than that frame.
func (s Set) without(f int) Set {
	if s.words != nil {
		out := s
		out.words = slices.Clone(s.words)
		out.words[(f-s.base)/64] &^= 1 << ((f - s.base) % 64)
		out.count--
		out.parts += s.beside(f) - 1
		return out.trimmed()
	}
	i, found := slices.BinarySearchFunc(s.spans, f, func(sp Span, f int) int { return sp.First - f })
	if !found {
		i--
	}
	// A clone is not cleared before it is filled, which is half of what it costs.
	out := Set{count: s.count - 1}
	switch sp := s.spans[i]; {
	case sp.First == f && sp.Last == f:
		out.spans = slices.Concat(s.spans[:i], s.spans[i+1:])
	case sp.First == f:
		out.spans = slices.Clone(s.spans)
		out.spans[i].First++
	case sp.Last == f:
		out.spans = slices.Clone(s.spans)
		out.spans[i].Last--
	default:
		out.spans = slices.Concat(s.spans[:i], []Span{{sp.First, f - 1}, {f + 1, sp.Last}}, s.spans[i+1:])
	}
	return out.packed()
}

// with returns s and one frame that it does not have and that lies within the
// range of its bitmap, if it has one; s is not empty.
func (s Set) with(f int) Set {
	if s.words != nil {
		out := s
		out.words = slices.Clone(s.words)
		out.words[(f-s.base)/64] |= 1 << ((f - s.base) % 64)
		out.count++
		out.parts += 1 - s.beside(f)
		return out
	}
	i, _ := slices.BinarySearchFunc(s.spans, f, func(sp Span, f int) int { return sp.First - f })
	before := i > 0 && s.spans[i-1].Last == f-1
	behind := i < len(s.spans) && s.spans[i].First == f+1
	out := Set{count: s.count + 1}
	switch {
	case before && behind:
		joined := Span{s.spans[i-1].First, s.spans[i].Last}
		out.spans = slices.Concat(s.spans[:i-1], []Span{joined}, s.spans[i+1:])
	case before:
		out.spans = slices.Clone(s.spans)
		out.spans[i-1].Last++
	case behind:
		out.spans = slices.Clone(s.spans)
		out.spans[i].First--
	default:
		out.spans = slices.Concat(s.spans[:i], []Span{{f, f}}, s.spans[i:])
	}
	return out.packed()
}

// beside returns how many of the two neighbours of a frame a bitmap has.
func (s Set) beside(f int) (n int) {
	if s.Has(f - 1) {
		n++
	}
	if s.Has(f + 1) {
		n++
	}
	return n
}

// packed turns spans into a bitmap where that is smaller.
func (s Set) packed() Set {
	words := (s.spans[len(s.spans)-1].Last-floor64(s.spans[0].First))/64 + 1
	if 8*words >= 16*len(s.spans) {
		return s
	}
	return (&builder{spans: s.spans}).set()
}

// trimmed turns a bitmap into spans where so little is left of it that they
// are smaller. It looks only when the count has halved again.
func (s Set) trimmed() Set {
	if s.count > 4*len(s.words) || s.count&(s.count-1) != 0 {
		return s
	}
	return (&builder{spans: slices.Collect(s.Spans())}).set()
}
