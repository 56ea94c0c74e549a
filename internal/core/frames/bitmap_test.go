package frames

import (
	"math/rand/v2"
	"slices"
	"testing"
)

// fragmented draws a set with many stretches, and its frames in order.
func fragmented(r *rand.Rand) (Set, []int) {
	first, step := r.IntN(400)-200, 1+r.IntN(3)
	var spans []Span
	for f := first; f < first+50+r.IntN(1500); f += step + r.IntN(2) {
		n := r.IntN(2)
		spans = append(spans, Span{f, f + n})
	}
	s := Of(spans...)
	return s, slices.Collect(s.All())
}

// TestFragmentedSetsAgainstPlainLists compares all that is done by words with
// what lists of frames say.
func TestFragmentedSetsAgainstPlainLists(t *testing.T) {
	bitmaps := 0
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 9))
		s, a := fragmented(r)
		u, b := fragmented(r)
		if s.words != nil {
			bitmaps++
		}
		check := func(what string, got Set, want []int) {
			t.Helper()
			all := slices.Collect(got.All())
			if !slices.Equal(all, want) || got.Len() != len(want) {
				t.Fatalf("seed %d: %s has %d frames, want %d", seed, what, got.Len(), len(want))
			}
			if n := len(slices.Collect(got.Spans())); got.Stretches() != n {
				t.Fatalf("seed %d: %s has %d stretches and says %d", seed, what, n, got.Stretches())
			}
			if got.words != nil && got.base%64 != 0 {
				t.Fatalf("seed %d: %s begins at %d", seed, what, got.base)
			}
		}
		in := func(list []int) func(int) bool {
			return func(f int) bool { _, ok := slices.BinarySearch(list, f); return ok }
		}
		filter := func(list []int, keep func(int) bool) (out []int) {
			for _, f := range list {
				if keep(f) {
					out = append(out, f)
				}
			}
			return out
		}
		inA, inB := in(a), in(b)
		both := slices.Compact(slices.Sorted(slices.Values(append(slices.Clone(a), b...))))
		check("union", s.Union(u), both)
		check("minus", s.Minus(u), filter(a, func(f int) bool { return !inB(f) }))
		check("intersect", s.Intersect(u), filter(a, inB))
		long := Of(Span{a[0] + 3, a[len(a)-1] - 5}, Span{a[len(a)-1] + 200, a[len(a)-1] + 900})
		check(
			"union with a stretch", s.Union(long),
			slices.Compact(slices.Sorted(slices.Values(append(slices.Collect(long.All()), a...)))),
		)
		check("minus a stretch", s.Minus(long), filter(a, func(f int) bool { return !long.Has(f) }))
		check(
			"a stretch minus it", long.Minus(s),
			filter(slices.Collect(long.All()), func(f int) bool { return !inA(f) }),
		)
		check("intersect with a stretch", s.Intersect(long), filter(a, long.Has))
		for range 20 { // one by one
			f := a[0] + r.IntN(a[len(a)-1]-a[0]+1)
			if s.Has(f) {
				s, a = s.Minus(One(f)), filter(a, func(g int) bool { return g != f })
			} else {
				s = s.Union(One(f))
				a = slices.Sorted(slices.Values(append(a, f)))
			}
			check("one by one", s, a)
		}
		n := r.IntN(len(a) + 1)
		check("take", s.Take(n), a[:n])
		check("take last", s.TakeLast(n), a[len(a)-n:])
		if n < len(a) && s.Nth(n) != a[n] {
			t.Fatalf("seed %d: frame %d in order is %d, not %d", seed, n, s.Nth(n), a[n])
		}
		size, at := 1+r.IntN(100), 0
		for _, p := range s.Pieces(size) {
			if p.Count != min(size, len(a)-at) || p.First != a[at] || p.Last != a[at+p.Count-1] {
				t.Fatalf("seed %d: piece %+v at %d of size %d", seed, p, at, size)
			}
			at += p.Count
		}
		if at != len(a) {
			t.Fatalf("seed %d: pieces have %d frames of %d", seed, at, len(a))
		}
		var again Set
		if err := again.UnmarshalText([]byte(s.String())); err != nil || !again.Equal(s) {
			t.Fatalf("seed %d: %v does not read what String printed", seed, err)
		}
	}
	if bitmaps < 100 {
		t.Errorf("only %d sets were bitmaps", bitmaps)
	}
}

func TestLimitsOfRanges(t *testing.T) {
	if _, err := Parse("1-200001/2"); err == nil {
		t.Error("100,001 separate frames were taken")
	}
	if s, err := Parse("1-199999/2"); err != nil || s.Stretches() != MaxStretches {
		t.Errorf("%d stretches, %v", s.Stretches(), err)
	}
	var s Set
	if err := s.UnmarshalText([]byte("0-100000000/2")); err == nil {
		t.Errorf("a set of %d frames was read", s.Len())
	}
	if err := s.UnmarshalText([]byte("1-20000000/2")); err != nil || s.Len() != 10_000_000 || s.Bytes() > 3<<20 {
		t.Errorf("%d frames in %d bytes, %v", s.Len(), s.Bytes(), err)
	}
	if text := s.Brief(); text != "1,3,5,7,9 … (10000000 in all)" && len(text) > 60 {
		t.Errorf("in brief: %s", text)
	}
}

// BenchmarkAlternating does what the farm does most with a set of ten million
// alternating frames.
func BenchmarkAlternating(b *testing.B) {
	s := strided(Part{First: 1, Last: 20_000_000, Step: 2})
	half := s.Take(s.Len() / 2)
	for name, do := range map[string]func(){
		"minus one":       func() { _ = s.Minus(One(7_000_001)) },
		"minus half":      func() { _ = s.Minus(half) },
		"union":           func() { _ = s.Union(half) },
		"take":            func() { _ = s.Take(3_000_000) },
		"take last":       func() { _ = s.TakeLast(3_000_000) },
		"between":         func() { _ = s.Between(1, 20_000_000) },
		"pieces":          func() { _ = s.Pieces(100_000) },
		"brief":           func() { _ = s.Brief() },
		"intersect a few": func() { _ = s.Intersect(half.Take(7)) },
	} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				do()
			}
		})
	}
}
