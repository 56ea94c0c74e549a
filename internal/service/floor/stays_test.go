package floor

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/service/fleet"
	"vexillum/internal/service/queue"
	"vexillum/internal/service/views"
	"vexillum/internal/wire"
)

func (w *world) stay(in wire.Stay) wire.StayDone {
	w.t.Helper()
	out, err := w.Queue.SetStay(context.Background(), in, farm.Person{Name: "nadia"})
	w.ok(err)
	return out
}

func TestAPlaceIsHeldAsAWhole(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		var nodes []farm.NodeID
		for i := range 6 {
			nodes = append(nodes, w.join(fmt.Sprintf("kiln-%02d", i+1)))
		}
		id := w.submit("a", "practice-feed", "1-100")
		first := w.ask(nodes[0], 0).Lease()
		w.renders(nodes[0], first.ID, 1)
		hold := wire.Stay{Kind: "place", Name: "frames", Held: true, Reason: "the filer is moved"}
		dry := hold
		dry.DryRun = true
		if out := w.stay(dry); !strings.Contains(
			out.Sentence, "would be held; 1 frame in flight on 1 node will finish first, and 1 run waits",
		) {
			t.Errorf("a dry run says %q", out.Sentence)
		}
		if a := w.ask(nodes[1], 0); a.Lease() == nil {
			t.Fatalf("a dry run held the place: %s", a.Why)
		}
		if out := w.stay(hold); !out.Changes ||
			!strings.Contains(out.Sentence, "2 frames in flight on 2 nodes will finish first") {
			t.Errorf("it says %q", out.Sentence)
		}
		if out := w.stay(hold); out.Changes {
			t.Errorf("held twice: %q", out.Sentence)
		}
		if a := w.ask(nodes[2], 0); a.Lease() != nil ||
			!strings.Contains(a.Why, "the place frames is held by nadia: the filer is moved") {
			t.Errorf("a node got %+v: %s", a.Lease(), a.Why)
		}
		orders, err := w.Fleet.Orders(
			context.Background(), nodes[0], 1, fleet.OrdersAsked{Leases: []farm.LeaseID{first.ID}, Caps: 0},
		)
		w.ok(err)
		if len(orders.Stop) != 1 || orders.Stop[0].Now ||
			!strings.Contains(orders.Stop[0].Reason, "the place frames is held") {
			t.Errorf("orders are %+v", orders)
		}
		if why := w.run(id).Why; !strings.Contains(
			why, "the place frames is held by nadia: the filer is moved; 2 frames in flight will finish first",
		) {
			t.Errorf("the run says %q", why)
		}
		f, err := w.Views.Farm(context.Background(), farm.Sight{})
		w.ok(err)
		if len(f.Hands) != 1 || *f.Hands[0].Subject != (wire.Subject{Kind: "place", Name: "frames"}) {
			t.Errorf("needs a hand: %+v", f.Hands)
		}

		// Released in steps of two: four nodes after the second.
		out := w.stay(wire.Stay{Kind: "place", Name: "frames", Step: 2, EverySeconds: 30})
		if !strings.Contains(out.Sentence, "is released, 2 nodes at once and as many again every 30 s") {
			t.Errorf("it says %q", out.Sentence)
		}
		got := func() (n int) {
			for _, id := range nodes[2:] {
				if a := w.ask(id, 0); a.Lease() != nil {
					n++
				} else if !strings.Contains(a.Why, "released in steps of 2 nodes every 30s") && !strings.Contains(a.Why, "no room") {
					t.Errorf("why not: %s", a.Why)
				}
			}
			return n
		}
		if n := got(); n != 0 { // two work at it already
			t.Errorf("%d more began at once", n)
		}
		time.Sleep(31 * time.Second)
		synctest.Wait()
		for _, id := range nodes { // who is silent gets nothing
			w.ok(
				w.Fleet.Beat(
					context.Background(), id, 1,
					fleet.Beat{
						Leases: map[farm.LeaseID]fleet.Progress{first.ID: {}},
						Signs:  views.Signs{DiskFree: -1, MemoryFree: -1},
					},
				),
			)
		}
		if n := got(); n != 2 {
			t.Errorf("%d more began after one step, want 2", n)
		}
		time.Sleep(10 * time.Minute)
		if stays, err := w.Queue.Stays(context.Background()); err != nil || len(stays) != 0 {
			t.Errorf("when all may work, what is left is %+v %v", stays, err)
		}
	})
}

