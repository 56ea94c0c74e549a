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

func silent(node farm.NodeID) Alert {
	return Alert{
		Of:       farm.HandOf{Kind: farm.HandSilent, Node: node},
		Sentence: fmt.Sprintf("kiln-%02d is silent.", node),
	}
}

func TestTheSameAgainIsOne(t *testing.T) {
	b := &book{t: t, s: farm.NewState()}
	want := func(got, wanted string) {
		t.Helper()
		if got != wanted {
			t.Errorf("%q, want %q", got, wanted)
		}
	}
	of := silent(1).Of
	want(b.see(0, silent(1)), "hand raised")
	want(b.see(time.Second, silent(1)), "")
	b.act(of, farm.HandTake)
	b.act(of, farm.HandResolve)
	want(b.see(2*time.Second, silent(1)), "") // it is still so, and somebody has done with it
	if h := b.s.Hands[of]; h.Open() || !h.Done() {
		t.Errorf("%+v", h)
	}
	b.act(of, farm.HandReopen)
	want(b.see(3*time.Second, silent(1)), "")
	want(b.see(4*time.Second), "")
	want(b.see(5*time.Second, silent(1)), "") // it was gone for a moment
	want(b.see(6*time.Second), "")
	want(b.see(15*time.Second), "")
	last := silent(1)
	last.Sentence = "kiln-01 was silent."
	want(b.see(16*time.Second, last), "")
	want(b.see(17*time.Second), "")
	want(b.see(28*time.Second), "hand ended")
	if h := b.s.Hands[of]; h.Sentence != last.Sentence || h.EndedAt.IsZero() {
		t.Errorf("%+v", h)
	}
	want(b.see(25*time.Minute, silent(1)), "hand raised")
	if h := b.s.Hands[of]; h.ID != 1 || h.Count != 2 || !h.RaisedAt.Equal(start) || h.TakenBy != "nadia" {
		t.Errorf("%+v", h)
	}
	b.see(26 * time.Minute)
	want(b.see(27*time.Minute), "hand ended")
	want(b.see(2*time.Hour, silent(1)), "hand raised")
	if h := b.s.Hands[of]; h.ID != 2 || h.Count != 1 || h.TakenBy != "" {
		t.Errorf("hours later: %+v", h)
	}
}

// TestParkedFramesAreDoneWith: what a run has given up is over once somebody has done with
// it, and there again with the next frame that is parked.
func TestParkedFramesAreDoneWith(t *testing.T) {
	b := &book{t: t, s: farm.NewState()}
	for _, r := range []farm.Record{
		farm.PlaceSet{Name: "frames"}, farm.ProjectSet{Name: "salt-clock", Weight: 1, Scenes: "frames",
			Frames: "frames"},
		farm.RunSubmitted{Run: 1, State: farm.RunHeld, At: start, Spec: farm.Spec{
			Job: "salt_010", Project: "salt-clock", Kind: farm.Final, Number: 1, Tries: 3,
			Frames: frames.Of(frames.Span{First: 1, Last: 9}),
		}},
		farm.FrameParked{Run: 1, Frame: 3, At: start},
	} {
		if err := b.s.Apply(r); err != nil {
			t.Fatal(err)
		}
	}
	parked := Alert{Of: farm.HandOf{Kind: farm.HandParked, Run: 1}, Sentence: "A frame is parked."}
	b.see(0, parked)
	b.act(parked.Of, farm.HandResolve)
	if b.s.Runs[1].LookedAt.IsZero() {
		t.Error("the run does not know that somebody has done with it")
	}
	if err := b.s.Apply(farm.FrameParked{Run: 1, Frame: 4, At: start}); err != nil {
		t.Fatal(err)
	}
	if !b.s.Runs[1].LookedAt.IsZero() {
		t.Error("a further frame is parked, and somebody has done with it already")
	}
	if got := b.see(time.Second, parked); got != "hand raised" || b.s.Hands[parked.Of].Count != 2 {
		t.Errorf("%q: %+v", got, b.s.Hands[parked.Of])
	}
	b.act(parked.Of, farm.HandResolve)
	b.act(parked.Of, farm.HandReopen)
	if !b.s.Runs[1].LookedAt.IsZero() {
		t.Error("it is open again, and the run does not know")
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
					seen = append(seen, silent(farm.NodeID(1+n)))
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
			of := silent(farm.NodeID(1 + n)).Of
			there := false
			for _, a := range seen {
				there = there || a.Of == of
			}
			if open[of] != there {
				t.Errorf("seed %d: node %d needs a hand: %v, listed: %v", seed, 1+n, there, open[of])
			}
		}
	}
}

func TestSoManyAreKept(t *testing.T) {
	b := &book{t: t, s: farm.NewState()}
	var many []Alert
	for n := range 3 * mostOpen {
		many = append(many, silent(farm.NodeID(1+n)))
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
			Job: "salt_010", Project: "salt-clock", Kind: farm.Final, Number: 1,
			Frames: frames.Of(frames.Span{First: 1, Last: 100}),
			Tries:  3, Terms: farm.Terms{Due: due},
		}},
		farm.FramesSkipped{Run: 1, Frames: frames.One(100), At: start},
		farm.LeaseOpened{Lease: 1, Node: 1, Run: 1, Session: 1, Frames: frames.Of(frames.Span{First: 1, Last: 5}),
			At: start},
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
