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
	"vexillum/internal/core/triage"
	"vexillum/internal/service/fleet"
	"vexillum/internal/service/queue"
	"vexillum/internal/service/refusal"
	"vexillum/internal/service/views"
	"vexillum/internal/wire"
)

func text(s string) *string { return &s }

func (w *world) change(id farm.RunID, in wire.RunChange) wire.RunChanged {
	w.t.Helper()
	out, err := w.Queue.ChangeRun(context.Background(), id, in, admin)
	w.ok(err)
	return out
}

// finish reports a frame good and delivered.
func (w *world) finish(n farm.NodeID, l farm.LeaseID, frame int, seconds float64) {
	w.t.Helper()
	hash := fmt.Sprintf("%064x", frame)
	if v := w.report(
		n,
		accept.Report{
			Outcome: accept.Good, Lease: l, Launch: 1, Frame: frame,
			Hash: hash, Bytes: 1, RenderSeconds: seconds, StartupSeconds: 1,
		},
	); !v.Deliver {
		w.t.Fatalf("frame %d: %+v", frame, v)
	}
	w.report(n, accept.Report{Outcome: accept.Delivered, Lease: l, Launch: 1, Frame: frame, Hash: hash})
}

// beat reports that a node is at work on a frame of a lease.
func (w *world) beat(n farm.NodeID, l farm.LeaseID, frame int) {
	w.t.Helper()
	w.ok(
		w.Fleet.Beat(
			context.Background(), n, 1,
			fleet.Beat{
				Leases: map[farm.LeaseID]fleet.Progress{l: {Frame: &frame, Since: time.Now()}},
				Signs:  views.Signs{DiskFree: -1, MemoryFree: -1},
			},
		),
	)
}

// TestTermsOfARunAreChanged changes what may be changed, and refuses the rest.
func TestTermsOfARunAreChanged(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		a, b, c := w.submit("a", "practice", "1-5"), w.submit("b", "practice", "1-5"), w.submit("c", "practice", "1-5")
		due := time.Now().Add(time.Hour).UTC().Truncate(time.Second)
		in := wire.RunChange{
			Priority: text("high"), Ceiling: text("50%"), Due: text(due.Format(time.RFC3339)), DryRun: true,
		}
		if out := w.change(a, in); !out.Changes || out.Run.Priority != "normal" ||
			!strings.Contains(out.Sentence, "priority high instead of normal; ceiling 50% instead of none; due ") {
			t.Errorf("a dry run: %+v", out)
		}
		in.DryRun = false
		if out := w.change(a, in); out.Run.Priority != "high" || out.Run.Ceiling != "50%" || out.Run.Due == nil ||
			!out.Run.Due.Equal(due) {
			t.Errorf("changed: %+v", out.Run)
		}
		if out := w.change(a, in); out.Changes || out.Sentence != "nothing changes: a/final-1 is already so" {
			t.Errorf("the same again: %+v", out)
		}
		w.change(a, wire.RunChange{Priority: text("normal"), Ceiling: text(""), Due: text("")})
		order := func() (out string) {
			for _, r := range w.o.State.Queue() {
				out += r.Spec.Job
			}
			return out
		}
		for _, step := range []struct {
			run  farm.RunID
			in   wire.RunChange
			want string
		}{
			{c, wire.RunChange{Put: text("first")}, "cab"}, {c, wire.RunChange{Put: text("back")}, "abc"}, {a, wire.RunChange{Put: text("last")}, "bca"},
			{a, wire.RunChange{Put: text("back")}, "abc"}, {c, wire.RunChange{Before: new(int64(b))}, "acb"}, {b, wire.RunChange{Before: new(int64(a))}, "bac"},
		} {
			w.change(step.run, step.in)
			if got := order(); got != step.want {
				t.Errorf("after %+v of run %d the queue is %s, want %s", step.in, step.run, got, step.want)
			}
		}
		artist := farm.Person{Name: "oskar", Role: farm.Artist}
		for _, bad := range []struct {
			in   wire.RunChange
			by   farm.Person
			kind refusal.Kind
		}{
			{wire.RunChange{Priority: text("soon")}, admin, refusal.Invalid}, {wire.RunChange{Ceiling: text("-1")}, admin, refusal.Invalid}, {wire.RunChange{Due: text("tomorrow")}, admin, refusal.Invalid},
			{wire.RunChange{Put: text("up")}, admin, refusal.Invalid}, {wire.RunChange{Before: new(int64(99))}, admin, refusal.Invalid}, {wire.RunChange{Priority: text("low")}, artist, refusal.Forbidden},
		} {
			_, err := w.Queue.ChangeRun(context.Background(), a, bad.in, bad.by)
			var no *refusal.Refusal
			if !errors.As(err, &no) || no.Kind != bad.kind {
				t.Errorf("%+v by %s: %v", bad.in, bad.by.Name, err)
			}
		}
		w.o.State.Runs[a].Spec.Owner = "oskar" // an artist changes an own run, but comes before nobody by it
		if _, err := w.Queue.ChangeRun(
			context.Background(), a, wire.RunChange{Priority: text("high")}, artist,
		); err != nil {
			t.Error(err)
		}
		for _, in := range []wire.RunChange{{Priority: text("urgent")}, {Put: text("first")}, {Now: true}} {
			if _, err := w.Queue.ChangeRun(context.Background(), a, in, artist); err == nil {
				t.Errorf("an artist may %+v", in)
			}
		}
	})
}

