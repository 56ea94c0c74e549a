package hands

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

var start = time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)

// book is a ledger with its farm.
type book struct {
	t *testing.T
	Ledger
	s *farm.State
}

func (b *book) see(at time.Duration, alerts ...Alert) (kinds string) {
	b.t.Helper()
	for _, r := range b.Compare(b.s, alerts, start.Add(at)) {
		if err := b.s.Apply(r); err != nil {
			b.t.Fatal(err)
		}
		kinds += string(r.Kind()) + " "
	}
	return strings.TrimSpace(kinds)
}

func (b *book) act(of farm.HandOf, do farm.HandAct) {
	b.t.Helper()
	acted := farm.HandActed{Hand: b.s.Hands[of].ID, Of: of, Do: do, By: "nadia", Until: start.Add(time.Hour), At: start}
	if err := b.s.Apply(acted); err != nil {
		b.t.Fatal(err)
	}
}

func parked(n int64) Alert {
	return Alert{Of: farm.HandOf{Kind: "parked", Run: 1}, Extent: n, Sentence: fmt.Sprintf("%d frames are parked.", n)}
}

func TestMoreOfItIsNews(t *testing.T) {
	b := &book{t: t, s: farm.NewState()}
	want := func(got, wanted string) {
		t.Helper()
		if got != wanted {
			t.Errorf("%q, want %q", got, wanted)
		}
	}
	want(b.see(0, parked(1)), "hand raised")
	want(b.see(time.Second, parked(1)), "")
	want(b.see(2*time.Second, parked(3)), "hand raised")
	h := b.s.Hands[parked(1).Of]
	if h.Count != 1 || h.Sentence != "3 frames are parked." || !h.RaisedAt.Equal(start) {
		t.Errorf("%+v", h)
	}
	want(b.see(3*time.Second, parked(2)), "")
	b.act(h.Of, farm.HandTake)
	b.act(h.Of, farm.HandResolve)
	want(b.see(4*time.Second, parked(3)), "")
	if b.s.Hands[h.Of].Open() {
		t.Error("it is open though it was resolved")
	}
	want(b.see(5*time.Second, parked(4)), "hand raised") // more than was resolved
	if h = b.s.Hands[h.Of]; !h.Open() || h.TakenBy != "nadia" {
		t.Errorf("%+v", h)
	}
	want(b.see(6*time.Second), "")
	want(b.see(7*time.Second, parked(4)), "") // it was gone for a moment
	want(b.see(8*time.Second), "")
	want(b.see(17*time.Second), "")
	want(b.see(19*time.Second), "hand ended")
	want(b.see(25*time.Minute, parked(1)), "hand raised")
	if got := b.s.Hands[h.Of]; got.ID != h.ID || got.Count != 3 {
		t.Errorf("%+v", got)
	}
	b.see(26 * time.Minute)
	want(b.see(27*time.Minute), "hand ended")
	want(b.see(2*time.Hour, parked(1)), "hand raised")
	if got := b.s.Hands[h.Of]; got.ID == h.ID || got.Count != 1 || got.TakenBy != "" {
		t.Errorf("hours later: %+v", got)
	}
}