func TestRecipesAndPoolsAreHeldAsAWhole(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		inside, outside := w.join("kiln-01"), w.join("kiln-02")
		_, err := w.Setup.SetPool(
			context.Background(), "graphics", wire.NewPool{Projects: nil}, farm.Person{Name: "nadia"},
		)
		w.ok(err)
		_, err = w.Fleet.Change(
			context.Background(),
			wire.NodeChange{Selection: wire.Selection{Nodes: []int64{int64(inside)}}, AddPools: []string{"graphics"}},
			farm.Person{Name: "nadia"},
		)
		w.ok(err)
		w.submit("a", "practice-feed", "1-100")
		w.stay(wire.Stay{Kind: "pool", Name: "graphics", Held: true})
		if a := w.ask(inside, 0); a.Lease() != nil || !strings.Contains(a.Why, "the pool graphics is held by nadia") {
			t.Errorf("in the pool: %+v %s", a.Lease(), a.Why)
		}
		if a := w.ask(outside, 0); a.Lease() == nil {
			t.Errorf("outside the pool: %s", a.Why)
		}
		w.stay(wire.Stay{Kind: "pool", Name: "graphics"})
		w.stay(wire.Stay{Kind: "recipe", Name: "practice-feed", Held: true})
		other := w.submit("b", "practice", "1-100")
		a := w.ask(inside, 0)
		if a.Lease() == nil || a.Lease().Run != other {
			t.Errorf("with another recipe: %+v %s", a.Lease(), a.Why)
		}
		for in, says := range map[wire.Stay]string{
			{Kind: "shelf", Name: "x"}:                                                      "not \"shelf\"",
			{Kind: "place", Name: "x", Held: true}:                                          "there is no place",
			{Kind: "recipe", Name: "practice", Step: 2}:                                     "1 s to 24 h",
			{Kind: "recipe", Name: "practice", Held: true, Step: 2}:                         "only a release",
			{Kind: "recipe", Name: "practice", Step: 1 << 30, EverySeconds: 5}:              "a step is",
			{Kind: "pool", Name: "graphics", Reason: strings.Repeat("x", 401)}:              "400 characters",
			{Kind: "recipe", Name: "practice", Held: false, Step: -1}:                       "a step is",
			{Kind: "recipe", Name: "practice", Held: false, Step: 1, EverySeconds: 1 << 20}: "24 h",
		} {
			if _, err := w.Queue.SetStay(context.Background(), in, farm.Person{Name: "nadia"}); err == nil ||
				!strings.Contains(err.Error(), says) {
				t.Errorf("%+v: %v, want %q", in, err, says)
			}
		}
	})
}

// TestASecondLeaseComesWhenMemoryAllows lets a node wait for room, and tells by
// its signs of life that there is some now.
func TestASecondLeaseComesWhenMemoryAllows(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		w.o.State.Nodes[n].Facts.Cores, w.o.State.Nodes[n].Facts.MemoryBytes = 4, 16<<30
		const gib = 1 << 30
		sub := queue.Submission{
			Actor: "nadia",
			Spec: farm.Spec{
				Job: "a", Project: "salt-clock", Recipe: "practice-feed", Scene: "a.practice",
				Kind: farm.Final, Width: 64, Height: 36, Tries: 3,
				Takes: farm.Amounts{
					Cores: 1, MemoryBytes: 4 * gib,
				},
				Frames: frames.Of(frames.Span{First: 1, Last: 50}),
			},
		}
		sub, err := w.Queue.CheckSubmission(sub)
		w.ok(err)
		_, err = w.Queue.Submit(context.Background(), sub)
		w.ok(err)
		w.asks[n]++
		brief, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		first, err := w.Fleet.Ask(
			brief, n, fleet.Question{Session: 1, Number: w.asks[n], Memory: &capacity.Memory{Free: 6 * gib}},
		)
		w.ok(err)
		if len(first.Leases) != 1 || !first.More {
			t.Fatalf("the first ask gets %d leases, more: %v, because %s", len(first.Leases), first.More, first.Why)
		}
		l := first.Leases[0].ID
		got := make(chan fleet.Answer, 1)
		w.asks[n]++
		number := w.asks[n]
		go func() {
			ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
			defer cancel()
			a, _ := w.Fleet.Ask(
				ctx, n,
				fleet.Question{
					Session: 1, Number: number,
					Memory: &capacity.Memory{Free: 2 * gib, Used: map[farm.LeaseID]int64{l: 4 * gib}},
				},
			)
			got <- a
		}()
		synctest.Wait()
		beat := func(free int64) {
			w.ok(
				w.Fleet.Beat(
					context.Background(), n, 1,
					fleet.Beat{
						Leases: map[farm.LeaseID]fleet.Progress{l: {MemoryBytes: 4 * gib}},
						Signs:  views.Signs{DiskFree: -1, MemoryFree: free},
					},
				),
			)
			synctest.Wait()
		}
		beat(3 * gib)
		select {
		case a := <-got:
			t.Fatalf("with 3 GiB free it gets %+v: %s", a.Leases, a.Why)
		default:
		}
		beat(6 * gib)
		if a := <-got; len(a.Leases) != 1 || a.Leases[0].Share.Cores.String() != "1" {
			t.Errorf("with 6 GiB free it gets %+v: %s", a.Leases, a.Why)
		}
	})
}
