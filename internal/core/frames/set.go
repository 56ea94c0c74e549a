package frames

import (
	"encoding/json"
	"fmt"
	"iter"
	"math/bits"
	"slices"
	"strconv"
	"strings"
)

// Span is a stretch of consecutive frames, both ends included.
type Span struct{ First, Last int }

// Len returns the number of frames in the span.
func (s Span) Len() int { return s.Last - s.First + 1 }

// Set is a set of frames. It is kept as sorted spans, or as a bitmap where it
// is so fragmented that this is smaller. The zero Set is empty.
type Set struct {
	spans []Span   // sorted, neither touching nor overlapping; nil when words is used
	words []uint64 // bit i of word w is frame base + 64 w + i
	base  int      // a multiple of 64
	parts int      // stretches of a bitmap
	count int
}

// Of returns the set of all frames in the given spans, in any order. A span
// whose Last lies before its First is ignored.
func Of(spans ...Span) Set {
	var b builder
	for _, s := range spans {
		b.add(s)
	}
	return b.set()
}

// One returns the set that holds frame f alone.
func One(f int) Set { return Set{spans: []Span{{f, f}}, count: 1} }

// Len returns the number of frames in s.
func (s Set) Len() int { return s.count }

// Empty reports whether s has no frame.
func (s Set) Empty() bool { return s.count == 0 }

// First returns the lowest frame; s must not be empty.
func (s Set) First() int {
	if len(s.spans) > 0 {
		return s.spans[0].First
	}
	for sp := range s.Spans() {
		return sp.First
	}
	panic("frames: First of an empty set")
}

// Last returns the highest frame; s must not be empty.
func (s Set) Last() int {
	if s.words == nil {
		return s.spans[len(s.spans)-1].Last
	}
	for w := len(s.words) - 1; w >= 0; w-- {
		if s.words[w] != 0 {
			return s.base + 64*w + 63 - bits.LeadingZeros64(s.words[w])
		}
	}
	panic("frames: Last of an empty set")
}

// Has reports whether f is in s.
func (s Set) Has(f int) bool {
	if s.words != nil {
		i := f - s.base
		return i >= 0 && i < 64*len(s.words) && s.words[i/64]&(1<<(i%64)) != 0
	}
	i, found := slices.BinarySearchFunc(s.spans, f, func(sp Span, f int) int { return sp.First - f })
	return found || i > 0 && f <= s.spans[i-1].Last
}

// Spans yields the stretches of s in rising order; no two of them touch.
func (s Set) Spans() iter.Seq[Span] {
	if s.words == nil {
		return slices.Values(s.spans)
	}
	return func(yield func(Span) bool) {
		c := cursor{set: s}
		for sp, ok := c.next(); ok; sp, ok = c.next() {
			if !yield(sp) {
				return
			}
		}
	}
}

// All yields the frames of s in rising order.
func (s Set) All() iter.Seq[int] {
	return func(yield func(int) bool) {
		for sp := range s.Spans() {
			for f := sp.First; f <= sp.Last; f++ {
				if !yield(f) {
					return
				}
			}
		}
	}
}

// Union returns the frames that are in s, in t or in both.
func (s Set) Union(t Set) Set {
	if s.count == 0 {
		return t
	}
	if t.count == 0 {
		return s
	}
	if t.count == 1 {
		switch f := t.First(); {
		case s.Has(f):
			return s
		case s.words == nil || f >= s.base && f < s.base+64*len(s.words):
			return s.with(f)
		}
	}
	return combine(s, t, union)
}

// Minus returns the frames of s that are not in t.
func (s Set) Minus(t Set) Set {
	if s.count == 0 || t.count == 0 {
		return s
	}
	switch {
	case s.count == 1:
		if t.Has(s.First()) {
			return Set{}
		}
		return s
	case t.count == 1:
		if f := t.First(); s.Has(f) {
			return s.without(f)
		}
		return s
	}
	return combine(s, t, minus)
}

