package floor

import (
	"context"
	"strings"
	"testing"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/protocol/accept"
	"vexillum/internal/service/fleet"
	"vexillum/internal/service/queue"
)

// TestALateFrameCounts lets a node fall silent, deals its frames to others and
// then lets it come back with a finished one.
func TestALateFrameCounts(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		lost := w.join("kiln-01")
		id := w.submit("a", "practice", "1-3")
		l := w.ask(lost, 0).Lease()
		time.Sleep(20 * time.Second)
		nodes, err := w.Views.Nodes(context.Background(), farm.Sight{})
		w.ok(err)
		if nodes[0].State != "silent" || w.run(id).Sets.Dealt != "1-3" {
			t.Fatalf("after 20 s: %s, dealt %s", nodes[0].State, w.run(id).Sets.Dealt)
		}
		time.Sleep(60 * time.Second)
		if run := w.run(id); run.Sets.Dealt != "" || run.Sets.ToDo != "1-3" {
			t.Fatalf("after 80 s: %+v", run.Sets)
		}
		second := w.join("kiln-02")
		if got := w.ask(second, 0).Lease(); got == nil || got.Frames.String() != "1-3" {
			t.Fatalf("dealt anew: %+v", got)
		}
		if v := w.report(
			lost, accept.Report{Outcome: accept.Good, Lease: l.ID, Launch: 1, Frame: 2, Hash: "late"},
		); !v.Deliver {
			t.Errorf("the late frame: %+v", v)
		}
		if v := w.report(
			second, accept.Report{Outcome: accept.Good, Lease: l.ID + 1, Launch: 1, Frame: 2, Hash: "twice"},
		); !v.Discard {
			t.Errorf("the second picture of it: %+v", v)
		}
		nodes, err = w.Views.Nodes(context.Background(), farm.Sight{})
		w.ok(err)
		if nodes[0].Reach != "online" {
			t.Errorf("the node that came back is %s", nodes[0].Reach)
		}
	})
}

// TestALostDeliveryIsRenderedAgain lets a node fall silent while it publishes
// a frame of a lease that has ended already.
func TestALostDeliveryIsRenderedAgain(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		id := w.submit("a", "practice", "1-2")
		l := w.ask(n, 0).Lease()
		_, err := w.Queue.Steer(context.Background(), id, queue.Hold, queue.How{Now: true}, admin) // ends the lease
		w.ok(err)
		if v := w.report(
			n, accept.Report{Outcome: accept.Good, Lease: l.ID, Launch: 1, Frame: 1, Hash: "h"},
		); !v.Deliver {
			t.Fatalf("the finished frame: %+v", v)
		}
		if sets := w.run(id).Sets; sets.Delivering != "1" {
			t.Fatalf("%+v", sets)
		}
		time.Sleep(90 * time.Second)
		if sets := w.run(id).Sets; sets.Delivering != "" || sets.ToDo != "1-2" {
			t.Errorf("after 90 s of silence: %+v", sets)
		}
	})
}

// TestManySilentTogetherKeepTheirWork lets a whole farm fall silent: for ten
// minutes nothing is dealt to others, and the wrangler is told.
func TestManySilentTogetherKeepTheirWork(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		nodes := []farm.NodeID{w.join("kiln-01"), w.join("kiln-02"), w.join("kiln-03"), w.join("kiln-04")}
		id := w.submit("a", "practice", "1-40")
		for _, n := range nodes {
			w.ask(n, 0)
		}
		dealt := w.run(id).Sets.Dealt
		time.Sleep(9 * time.Minute)
		if now := w.run(id).Sets.Dealt; now != dealt {
			t.Errorf("dealt %s, after nine minutes of silence %s", dealt, now)
		}
		view, err := w.Views.Farm(context.Background(), farm.Sight{})
		w.ok(err)
		if len(view.Hands) != 1 || view.Hands[0].Kind != "hush" ||
			!strings.Contains(view.Hands[0].Sentence, "4 nodes fell silent together") {
			t.Errorf("told: %+v", view.Hands)
		}
		time.Sleep(2 * time.Minute)
		if run := w.run(id); run.Sets.Dealt != "" {
			t.Errorf("after eleven minutes %s is still out", run.Sets.Dealt)
		}
	})
}

// TestAnExpensiveFrameIsWaitedFor looks that the patience with a silent node
// grows with what its frame has cost.
func TestAnExpensiveFrameIsWaitedFor(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		id := w.submit("a", "practice", "1")
		l := w.ask(n, 0).Lease()
		frame := 1
		for range 4 * 60 * 60 / 10 { // four hours on one frame
			w.ok(
				w.Fleet.Beat(
					context.Background(), n, 1,
					fleet.Beat{Leases: map[farm.LeaseID]fleet.Progress{l.ID: {Frame: &frame, Phase: "rendering"}}},
				),
			)
			time.Sleep(10 * time.Second)
		}
		time.Sleep(20 * time.Minute)
		if w.run(id).Sets.ToDo != "" {
			t.Error("a frame that had cost four hours was dealt anew after 20 minutes")
		}
		time.Sleep(11 * time.Minute)
		if w.run(id).Sets.ToDo != "1" {
			t.Error("it is still not dealt anew after half an hour")
		}
	})
}

// TestALeaseThatNeverArrivedEnds: a node that does not name a lease in its
// signs of life does not have it.
func TestALeaseThatNeverArrivedEnds(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		id := w.submit("a", "practice", "1-9")
		w.ask(n, 0)
		for range 3 {
			w.ok(w.Fleet.Beat(context.Background(), n, 1, fleet.Beat{Leases: map[farm.LeaseID]fleet.Progress{}}))
			time.Sleep(5 * time.Second)
		}
		if run := w.run(id); run.Sets.Dealt != "1-9" {
			t.Fatalf("after 15 s dealt is %q", run.Sets.Dealt)
		}
		w.ok(w.Fleet.Beat(context.Background(), n, 1, fleet.Beat{Leases: map[farm.LeaseID]fleet.Progress{}}))
		if run := w.run(id); run.Sets.ToDo != "1-9" {
			t.Errorf("the lease is still open: %+v", run.Sets)
		}
	})
}
