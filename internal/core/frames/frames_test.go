package frames

import (
	"encoding/json"
	"errors"
	"math/rand/v2"
	"strings"
	"testing"
)

func TestParse(t *testing.T) {
	for _, c := range []struct {
		in, want string
		count    int
	}{
		{"1-180", "1-180", 180},
		{"1-9/2", "1-9/2", 5},
		{"1-180/2", "1-179/2", 90},
		{"1,5,9-20", "1,5,9-20", 14},
		{"-10--1", "-10--1", 10},
		{" 7 ", "7", 1},
		{"3, 1 - 2", "1-3", 3},
		{"1-3,2-5", "1-5", 5},
		{"5", "5", 1},
		{"-3", "-3", 1},
		{"1,3", "1,3", 2},
		{"1,2,3,7,9,11,20", "1-3,7-11/2,20", 7},
		{"1,4,6,8", "1,4-8/2", 4},
	} {
		got, err := Parse(c.in)
		if err != nil {
			t.Errorf("Parse(%q): %v", c.in, err)
			continue
		}
		if got.String() != c.want || got.Len() != c.count {
			t.Errorf("Parse(%q) = %q with %d frames, want %q with %d", c.in, got, got.Len(), c.want, c.count)
		}
	}
}

func TestParseErrors(t *testing.T) {
	for _, c := range []struct {
		in       string
		position int
		says     string
	}{
		{"", 0, "empty"},
		{"1-", 2, "last frame is missing"},
		{"10-1", 3, "before the first"},
		{"1-5/0", 4, "step must be 1 or more"},
		{"1-5/-2", 4, "step must be 1 or more"},
		{"1-5/", 4, "step is missing"},
		{"1,,2", 2, "number is missing"},
		{"1-5x", 3, "does not belong"},
		{"one", 0, "not a number"},
		{"1-99999999999999999999", 2, "not between"},
		{"1-900000000", 0, "more than 10000000 frames"},
		{strings.Repeat(",", 1_000_000), maxText, "longer than"},
		{strings.Repeat("1,", 20_000), 0, "parts"},
	} {
		_, err := Parse(c.in)
		var pe *ParseError
		if !errors.As(err, &pe) {
			t.Errorf("Parse(%.20q): error %v, want a ParseError", c.in, err)
			continue
		}
		if pe.Position != c.position || !strings.Contains(pe.Error(), c.says) {
			t.Errorf("Parse(%.20q): %v at %d, want %q at %d", c.in, pe, pe.Position, c.says, c.position)
		}
		if len(pe.Error()) > 300 {
			t.Errorf("Parse(%.20q): the message has %d characters", c.in, len(pe.Error()))
		}
	}
}

// model is the slow and plain set that the fast one is compared with.
type model map[int]bool

func (m model) equal(t *testing.T, s Set, what string) {
	t.Helper()
	if len(m) != s.Len() {
		t.Fatalf("%s: %d frames, want %d", what, s.Len(), len(m))
	}
	last := Least - 2
	for sp := range s.Spans() {
		if sp.First <= last+1 || sp.Len() < 1 {
			t.Fatalf("%s: span %v after frame %d", what, sp, last)
		}
		last = sp.Last
	}
	for f := range s.All() {
		if !m[f] || !s.Has(f) {
			t.Fatalf("%s: frame %d should not be there", what, f)
		}
	}
}

func randomSet(r *rand.Rand) (Set, model) {
	m := model{}
	var spans []Span
	base := r.IntN(400) - 200
	for range r.IntN(40) {
		first := base + r.IntN(300)
		last := first
		if r.IntN(2) == 0 {
			last += r.IntN(80)
		}
		spans = append(spans, Span{first, last})
		for f := first; f <= last; f++ {
			m[f] = true
		}
	}
	return Of(spans...), m
}

func TestSetArithmeticAgainstPlainSets(t *testing.T) {
	for seed := range uint64(3000) {
		r := rand.New(rand.NewPCG(seed, 1))
		a, ma := randomSet(r)
		b, mb := randomSet(r)
		ma.equal(t, a, "a")
		union, minus, both := model{}, model{}, model{}
		for f := range ma {
			union[f] = true
			if mb[f] {
				both[f] = true
			} else {
				minus[f] = true
			}
		}
		for f := range mb {
			union[f] = true
		}
		union.equal(t, a.Union(b), "union")
		minus.equal(t, a.Minus(b), "minus")
		both.equal(t, a.Intersect(b), "intersect")
		if n := r.IntN(50); a.Take(n).Len() != min(n, a.Len()) || !a.Take(n).Minus(a).Empty() {
			t.Fatalf("seed %d: Take(%d) of %v = %v", seed, n, a, a.Take(n))
		}
		if a.Empty() {
			continue
		}
		if back, err := Parse(a.String()); err != nil || !back.Equal(a) {
			t.Fatalf("seed %d: %q came back as %q, %v", seed, a, back, err)
		}
		if back, err := ParseMultirange(a.Multirange()); err != nil || !back.Equal(a) {
			t.Fatalf("seed %d: multirange %s came back as %q, %v", seed, a.Multirange(), back, err)
		}
		if !a.Has(a.First()) || !a.Has(a.Last()) || a.Has(a.First()-1) || a.Has(a.Last()+1) {
			t.Fatalf("seed %d: ends %d and %d of %v", seed, a.First(), a.Last(), a)
		}
	}
}

