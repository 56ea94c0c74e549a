package floor

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/protocol/accept"
	"vexillum/internal/service/fleet"
	"vexillum/internal/service/queue"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

func TestNewestSessionWins(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		id := w.submit("a", "practice", "1-3")
		w.ask(n, 0)
		started, err := w.Fleet.Start(
			context.Background(), n,
			farm.Facts{OS: "linux", Speed: 1, Renderers: []farm.Renderer{{Recipe: "practice"}}}, nil, nil,
		)
		session := started.Number
		if err != nil || session != 2 || w.run(id).Sets.ToDo != "1-3" {
			t.Errorf("session %d, %v, to do %s", session, err, w.run(id).Sets.ToDo)
		}
		var no *refusal.Refusal
		if _, err := w.Fleet.Ask(
			context.Background(), n, fleet.Question{Session: 1, Number: 9},
		); !errors.As(err, &no) || no.Kind != refusal.Conflict ||
			no.Field != "session" {
			t.Errorf("the old session asks: %v", err)
		}
		if err := w.Fleet.Beat(context.Background(), n, 1, fleet.Beat{}); !errors.As(err, &no) {
			t.Errorf("the old session beats: %v", err)
		}
	})
}

func TestOrdersReachTheNode(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		id := w.submit("a", "practice", "1-9")
		l := w.ask(n, 0).Lease()
		wait := func() chan []fleet.Order {
			got := make(chan []fleet.Order)
			go func() {
				orders, err := w.Fleet.Orders(
					context.Background(), n, 1, fleet.OrdersAsked{Leases: []farm.LeaseID{l.ID}, Caps: 0},
				)
				w.ok(err)
				got <- orders.Stop
			}()
			synctest.Wait()
			return got
		}
		orders := wait()
		_, err := w.Queue.Steer(context.Background(), id, queue.Hold, queue.How{}, admin)
		w.ok(err)
		if o := <-orders; len(o) != 1 || o[0].Now {
			t.Errorf("a hold gave %+v", o)
		}
		_, err = w.Queue.Steer(context.Background(), id, queue.Release, queue.How{}, admin)
		w.ok(err)
		orders = wait()
		_, err = w.Queue.Steer(context.Background(), id, queue.Cancel, queue.How{}, admin)
		w.ok(err)
		if o := <-orders; len(o) != 1 || !o[0].Now {
			t.Errorf("a cancel gave %+v", o)
		}
		if o := <-wait(); len(o) != 1 || !o[0].Now {
			t.Errorf("asked after the fact: %+v", o)
		}
	})
}

func TestFeedStaysOnItsLease(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		id := w.submit("a", "practice-feed", "1-3")
		l := w.ask(n, 0).Lease()
		for f := l.Frames.First(); ; {
			w.report(n, accept.Report{Outcome: accept.Good, Lease: l.ID, Launch: 1, Frame: f, Hash: "h"})
			w.report(n, accept.Report{Outcome: accept.Delivered, Lease: l.ID, Launch: 1, Frame: f, Hash: "h"})
			left := w.run(id).FrameCount - w.run(id).DoneCount
			a := w.ask(n, l.ID)
			if left == 0 {
				if a.Lease() != nil {
					t.Errorf("after the last frame: %+v", a.Lease())
				}
				break
			}
			if a.Lease() == nil || a.Lease().ID != l.ID || a.Lease().Frames.Len() != 1 {
				t.Fatalf("after frame %d: %+v %s", f, a.Lease(), a.Why)
			}
			f = a.Lease().Frames.First()
		}
		if state := w.run(id).State; state != "rendering" {
			t.Errorf("the run is %s while the renderer is up", state)
		}
		w.report(n, accept.Report{Outcome: accept.Ended, Lease: l.ID})
		if state := w.run(id).State; state != "done" {
			t.Errorf("the run is %s", state)
		}
	})
}

func TestKeysOfMachines(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		_, err := w.People.IssueKey(
			context.Background(), farm.Key{Hash: "k", CreatedBy: "admin", UsesLeft: 1}, time.Minute,
		)
		w.ok(err)
		enrol := func(key, name string) error {
			_, err := w.Fleet.Enrol(
				context.Background(), fleet.Enrolment{KeyHash: key, TokenHash: key + name, Name: name, Kind: farm.Rack},
			)
			return err
		}
		for _, c := range []struct{ key, name, says string }{{"other", "a", "not known"}, {"k", "A B", "not a valid node name"}} {
			if err := enrol(c.key, c.name); err == nil || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%s %s: %v", c.key, c.name, err)
			}
		}
		w.ok(enrol("k", "a"))
		if err := enrol("k", "b"); err == nil || !strings.Contains(err.Error(), "used up") {
			t.Errorf("a used up key: %v", err)
		}
		_, err = w.People.IssueKey(
			context.Background(), farm.Key{Hash: "k2", CreatedBy: "admin", UsesLeft: 1}, time.Minute,
		)
		w.ok(err)
		time.Sleep(2 * time.Minute)
		if err := enrol("k2", "c"); err == nil || !strings.Contains(err.Error(), "expired") {
			t.Errorf("an expired key: %v", err)
		}
	})
}

