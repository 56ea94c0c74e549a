package frames

import (
	"math/rand/v2"
	"testing"
)

// TestOneFrameAtATime plays a million small steps against a plain map: adding
// and taking away single frames must agree with what merging whole sets gives.
func TestOneFrameAtATime(t *testing.T) {
	for seed := range uint64(40) {
		r := rand.New(rand.NewPCG(seed, 1))
		width := []int{20, 200, 3000}[seed%3]
		low := -r.IntN(width)
		var s Set
		has := map[int]bool{}
		for step := range 4000 {
			f := low + r.IntN(width)
			if step/1000%2 == 0 {
				s, has[f] = s.Union(One(f)), true
			} else {
				s = s.Minus(One(f))
				delete(has, f)
			}
			if s.Has(f) != has[f] || s.Len() != len(has) {
				t.Fatalf(
					"seed %d, step %d: %d frames, should be %d; frame %d %v", seed, step, s.Len(), len(has), f,
					s.Has(f),
				)
			}
			if step%200 == 0 {
				compare(t, s, has, low, width, r)
			}
		}
	}
}

func compare(t *testing.T, s Set, has map[int]bool, low, width int, r *rand.Rand) {
	t.Helper()
	var spans []Span
	for f := range has {
		spans = append(spans, Span{f, f})
	}
	want := Of(spans...)
	if !s.Equal(want) || s.String() != want.String() {
		t.Fatalf("%v, should be %v", s, want)
	}
	first := low + r.IntN(width)
	last := first + r.IntN(width)
	if got, want := s.Between(first, last), s.Intersect(Of(Span{first, last})).Len(); got != want {
		t.Fatalf("%d frames of %v from %d to %d, should be %d", got, s, first, last, want)
	}
	f, ok := s.From(first)
	rest := s.Minus(Of(Span{Least, first - 1}))
	if ok == rest.Empty() || ok && f != rest.First() {
		t.Fatalf("the first frame of %v from %d is %d, %v; should be the first of %v", s, first, f, ok, rest)
	}
	n := r.IntN(s.Len() + 2)
	if got, want := s.TakeLast(n), s.Minus(s.Take(s.Len()-n)); !got.Equal(want) {
		t.Fatalf("the last %d of %v are %v, should be %v", n, s, got, want)
	}
}

func TestSpread(t *testing.T) {
	for _, c := range []struct {
		set  string
		n    int
		want string
	}{
		{"1-180", 4, "1,61,120,180"}, {"1-5", 9, "1-5"}, {"1-5", 1, "3"}, {"1-10,101-110", 3, "1,101,110"},
		{"7", 3, "7"}, {"1-180/2", 3, "1,91,179"}, {"-10--1", 2, "-10,-1"}, {"1-3", 0, ""},
	} {
		set, err := Parse(c.set)
		if err != nil {
			t.Fatal(err)
		}
		if got := set.Spread(c.n).String(); got != c.want {
			t.Errorf("%d of %s are %s, want %s", c.n, c.set, got, c.want)
		}
	}
	large := Of(Span{1, 1_000_000}).Minus(Of(Span{3, 17}, Span{200, 999}))
	for _, n := range []int{2, 3, 17, 999, 100_000} {
		got := large.Spread(n)
		if got.Len() != n || got.First() != 1 || got.Last() != 1_000_000 || !got.Minus(large).Empty() {
			t.Errorf("%d of %d frames are %d, from %d to %d", n, large.Len(), got.Len(), got.First(), got.Last())
		}
	}
}
