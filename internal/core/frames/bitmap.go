package frames

import (
	"math/bits"
	"slices"
)

// Sets that are much fragmented are kept as bitmaps, and what is done with them
// goes by words of 64 frames: no operation takes longer for having many
// stretches.

// mostWords bounds the bitmap that an operation may need, in words; what lies
// further apart is merged stretch by stretch.
const mostWords = 1 << 22

// floor64 returns the greatest multiple of 64 that is not above f.
func floor64(f int) int { return f &^ 63 }

// bounds returns the first and last frame of a set that is not empty.
func (s Set) bounds() (first, last int) { return s.First(), s.Last() }

// fill sets the bits of a span in words that begin at base, as far as they reach.
func fill(words []uint64, base int, sp Span, value bool) {
	from, to := max(0, sp.First-base), min(64*len(words)-1, sp.Last-base)
	for w := from / 64; from <= to && w <= to/64; w++ {
		mask := ^uint64(0)
		if w == from/64 {
			mask &= ^uint64(0) << (from % 64)
		}
		if w == to/64 {
			mask &= ^uint64(0) >> (63 - to%64)
		}
		if value {
			words[w] |= mask
		} else {
			words[w] &^= mask
		}
	}
}

// over returns the bits of a set from base on, as a number of words.
func (s Set) over(base, count int) []uint64 {
	out := make([]uint64, count)
	if s.words == nil {
		for _, sp := range s.spans {
			fill(out, base, sp, true)
		}
		return out
	}
	shift := (s.base - base) / 64
	from := max(0, -shift)
	if from < len(s.words) && shift+from < count {
		copy(out[shift+from:], s.words[from:])
	}
	return out
}

// operation is what merges two sets.
type operation int

const (
	union operation = iota
	minus
	intersect
)

func (o operation) keeps(inS, inT bool) bool {
	switch o {
	case union:
		return inS || inT
	case minus:
		return inS && !inT
	}
	return inS && inT
}

// combine merges two sets that are not empty.
func combine(s, t Set, o operation) Set {
	if s.words == nil && t.words == nil {
		return merge(s, t, o.keeps)
	}
	first, last := s.bounds()
	switch f, l := t.bounds(); o {
	case union:
		first, last = min(first, f), max(last, l)
	case intersect:
		first, last = max(first, f), min(last, l)
	}
	if first > last {
		return Set{}
	}
	base := floor64(first)
	count := (last-base)/64 + 1
	if count > mostWords {
		return merge(s, t, o.keeps)
	}
	out := s.over(base, count)
	switch {
	case t.words == nil && o != intersect:
		for _, sp := range t.spans {
			fill(out, base, sp, o == union)
		}
	default:
		other := t.over(base, count)
		for i, w := range other {
			switch o {
			case union:
				out[i] |= w
			case minus:
				out[i] &^= w
			case intersect:
				out[i] &= w
			}
		}
	}
	if o == intersect || o == minus { // bits of s outside the overlap, in its border words
		fill(out, base, Span{base, first - 1}, false)
		fill(out, base, Span{last + 1, base + 64*count - 1}, false)
	}
	return fromWords(out, base)
}

// fromWords returns the set of some bits, in the form that is smaller. The words
// are the set's from then on.
func fromWords(words []uint64, base int) Set {
	from, to := 0, len(words)
	for from < to && words[from] == 0 {
		from++
	}
	for to > from && words[to-1] == 0 {
		to--
	}
	words, base = words[from:to], base+64*from
	count, parts, before := 0, 0, uint64(0)
	for _, w := range words {
		count += bits.OnesCount64(w)
		parts += bits.OnesCount64(w &^ (w<<1 | before))
		before = w >> 63
	}
	if count == 0 {
		return Set{}
	}
	s := Set{words: words, base: base, count: count, parts: parts}
	if 8*len(words) >= 16*parts {
		spans := make([]Span, 0, parts)
		for sp := range s.Spans() {
			spans = append(spans, sp)
		}
		return Set{spans: spans, count: count}
	}
	if cap(words) > len(words)+len(words)/4 {
		s.words = slices.Clone(words)
	}
	return s
}

// strided returns the frames of a part.
func strided(p Part) Set {
	last := p.First + (p.Count()-1)*p.Step
	if p.Step == 1 {
		return Of(Span{p.First, last})
	}
	base := floor64(p.First)
	if count := (last-base)/64 + 1; count <= mostWords && 8*count < 16*p.Count() {
		words := make([]uint64, count)
		for i := p.First - base; i <= last-base; i += p.Step {
			words[i/64] |= 1 << (i % 64)
		}
		return fromWords(words, base)
	}
	var b builder
	for f := p.First; f <= last; f += p.Step {
		b.add(Span{f, f})
	}
	return b.set()
}

// Stretches returns how many runs of consecutive frames the set has.
func (s Set) Stretches() int {
	if s.words == nil {
		return len(s.spans)
	}
	return s.parts
}

// Nth returns the frame that has the given number of frames of the set before it;
// the set must have more than that.
func (s Set) Nth(before int) int {
	if s.words == nil {
		for _, sp := range s.spans {
			if before < sp.Len() {
				return sp.First + before
			}
			before -= sp.Len()
		}
		panic("frames: Nth beyond the end of a set")
	}
	for i, w := range s.words {
		n := bits.OnesCount64(w)
		if before >= n {
			before -= n
			continue
		}
		for ; before > 0; before-- {
			w &= w - 1
		}
		return s.base + 64*i + bits.TrailingZeros64(w)
	}
	panic("frames: Nth beyond the end of a set")
}

// Piece is a part of a set that was cut into pieces of equal count.
type Piece struct {
	First, Last int
	Count       int
}

// Pieces cuts a set into pieces of a number of frames each, the last of what is left,
// in one walk.
func (s Set) Pieces(size int) []Piece {
	var out []Piece
	p := Piece{}
	take := func(first, last, count int) {
		if p.Count == 0 {
			p.First = first
		}
		p.Last = last
		p.Count += count
		if p.Count == size {
			out = append(out, p)
			p = Piece{}
		}
	}
	if s.words == nil {
		for _, sp := range s.spans {
			for first := sp.First; first <= sp.Last; {
				n := min(size-p.Count, sp.Last-first+1)
				take(first, first+n-1, n)
				first += n
			}
		}
	} else {
		for i, w := range s.words {
			at := s.base + 64*i
			for n := bits.OnesCount64(w); n > 0; n = bits.OnesCount64(w) {
				if n <= size-p.Count { // the whole word
					take(at+bits.TrailingZeros64(w), at+63-bits.LeadingZeros64(w), n)
					break
				}
				first, rest := bits.TrailingZeros64(w), size-p.Count
				last := first
				for ; rest > 0; rest-- {
					last = bits.TrailingZeros64(w)
					w &= w - 1
				}
				take(at+first, at+last, size-p.Count)
			}
		}
	}
	if p.Count > 0 {
		out = append(out, p)
	}
	return out
}