// TestATakenOverEndIsDealtAtOnce: when nothing is left to deal, a node with
// nothing to do gets the end of another's lease.
func TestATakenOverEndIsDealtAtOnce(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		slow := w.join("kiln-01")
		id := w.submit("a", "practice", "1-40")
		l := w.ask(slow, 0).Lease()
		one := 1
		for f := 1; f <= 3; f++ {
			time.Sleep(10 * time.Second)
			w.report(
				slow,
				accept.Report{
					Outcome: accept.Good, Lease: l.ID, Launch: 1, Frame: f,
					Hash: fmt.Sprint(f), RenderSeconds: 10,
				},
			)
			w.ok(
				w.Fleet.Beat(
					context.Background(), slow, 1,
					fleet.Beat{Leases: map[farm.LeaseID]fleet.Progress{l.ID: {Frame: &one}}},
				),
			)
		}
		idle := w.join("kiln-02")
		got := make(chan fleet.Answer)
		go func() {
			a, err := w.Fleet.Ask(context.Background(), idle, fleet.Question{Session: 1, Number: 1})
			w.ok(err)
			got <- a
		}()
		synctest.Wait()
		orders, err := w.Fleet.Orders(
			context.Background(), slow, 1, fleet.OrdersAsked{Leases: []farm.LeaseID{l.ID}, Caps: 0},
		)
		w.ok(err)
		if len(orders.Trim) != 1 || orders.Trim[0].Frames.Last() != 40 || orders.Trim[0].Frames.Len() < 10 {
			t.Fatalf("asked for %+v", orders)
		}
		// It has begun one of them meanwhile.
		q := orders.Trim[0]
		given := q.Frames.Minus(frames.One(q.Frames.First()))
		for range 2 {
			w.ok(w.Fleet.Trimmed(context.Background(), slow, 1, q.ID, l.ID, given))
		}
		a := <-got
		if a.Lease() == nil || !a.Lease().Frames.Equal(given) {
			t.Fatalf("the idle node got %+v, want %v", a, given)
		}
		w.memory.mu.Lock()
		defer w.memory.mu.Unlock()
		var cut, taken string
		for _, r := range w.memory.records {
			switch r := r.(type) {
			case farm.LeaseTrimmed:
				cut = r.Reason
			case farm.LeaseOpened:
				taken = r.Reason
			}
		}
		if cut != fmt.Sprintf("kiln-01 gives %s back", given) || !strings.Contains(taken, "kiln-02 takes") ||
			!strings.Contains(taken, "earlier") {
			t.Errorf("the cut says %q, the lease %q", cut, taken)
		}
		_ = id
	})
}

// TestFramesThatCannotBeDeliveredAreOneItemAPlace: a filer that is gone is one
// thing to mend, however many nodes wait for it.
func TestFramesThatCannotBeDeliveredAreOneItemAPlace(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		for _, job := range []string{"a", "b", "c"} {
			w.submit(job, "practice", "1-9")
		}
		hands := func() []wire.NeedHand {
			v, err := w.Views.Farm(context.Background(), farm.Sight{})
			w.ok(err)
			return v.Hands
		}
		for i, name := range []string{"kiln-01", "kiln-02", "kiln-03"} {
			n := w.join(name)
			l := w.ask(n, 0).Lease()
			w.ok(
				w.Fleet.Beat(
					context.Background(), n, 1,
					fleet.Beat{
						Leases: map[farm.LeaseID]fleet.Progress{l.ID: {Trouble: "the frame place is not there"}},
					},
				),
			)
			got := hands()
			if len(got) != 1 || got[0].Kind != "delivery" ||
				!strings.Contains(got[0].Sentence, []string{"kiln-01 cannot", "2 nodes cannot", "3 nodes cannot"}[i]) ||
				!strings.Contains(got[0].Evidence, "The frame place is not there.") {
				t.Errorf("with %d nodes: %+v", i+1, got)
			}
		}
	})
}