// TestLedgersAgree compares random alerts on one ledger that goes on and on others that are
// begun anew, as by a service that was restarted: nothing is lost, doubled or left open.
func TestLedgersAgree(t *testing.T) {
	for seed := range uint64(40) {
		r := rand.New(rand.NewPCG(seed, 61))
		b := &book{t: t, s: farm.NewState()}
		var seen []Alert
		at := time.Duration(0)
		for range 300 {
			at += time.Duration(r.IntN(20000)) * time.Millisecond
			if r.IntN(25) == 0 {
				b.Ledger = Ledger{}
			}
			seen = nil
			for n := range 4 {
				if r.IntN(3) > 0 {
					a := parked(1 + r.Int64N(3))
					a.Of.Run = farm.RunID(1 + n)
					seen = append(seen, a)
				}
			}
			seen = append(seen, seen...) // told twice
			b.see(at, seen...)
		}
		b.see(at+time.Second, seen...)
		b.see(at+time.Minute, seen...)
		open := map[farm.HandOf]bool{}
		ids := map[farm.HandID]bool{}
		for of, h := range b.s.Hands {
			open[of] = h.EndedAt.IsZero()
			if ids[h.ID] {
				t.Fatalf("seed %d: number %d is there twice", seed, h.ID)
			}
			ids[h.ID] = true
		}
		for n := range 4 {
			of := farm.HandOf{Kind: "parked", Run: farm.RunID(1 + n)}
			there := false
			for _, a := range seen {
				there = there || a.Of == of
			}
			if open[of] != there {
				t.Errorf("seed %d: run %d needs a hand: %v, listed: %v", seed, 1+n, there, open[of])
			}
		}
	}
}

func TestSoManyAreKept(t *testing.T) {
	b := &book{t: t, s: farm.NewState()}
	var many []Alert
	for n := range 3 * mostOpen {
		a := parked(1)
		a.Of.Run = farm.RunID(1 + n)
		many = append(many, a)
	}
	b.see(0, many...)
	if len(b.s.Hands) != mostOpen {
		t.Errorf("%d are kept", len(b.s.Hands))
	}
}

func TestWhatCostsMostIsFirst(t *testing.T) {
	s := farm.NewState()
	s.PutNode(&farm.Node{ID: 1, Name: "kiln-01", Session: 1, Reach: farm.Silent})
	due := start.Add(3 * time.Hour)
	for _, r := range []farm.Record{
		farm.PlaceSet{Name: "scenes"}, farm.PlaceSet{Name: "frames"}, farm.PlaceSet{Name: "spare"},
		farm.ProjectSet{Name: "salt-clock", Weight: 1, Scenes: "scenes", Frames: "frames"},
		farm.RunSubmitted{Run: 1, State: farm.RunRendering, At: start, Spec: farm.Spec{
			Job: "salt_010", Project: "salt-clock", Kind: farm.Final, Number: 1, Frames: frames.Of(frames.Span{First: 1, Last: 100}),
			Tries: 3, Terms: farm.Terms{Due: due},
		}},
		farm.FramesSkipped{Run: 1, Frames: frames.One(100), At: start},
		farm.LeaseOpened{Lease: 1, Node: 1, Run: 1, Session: 1, Frames: frames.Of(frames.Span{First: 1, Last: 5}), At: start},
	} {
		if err := s.Apply(r); err != nil {
			t.Fatal(err)
		}
	}
	seconds := func(*farm.Run) float64 { return 30 }
	for _, c := range []struct {
		of   farm.HandOf
		text string
	}{
		{farm.HandOf{Kind: "parked", Run: 1}, ""},
		{farm.HandOf{Kind: "failing", Run: 1}, "holds up 99 frames, about 50m of one node, due " + farm.Moment(due)},
		{farm.HandOf{Kind: "silent", Node: 1}, "one node less while frames wait, due " + farm.Moment(due)},
		{farm.HandOf{Kind: "hush"}, "holds up 5 frames, about 3m of one node, due " + farm.Moment(due)},
		{
			farm.HandOf{Kind: "place", Subject: "place", Name: "frames"},
			"holds up 99 frames, about 50m of one node, due " + farm.Moment(due),
		},
		{farm.HandOf{Kind: "place", Subject: "place", Name: "spare"}, ""},
	} {
		if got := CostOf(s, c.of, seconds).Rounded().Text(); got != c.text {
			t.Errorf("%+v: %q, want %q", c.of, got, c.text)
		}
	}
	soon, never := Cost{Seconds: 60, Due: due}, Cost{Seconds: 500}
	if soon.Weight(start) <= never.Weight(start) || soon.Weight(start.Add(-48*time.Hour)) >= never.Weight(start) {
		t.Error("what is due soon does not come first")
	}
}