// TestTheUrgentGetsNodes makes a run urgent while others have all nodes: they
// are asked for what they have not begun, or stopped at once, as was told.
func TestTheUrgentGetsNodes(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		long, small := w.submit("long", "practice", "1-100"), w.submit("small", "practice", "1-4")
		l := w.ask(n, 0).Lease()
		w.finish(n, l.ID, 1, 10)
		w.beat(n, l.ID, 2)
		out := w.change(small, wire.RunChange{Priority: text("urgent")})
		if !strings.Contains(
			out.Sentence, "1 lease of a less urgent run gives up its node when its frame is finished",
		) {
			t.Errorf("it says %q", out.Sentence)
		}
		time.Sleep(1500 * time.Millisecond)
		orders, err := w.Fleet.Orders(t.Context(), n, 1, fleet.OrdersAsked{Leases: []farm.LeaseID{l.ID}, Caps: 0})
		w.ok(err)
		if len(orders.Trim) != 1 || orders.Trim[0].Frames.String() != "3-100" {
			t.Fatalf("orders %+v", orders)
		}
		w.ok(w.Fleet.Trimmed(t.Context(), n, 1, orders.Trim[0].ID, l.ID, orders.Trim[0].Frames))
		w.finish(n, l.ID, 2, 10)
		w.report(n, accept.Report{Outcome: accept.Ended, Lease: l.ID})
		next := w.ask(n, 0).Lease()
		if next == nil || next.Run != small {
			t.Fatalf("the node goes on with %+v", next)
		}
		// And the other way round, at once.
		time.Sleep(30 * time.Second)
		w.beat(n, next.ID, 1)
		time.Sleep(10 * time.Second)
		w.change(small, wire.RunChange{Priority: text("low")})
		out = w.change(long, wire.RunChange{Priority: text("urgent"), Now: true, DryRun: true})
		if !strings.Contains(
			out.Sentence, "1 lease of less urgent runs would be stopped, and 10 s of rendering would be lost",
		) ||
			len(w.o.State.LeasesOf(n)) != 1 {
			t.Errorf("it says %q", out.Sentence)
		}
		if out := w.change(small, wire.RunChange{Priority: text("high"), Now: true, DryRun: true}); strings.Contains(
			out.Sentence, "stopped",
		) {
			t.Errorf("a run makes room for itself: %q", out.Sentence)
		}
		w.change(long, wire.RunChange{Priority: text("urgent"), Now: true})
		if got := w.ask(n, 0).Lease(); got == nil || got.Run != long {
			t.Errorf("the node goes on with %+v", got)
		}
	})
}