func TestSetJSON(t *testing.T) {
	for _, text := range []string{"", "1-20,25", "-5--1,3"} {
		var s, back Set
		if err := s.UnmarshalText([]byte(text)); err != nil {
			t.Fatal(err)
		}
		data, err := json.Marshal(s)
		if err != nil {
			t.Fatal(err)
		}
		if err := json.Unmarshal(data, &back); err != nil || !back.Equal(s) {
			t.Errorf("%s came back as %v, %v", data, back, err)
		}
	}
	var s Set
	if err := json.Unmarshal([]byte(`"1-"`), &s); err == nil {
		t.Error("a broken set was read without error")
	}
}

func TestCanonicalMultirange(t *testing.T) {
	s, err := ParseMultirange("{[1,11),[15,16)}")
	if err != nil || s.String() != "1-10,15" {
		t.Errorf("got %q, %v", s, err)
	}
	for _, bad := range []string{"", "{", "{[1,2}", "{(1,2)}", "{[a,2)}"} {
		if _, err := ParseMultirange(bad); err == nil {
			t.Errorf("%q was read without error", bad)
		}
	}
}

func TestFragmentedSetIsSmall(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	var b builder
	for f := range 1_000_000 {
		if r.IntN(2) == 0 {
			b.add(Span{f, f})
		}
	}
	s := b.set()
	if perFrame := float64(s.Bytes()) / float64(s.Len()); perFrame >= 1 {
		t.Errorf("%.2f bytes a frame in a random half of a million", perFrame)
	}
}

func FuzzParse(f *testing.F) {
	for _, seed := range []string{"1-180", "1-180/2", "1,5,9-20", "-10--1", "1-", "10-1", "1-5/0", ",,,", "- 1", "1--2/3"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		s, err := Parse(text)
		if err != nil {
			var pe *ParseError
			if !errors.As(err, &pe) || pe.Position < 0 || pe.Position > len(text) {
				t.Fatalf("error %v for %q", err, text)
			}
			return
		}
		if s.Empty() {
			t.Fatalf("%q gave no frame and no error", text)
		}
		if s.Len() > 100_000 {
			return
		}
		back, err := Parse(s.String())
		if err == nil && !back.Equal(s) {
			t.Fatalf("%q printed as %q, which is another set", text, s)
		}
	})
}

func BenchmarkMinusOneFrame(b *testing.B) {
	s := Of(Span{1, 1_000_000})
	for b.Loop() {
		s.Minus(One(500_000))
	}
}

// BenchmarkPendingMemory measures how many bytes a job of a million frames
// keeps in mind for each, by which of them are pending. Goal: less than 1.
func BenchmarkPendingMemory(b *testing.B) {
	const job = 1_000_000
	for name, pending := range map[string]func(f int, r *rand.Rand) bool{
		"all":            func(int, *rand.Rand) bool { return true },
		"every second":   func(f int, _ *rand.Rand) bool { return f%2 == 0 },
		"every 20th":     func(f int, _ *rand.Rand) bool { return f%20 == 0 },
		"every 100th":    func(f int, _ *rand.Rand) bool { return f%100 == 0 },
		"half at random": func(_ int, r *rand.Rand) bool { return r.IntN(2) == 0 },
		"1 in 50":        func(_ int, r *rand.Rand) bool { return r.IntN(50) == 0 },
	} {
		b.Run(name, func(b *testing.B) {
			var set Set
			for b.Loop() {
				r := rand.New(rand.NewPCG(1, 1))
				var spans []Span
				for f := range job {
					if pending(f, r) {
						spans = append(spans, Span{f, f})
					}
				}
				set = Of(spans...)
			}
			bytes := 16*cap(set.spans) + 8*cap(set.words)
			b.ReportMetric(float64(bytes)/job, "bytes/frame-of-the-job")
			b.ReportMetric(0, "ns/op")
		})
	}
}
