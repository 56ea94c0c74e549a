package timeline

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"
)

var start = time.Date(2031, 3, 4, 0, 0, 0, 0, time.UTC)

func at(minute int) time.Time { return start.Add(time.Duration(minute) * time.Minute) }

func written(spans []Span) string {
	var out []string
	for _, s := range spans {
		to := "…"
		if !s.To.IsZero() {
			to = fmt.Sprint(int(s.To.Sub(start).Minutes()))
		}
		what := fmt.Sprintf("run %d ×%d in lane %d", s.Run, s.Leases, s.Lane)
		if s.Run == 0 {
			what = s.Is
		}
		out = append(out, fmt.Sprintf("%d-%s %s", int(s.From.Sub(start).Minutes()), to, what))
	}
	return strings.Join(out, "; ")
}

func TestWhatANodeDid(t *testing.T) {
	open := func(m, _, run int) Event {
		return Event{At: at(m), Kind: Opened, Run: int64(run)}
	}
	end := func(m, _, run int) Event {
		return Event{At: at(m), Kind: Ended, Run: int64(run)}
	}
	is := func(m int, of, state string) Event { return Event{At: at(m), Kind: State, Of: of, Is: state} }
	for _, c := range []struct {
		name   string
		events []Event
		want   string
	}{
		{"leases of a run that follow each other are one", []Event{open(1, 1, 7), end(5, 1, 7), open(5, 2, 7), end(9, 2, 7), open(20, 3, 7)}, "1-9 run 7 ×2 in lane 0; 20-… run 7 ×1 in lane 0"},
		{"another run is another stretch", []Event{open(1, 1, 7), end(5, 1, 7), open(5, 2, 8), end(9, 2, 8)}, "1-5 run 7 ×1 in lane 0; 5-9 run 8 ×1 in lane 0"},
		{"side by side", []Event{open(1, 1, 7), open(2, 2, 7), open(3, 3, 8), end(4, 1, 7), open(4, 4, 7), end(9, 4, 7), end(9, 2, 7), end(9, 3, 8)},
			"1-9 run 7 ×2 in lane 0; 2-9 run 7 ×1 in lane 1; 3-9 run 8 ×1 in lane 2"},
		{"what nobody saw begin is not drawn", []Event{end(4, 1, 7), open(5, 2, 7)}, "5-… run 7 ×1 in lane 0"},
		{"states", []Event{is(1, "reach", "silent"), is(3, "duty", "held"), is(5, "reach", ""), is(6, "duty", "draining"), is(7, "duty", ""), is(8, "health", "")},
			"1-5 silent; 3-6 held; 6-7 draining"},
		{"nothing", nil, ""},
	} {
		if got := written(Spans(c.events, start, 2*time.Minute)); got != c.want {
			t.Errorf("%s: %s, want %s", c.name, got, c.want)
		}
	}
	if got := written(
		Spans(
			[]Event{open(1, 1, 7), end(5, 1, 7), open(9, 2, 8), is(2, "duty", "held"), is(4, "duty", "")}, at(8),
			time.Minute,
		),
	); got != "9-… run 8 ×1 in lane 0" {
		t.Errorf("since minute 8: %s", got)
	}
}

// TestLanesNeverOverlap opens and ends leases at random.
func TestLanesNeverOverlap(t *testing.T) {
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 13))
		var events []Event
		held := map[int64]int64{}
		lease := int64(0)
		for m := range 200 {
			if r.IntN(2) == 0 && len(held) < 5 {
				lease++
				held[lease] = 1 + r.Int64N(3)
				events = append(events, Event{At: at(m), Kind: Opened, Run: held[lease]})
			}
			for l, run := range held {
				if r.IntN(6) == 0 {
					events = append(events, Event{At: at(m), Kind: Ended, Run: run})
					delete(held, l)
				}
			}
		}
		spans := Spans(events, start.Add(-time.Minute), 3*time.Minute)
		total := 0
		for i, a := range spans {
			total += a.Leases
			for _, b := range spans[:i] {
				if a.Lane == b.Lane && (b.To.IsZero() || a.From.Before(b.To)) {
					t.Fatalf("seed %d: %s", seed, written([]Span{b, a}))
				}
			}
		}
		if total != int(lease) {
			t.Fatalf("seed %d: %d leases are drawn of %d", seed, total, lease)
		}
	}
}
