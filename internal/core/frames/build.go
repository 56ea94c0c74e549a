package frames

import (
	"iter"
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
	first, last := b.spans[0].First, b.spans[len(b.spans)-1].Last
	wordCount := (last-first)/64 + 1
	if 8*wordCount >= 16*len(b.spans) {
		return Set{spans: slices.Clip(b.spans), count: count}
	}
	words := make([]uint64, wordCount)
	for _, s := range b.spans {
		for f := s.First; f <= s.Last; f++ {
			i := f - first
			if i%64 == 0 && s.Last-f >= 63 {
				words[i/64] = ^uint64(0)
				f += 63
				continue
			}
			words[i/64] |= 1 << (i % 64)
		}
	}
	return Set{words: words, base: first, count: count}
}

// merge walks both sets once and keeps the stretches for which keep says so.
func merge(s, t Set, keep func(inS, inT bool) bool) Set {
	var b builder
	nextS, stopS := iter.Pull(s.Spans())
	defer stopS()
	nextT, stopT := iter.Pull(t.Spans())
	defer stopT()
	a, okA := nextS()
	c, okC := nextT()
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
				a, okA = nextS()
			}
		}
		if inC {
			if c.First = to + 1; c.Len() <= 0 {
				c, okC = nextT()
			}
		}
	}
	return b.set()
}