// TestLicencesAreCounted has fewer licences than nodes, and a renderer that
// finds none although there should be one.
func TestLicencesAreCounted(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		one, two := w.join("kiln-01"), w.join("kiln-02")
		id := w.submit("a", "practice", "1-40")
		w.o.State.Runs[id].Spec.Licence = &farm.LicenceNeed{Name: "tidal", Per: farm.PerProcess}
		w.o.State.Runs[id].Spec.Chunk = 10
		w.ok(w.Setup.SetLicence(context.Background(), "tidal", new(1), admin))
		l := w.ask(one, 0).Lease()
		if a := w.ask(two, 0); a.Lease() != nil ||
			!strings.Contains(a.Why, "needs a licence tidal, and 1 of 1 are used") {
			t.Errorf("a second launch got %+v: %s", a.Lease(), a.Why)
		}
		if all, err := w.Setup.Licences(context.Background()); err != nil || len(all) != 1 || all[0].Used != 1 ||
			*all[0].Count != 1 {
			t.Errorf("licences %+v, %v", all, err)
		}
		w.ok(w.Setup.SetLicence(context.Background(), "tidal", new(2), admin))
		second := w.ask(two, 0).Lease()
		if second == nil {
			t.Fatal("there are two licences, and one is used")
		}
		w.report(
			two,
			accept.Report{
				Outcome: accept.Failed, Lease: second.ID, Launch: 1, Frame: second.Frames.First(),
				Cause: triage.CauseNoLicence, Message: "none free",
			},
		)
		w.report(two, accept.Report{Outcome: accept.Ended, Lease: second.ID})
		if tries := w.o.State.Runs[id].Trouble[second.Frames.First()].Tried(); tries != 0 {
			t.Errorf("a missing licence has used up %d tries", tries)
		}
		if a := w.ask(two, 0); a.Lease() != nil ||
			!strings.Contains(a.Why, "a renderer found no more a while ago; the farm tries again in 5m") {
			t.Errorf("it got %+v: %s", a.Lease(), a.Why)
		}
		got := make(chan fleet.Answer, 1)
		w.asks[two]++
		go func() {
			ctx, cancel := context.WithTimeout(context.Background(), 10*time.Minute)
			defer cancel()
			a, _ := w.Fleet.Ask(ctx, two, fleet.Question{Session: 1, Number: w.asks[two]})
			got <- a
		}()
		for range 12 { // signs of life, as five minutes pass
			time.Sleep(26 * time.Second)
			w.beat(one, l.ID, 1)
			w.ok(
				w.Fleet.Beat(
					context.Background(), two, 1, fleet.Beat{Signs: views.Signs{DiskFree: -1, MemoryFree: -1}},
				),
			)
			synctest.Wait()
		}
		select {
		case a := <-got:
			if a.Lease() == nil {
				t.Errorf("after five minutes: %s", a.Why)
			}
		default:
			t.Error("the node still waits after five minutes")
		}
		w.ok(w.Setup.SetLicence(context.Background(), "tidal", nil, admin))
		for _, bad := range []struct {
			name  string
			count *int
		}{{"Tidal", new(1)}, {"tidal", new(-1)}, {"other", nil}} {
			if err := w.Setup.SetLicence(context.Background(), bad.name, bad.count, admin); err == nil {
				t.Errorf("%v is taken", bad)
			}
		}
	})
}