// Intersect returns the frames that are in both s and t.
func (s Set) Intersect(t Set) Set {
	if s.count == 0 || t.count == 0 {
		return Set{}
	}
	if s.count > t.count {
		s, t = t, s
	}
	if s.count <= 16 {
		var b builder
		for f := range s.All() {
			if t.Has(f) {
				b.add(Span{f, f})
			}
		}
		return b.set()
	}
	return combine(s, t, intersect)
}

// Equal reports whether s and t hold the same frames.
func (s Set) Equal(t Set) bool {
	return s.count == t.count && s.Minus(t).Empty()
}

// Take returns the first n frames of s, or all of them if there are fewer.
func (s Set) Take(n int) Set {
	if n >= s.count {
		return s
	}
	if s.words != nil && n > manyFrames {
		return s.Intersect(Of(Span{s.First(), s.Nth(n - 1)}))
	}
	var b builder
	for sp := range s.Spans() {
		if n <= 0 {
			break
		}
		if sp.Len() > n {
			sp.Last = sp.First + n - 1
		}
		b.add(sp)
		n -= sp.Len()
	}
	return b.set()
}

// TakeLast returns the last n frames of s, or all of them if there are fewer.
func (s Set) TakeLast(n int) Set {
	if n >= s.count {
		return s
	}
	if n <= 0 {
		return Set{}
	}
	if s.words == nil {
		var taken []Span
		for i := len(s.spans) - 1; n > 0; i-- {
			sp := s.spans[i]
			if sp.Len() > n {
				sp.First = sp.Last - n + 1
			}
			taken = append(taken, sp)
			n -= sp.Len()
		}
		slices.Reverse(taken)
		return (&builder{spans: taken}).set()
	}
	return s.Intersect(Of(Span{s.Nth(s.count - n), s.Last()}))
}

// Spread returns n frames of s as evenly spread as can be, the first and the last among
// them; all of s if there are fewer, and the middle one for 1.
func (s Set) Spread(n int) Set {
	switch {
	case n >= s.count:
		return s
	case n <= 0:
		return Set{}
	case n == 1:
		return One(s.Nth((s.count - 1) / 2))
	}
	spans := make([]Span, 0, n)
	next, before := 0, 0 // the number that is wanted next, and frames before the stretch
	for sp := range s.Spans() {
		for next < n {
			at := (2*next*(s.count-1) + n - 1) / (2 * (n - 1)) // rounded
			if at-before >= sp.Len() {
				break
			}
			f := sp.First + at - before
			spans = append(spans, Span{f, f})
			next++
		}
		before += sp.Len()
	}
	return Of(spans...)
}

// manyFrames is from how many on frames of a bitmap are taken by words.
const manyFrames = 1024

// From returns the lowest frame of s that is not below f, and false if there
// is none.
func (s Set) From(f int) (int, bool) {
	if s.words != nil {
		i, ok := s.bitFrom(max(0, f-s.base), false)
		return s.base + i, ok
	}
	i, found := slices.BinarySearchFunc(s.spans, f, func(sp Span, f int) int { return sp.First - f })
	if found || i > 0 && f <= s.spans[i-1].Last {
		return f, true
	}
	if i == len(s.spans) {
		return 0, false
	}
	return s.spans[i].First, true
}

// Between returns how many frames of s lie from first to last, both included.
func (s Set) Between(first, last int) (count int) {
	if s.words != nil {
		from, to := max(0, first-s.base), min(64*len(s.words)-1, last-s.base)
		for w := from / 64; w <= to/64 && from <= to; w++ {
			word := s.words[w]
			if w == from/64 {
				word &= ^uint64(0) << (from % 64)
			}
			if w == to/64 {
				word &= ^uint64(0) >> (63 - to%64)
			}
			count += bits.OnesCount64(word)
		}
		return count
	}
	i, _ := slices.BinarySearchFunc(s.spans, first, func(sp Span, f int) int { return sp.Last - f })
	for ; i < len(s.spans) && s.spans[i].First <= last; i++ {
		count += min(last, s.spans[i].Last) - max(first, s.spans[i].First) + 1
	}
	return count
}

// Bytes returns the memory that the set occupies beyond its own header.
func (s Set) Bytes() int { return 16*cap(s.spans) + 8*cap(s.words) }

