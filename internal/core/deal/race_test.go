package deal_test

import (
	"fmt"
	"testing"

	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/testkit/smallfarm"
)

// TestWhoRaces has one frame in flight, of which its node should have needed 10
// seconds, and asks whether another node should render it, too.
func TestWhoRaces(t *testing.T) {
	for _, c := range []struct {
		what   string
		mine   float64 // speed of the node that asks; the other has 1
		lasted float64
		beside *deal.Sight // of the last frame of a node three times as fast, that takes it 3.3 s; nil: there is none
		want   bool
	}{
		{"it has just begun, and we are three times as fast", 3, 0, nil, true},
		{"it is as good as done", 3, 9, nil, false},
		{"we are no faster", 1, 0, nil, false},
		{"it lasts half as long again: dear, and we are little faster", 1.5, 15, nil, false},
		{"it lasts so long that it may have stalled", 1, 35, nil, true},
		{"the same, and we are slow: if it is dear we are of no use", 0.5, 35, nil, false},
		{"it surely has stalled", 0.5, 100, nil, true},
		{"a faster one will be free in a moment", 2, 0, &deal.Sight{Begun: true, Frame: 39, Seconds: 3}, false},
		{"a faster one will be free too late", 2, 0, &deal.Sight{Begun: true, Frame: 39}, true},
	} {
		t.Run(c.what, func(t *testing.T) {
			b := smallfarm.New(t, 1, c.mine, 3)
			run := b.Submit("a", "practice", farm.ModeFeed, "1-40", farm.RunRendering)
			for f := 2; f <= 20; f++ {
				b.Observe(1, farm.FrameAccepted{Run: run, Frame: f, RenderSeconds: 10, StartupSeconds: 1})
			}
			all := b.State.Runs[run].ToDo
			last := all.TakeLast(1)
			done := all.Take(39)
			if c.beside != nil {
				done = all.Take(38)
				b.Apply(
					farm.LeaseOpened{
						Lease: 1, Node: 3, Run: run, Session: 1, Frames: all.Take(39).TakeLast(1),
						At: b.Now,
					},
				)
				b.Seen[1] = *c.beside
			}
			owner := b.State.LastLease + 1
			b.Apply(farm.LeaseOpened{Lease: owner, Node: 1, Run: run, Session: 1, Frames: done.Union(last), At: b.Now})
			for f := range done.All() {
				b.Apply(
					farm.FrameAccepted{Run: run, Frame: f, Lease: owner, Node: 1, Hash: "h", At: b.Now},
					farm.FrameDone{Run: run, Frame: f, Lease: owner, Node: 1, Hash: "h", At: b.Now},
				)
			}
			b.Seen[owner] = deal.Sight{Begun: true, Frame: 40, Seconds: c.lasted}
			d := b.Dealer.Race(deal.Ask{Node: 2}, b.Now)
			if got := len(d.Records) > 0; got != c.want {
				t.Errorf("it races: %v (%s), want %v", got, d.Why, c.want)
			}
		})
	}
}

// TestASlowNodeWaitsUntilCostsAreKnown has few frames, and a node that would
// need as long for one as the others for all: as long as nothing is known the
// frame may be dearer than others, and all would wait.
func TestASlowNodeWaitsUntilCostsAreKnown(t *testing.T) {
	for _, mode := range []farm.Mode{farm.ModeFeed, farm.ModeSingle} {
		b := smallfarm.New(t, 1, 1, 0.25)
		run := b.Submit("a", "practice", mode, "1-9", farm.RunQueued)
		if d := b.Ask(3, 0); len(d.Records) > 0 {
			t.Errorf("%s: it is not known what frames cost, and the slow node gets one: %s", mode, d.Why)
		}
		for f := 1; f <= 9; f++ {
			if f != 5 {
				b.Observe(1, farm.FrameAccepted{Run: run, Frame: f, RenderSeconds: 10, StartupSeconds: 0.1})
			}
		}
		if d := b.Ask(3, 0); len(d.Records) == 0 {
			t.Errorf(
				"%s: frames cost 10 s, two nodes need 45 s for nine, and the slow one gets none, with which it would "+
					"be through after 40 s: %s",
				mode, d.Why,
			)
		}
	}
}

// TestReconsider looks that nodes that were passed over are thought of often
// at first, and then less and less.
func TestReconsider(t *testing.T) {
	count := func(first, last int) (n int) {
		for seen := first; seen <= last; seen++ {
			if deal.Reconsider(seen) {
				n++
			}
		}
		return n
	}
	for _, c := range []struct{ first, last, least, most int }{{1, 15, 15, 15}, {16, 31, 5, 10}, {1 << 10, 1<<11 - 1, 5, 12}, {1 << 19, 1<<20 - 1, 5, 12}} {
		if n := count(c.first, c.last); n < c.least || n > c.most {
			t.Errorf(
				"from %d to %d frames it is %d times; want %s", c.first, c.last, n, fmt.Sprint(c.least, " to ", c.most),
			)
		}
	}
}