// TestScoutsWaitForAYes renders scouts first, and the rest after a release.
func TestScoutsWaitForAYes(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		sub, err := w.Queue.CheckSubmission(
			queue.Submission{
				Actor: "admin",
				Spec: farm.Spec{
					Job: "a", Project: "salt-clock", Scene: "a.practice", Recipe: "practice",
					Sequence: farm.ScoutsFirst, Wait: true, Frames: frames.Of(frames.Span{First: 1, Last: 40}),
				},
			},
		)
		w.ok(err)
		done, err := w.Queue.Submit(context.Background(), sub)
		w.ok(err)
		id := farm.RunID(done.Run.ID)
		if view := done.Run; view.Scouts != "1,20,40" {
			t.Errorf("scouts %s", view.Scouts)
		}
		for _, f := range []int{1, 20, 40} {
			l := w.ask(n, 0).Lease()
			if l == nil || l.Frames.String() != fmt.Sprint(f) {
				t.Fatalf("the node gets %+v, want frame %d", l, f)
			}
			w.finish(n, l.ID, f, 5)
			w.report(n, accept.Report{Outcome: accept.Ended, Lease: l.ID})
		}
		if run := w.run(id); run.State != "held" ||
			!strings.Contains(run.Why, "its scouts are rendered (frames 1,20,40)") {
			t.Errorf("after the scouts it is %s: %s", run.State, run.Why)
		}
		f, err := w.Views.Farm(context.Background(), farm.Sight{})
		w.ok(err)
		if len(f.Hands) != 1 || f.Hands[0].Kind != "scouts" {
			t.Errorf("needs a hand: %+v", f.Hands)
		}
		_, err = w.Queue.Steer(context.Background(), id, queue.Release, queue.How{}, admin)
		w.ok(err)
		if l := w.ask(n, 0).Lease(); l == nil || l.Frames.String() != "2-19" && l.Frames.String() != "21-39" {
			t.Errorf("after the yes: %+v", l)
		}
		if _, err := w.Queue.CheckSubmission(
			queue.Submission{Spec: farm.Spec{Job: "a", Scene: "a.practice", Wait: true, Frames: frames.One(1)}},
		); err == nil {
			t.Error("a run without scouts waits for them")
		}
	})
}

// TestAFrameIsRacedFor has a last frame on a node that takes far longer for it
// than expected, and one with nothing to do: the first good picture counts, and
// the other is stopped.
func TestAFrameIsRacedFor(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		slow, fast := w.join("kiln-01"), w.join("kiln-02")
		id := w.submit("a", "practice", "1-2")
		l, begun := w.ask(slow, 0).Lease(), time.Now()
		w.beat(slow, l.ID, 1)
		other := w.ask(fast, 0).Lease()
		w.finish(fast, other.ID, 2, 10)
		w.report(fast, accept.Report{Outcome: accept.Ended, Lease: other.ID})
		got := make(chan fleet.Answer, 1)
		w.asks[fast]++
		go func() {
			a, _ := w.Fleet.Ask(context.Background(), fast, fleet.Question{Session: 1, Number: w.asks[fast]})
			got <- a
		}()
		for range 5 {
			time.Sleep(9 * time.Second)
			w.ok(
				w.Fleet.Beat(
					context.Background(), slow, 1,
					fleet.Beat{
						Leases: map[farm.LeaseID]fleet.Progress{l.ID: {Frame: new(1), Since: begun}},
						Signs:  views.Signs{DiskFree: -1, MemoryFree: -1},
					},
				),
			)
			w.ok(
				w.Fleet.Beat(
					context.Background(), fast, 1, fleet.Beat{Signs: views.Signs{DiskFree: -1, MemoryFree: -1}},
				),
			)
		}
		var race *fleet.LeaseView
		select {
		case a := <-got:
			race = a.Lease()
		default:
		}
		if race == nil || race.Frames.String() != "1" || !w.o.State.Lease(race.ID).Race ||
			!strings.Contains(w.o.State.Lease(race.ID).Reason, "kiln-02 races kiln-01 for frame 1") {
			t.Fatalf("the fast node gets %+v", race)
		}
		w.finish(fast, race.ID, 1, 10)
		orders, err := w.Fleet.Orders(t.Context(), slow, 1, fleet.OrdersAsked{Leases: []farm.LeaseID{l.ID}, Caps: 0})
		w.ok(err)
		if len(orders.Stop) != 1 || !orders.Stop[0].Now ||
			orders.Stop[0].Reason != "another node finished its last frame first" {
			t.Errorf("the slow node is told %+v", orders)
		}
		if v := w.report(
			slow,
			accept.Report{
				Outcome: accept.Good, Lease: l.ID, Launch: 1, Frame: 1, Hash: strings.Repeat("f", 64),
				Bytes: 1,
			},
		); v.Deliver {
			t.Error("the second picture of the frame is taken, too")
		}
		w.report(slow, accept.Report{Outcome: accept.Ended, Lease: l.ID})
		w.report(fast, accept.Report{Outcome: accept.Ended, Lease: race.ID})
		if run := w.run(id); run.State != "done" {
			t.Errorf("the run is %s", run.State)
		}
	})
}