// String prints the set in the syntax that Parse reads: "1-180",
// "1-179/2", "1,5,9-20". The empty set prints as "".
func (s Set) String() string {
	var out []byte
	var run []int // single frames with a common distance
	comma := func() {
		if len(out) > 0 {
			out = append(out, ',')
		}
	}
	number := func(n int) { out = strconv.AppendInt(out, int64(n), 10) }
	flush := func() {
		for len(run) > 0 {
			comma()
			number(run[0])
			if len(run) >= 3 {
				out = append(out, '-')
				number(run[len(run)-1])
				out = append(out, '/')
				number(run[1] - run[0])
				run = run[:0]
				return
			}
			run = run[1:]
		}
	}
	for sp := range s.Spans() {
		if sp.Len() == 1 {
			if n := len(run); n >= 2 && sp.First-run[n-1] != run[1]-run[0] {
				if n == 2 { // the second may start a longer row
					second := run[1]
					run = run[:1]
					flush()
					run = append(run[:0], second)
				} else {
					flush()
				}
			}
			if n := len(run); n > 3 { // only the ends and the distance are printed
				run = append(run[:2], run[n-1])
			}
			run = append(run, sp.First)
			continue
		}
		flush()
		run = run[:0]
		comma()
		number(sp.First)
		out = append(out, '-')
		number(sp.Last)
	}
	flush()
	return string(out)
}

// MarshalJSON writes the set as the string that Parse reads.
func (s Set) MarshalJSON() ([]byte, error) { return json.Marshal(s.String()) }

// UnmarshalJSON reads what MarshalJSON wrote.
func (s *Set) UnmarshalJSON(data []byte) error {
	var text string
	if err := json.Unmarshal(data, &text); err != nil {
		return fmt.Errorf("reading a frame set: %w", err)
	}
	return s.UnmarshalText([]byte(text))
}

// UnmarshalText reads what String printed; "" is the empty set.
func (s *Set) UnmarshalText(text []byte) error {
	if len(text) == 0 {
		*s = Set{}
		return nil
	}
	var b builder
	var large Set
	total := 0
	for piece := range strings.SplitSeq(string(text), ",") {
		part, offset, reason := parsePart(piece)
		if reason == "" {
			if total += part.Count(); total > MaxCount {
				offset, reason = 0, fmt.Sprintf("it names more than %d frames", MaxCount)
			}
		}
		if reason != "" {
			return &ParseError{Text: shorten(piece), Position: offset, Reason: reason}
		}
		if part.Step > 1 && part.Count() > manyFrames {
			large = large.Union(strided(part))
			continue
		}
		part.add(&b)
	}
	*s = large.Union(b.set())
	return nil
}

// Multirange prints the set as a PostgreSQL int4multirange literal.
func (s Set) Multirange() string {
	var b strings.Builder
	b.WriteByte('{')
	for sp := range s.Spans() {
		if b.Len() > 1 {
			b.WriteByte(',')
		}
		fmt.Fprintf(&b, "[%d,%d]", sp.First, sp.Last)
	}
	b.WriteByte('}')
	return b.String()
}

// ParseMultirange reads a PostgreSQL int4multirange in its canonical form
// {[a,b),[c,d)} or as Multirange printed it.
func ParseMultirange(text string) (Set, error) {
	body, ok := strings.CutPrefix(text, "{")
	body, ok2 := strings.CutSuffix(body, "}")
	if !ok || !ok2 {
		return Set{}, fmt.Errorf("multirange %q: not in braces", shorten(text))
	}
	var b builder
	for len(body) > 0 {
		end := strings.IndexAny(body, "])")
		if end < 0 || body[0] != '[' {
			return Set{}, fmt.Errorf("multirange %q: a range is not closed", shorten(text))
		}
		low, high, _ := strings.Cut(body[1:end], ",")
		first, err1 := strconv.Atoi(low)
		last, err2 := strconv.Atoi(high)
		if err1 != nil || err2 != nil {
			return Set{}, fmt.Errorf("multirange %q: a bound is not a number", shorten(text))
		}
		if body[end] == ')' {
			last--
		}
		b.add(Span{first, last})
		body = strings.TrimPrefix(body[end+1:], ",")
	}
	return b.set(), nil
}