// TestWhatIsAtRiskWantsAHand has a run that cannot be ready when it is due.
func TestWhatIsAtRiskWantsAHand(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		id := w.submit("a", "practice", "1-100")
		l := w.ask(n, 0).Lease()
		w.finish(n, l.ID, 1, 60)
		w.beat(n, l.ID, 2)
		w.change(id, wire.RunChange{Due: text(time.Now().Add(3 * time.Hour).Format(time.RFC3339))})
		position, err := w.Views.Position(context.Background())
		w.ok(err)
		_, err = w.Views.Foretell(context.Background(), position.At, position.Play(1, 8))
		w.ok(err)
		run := w.run(id)
		if left := time.Until(*run.Forecast.Median); run.AtRisk || left < 90*time.Minute || left > 110*time.Minute {
			t.Errorf("it takes 99 minutes with one node; at risk: %v, forecast %v", run.AtRisk, left)
		}
		w.change(id, wire.RunChange{Due: text(time.Now().Add(time.Hour).Format(time.RFC3339))})
		f, err := w.Views.Farm(context.Background(), farm.Sight{})
		w.ok(err)
		if !w.run(id).AtRisk || len(f.Hands) != 1 || f.Hands[0].Kind != "at risk" ||
			!strings.Contains(f.Hands[0].Evidence, "late; more nodes, a higher priority or a later time would help") {
			t.Errorf("needs a hand: %+v", f.Hands)
		}
		// What waits behind it, and of which nothing is known, cannot be ready before.
		w.change(id, wire.RunChange{Due: text("")})
		next := w.submit("b", "practice", "1-100")
		w.change(next, wire.RunChange{Due: text(time.Now().Add(time.Hour).Format(time.RFC3339))})
		position, err = w.Views.Position(context.Background())
		w.ok(err)
		_, err = w.Views.Foretell(context.Background(), position.At, position.Play(1, 8))
		w.ok(err)
		f, err = w.Views.Farm(context.Background(), farm.Sight{})
		w.ok(err)
		if run := w.run(next); run.Forecast.Known || !run.AtRisk || len(f.Hands) != 1 ||
			!strings.Contains(f.Hands[0].Evidence, "it will hardly be ready before") {
			t.Errorf("it is at risk: %v, forecast %+v; needs a hand: %+v", run.AtRisk, run.Forecast, f.Hands)
		}
		w.change(next, wire.RunChange{Due: text(time.Now().Add(24 * time.Hour).Format(time.RFC3339))})
		if w.run(next).AtRisk {
			t.Error("it is at risk although it is due tomorrow")
		}
	})
}

// TestFurtherLeasesTakeWhatARunIsChangedTo changes what leases of a run take and need: leases from
// then on have that, and what makes no sense is refused.
func TestFurtherLeasesTakeWhatARunIsChangedTo(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		node := w.join("kiln-01")
		id := w.submit("salt_010", "practice", "1-50")
		out := w.change(id, wire.RunChange{MemoryBytes: new(int64(24 << 20)), Cores: new(1)})
		if !out.Changes || !strings.Contains(out.Sentence, "further leases take 1 core and 24 MiB") {
			t.Errorf("changed: %+v", out)
		}
		if again := w.change(id, wire.RunChange{MemoryBytes: new(int64(24 << 20))}); again.Changes {
			t.Errorf("the same again: %+v", again)
		}
		a := w.askBriefly(node)
		if len(a.Leases) != 1 || a.Leases[0].Share.MemoryBytes != 24<<20 {
			t.Errorf("the next lease: %+v", a)
		}
		if out := w.change(id, wire.RunChange{Needs: text("gpu")}); out.Run.Needs != "gpu" {
			t.Errorf("needs: %+v", out.Run.Needs)
		}
		other := w.join("kiln-02")
		if a := w.askBriefly(other); len(a.Leases) != 0 {
			t.Errorf("a node without a graphics device got %+v", a)
		}
		for _, bad := range []wire.RunChange{{Needs: text("&&")}, {Cores: new(-1)}, {MemoryBytes: new(int64(-5))}} {
			if _, err := w.Queue.ChangeRun(t.Context(), id, bad, admin); err == nil {
				t.Errorf("%+v was taken", bad)
			}
		}
	})
}
