package floor

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"vexillum/internal/core/accept"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
	"vexillum/internal/recipe"
	"vexillum/internal/wire"
)

// memory is a Committer that keeps Records in order. It can be told to fail
// or to take its time.
type memory struct {
	mu      sync.Mutex
	records []farm.Record
	batches int
	fail    error
	deposed error // what Confirm returns
	slow    time.Duration
}

func (m *memory) Confirm() error {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.deposed
}

func (m *memory) Commit(records []farm.Record) error {
	time.Sleep(m.slow)
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.fail != nil {
		return m.fail
	}
	m.records = append(m.records, records...)
	m.batches++
	return nil
}

// world is a floor with a project, a key and the clock of a synctest bubble.
type world struct {
	*Floor
	t      *testing.T
	memory *memory
	ended  chan error
	stop   context.CancelFunc
	asks   map[farm.NodeID]int64
}

var admin = farm.Person{Name: "admin", Role: farm.Admin}

// newWorld starts a floor. It must be called inside a synctest bubble.
func newWorld(t *testing.T) *world {
	t.Helper()
	book, err := recipe.Builtin()
	if err != nil {
		t.Fatal(err)
	}
	state := farm.NewState()
	for _, r := range []farm.Record{
		farm.PlaceSet{Name: "scenes", Paths: map[string]string{"linux": "/scenes"}},
		farm.PlaceSet{Name: "frames", Paths: map[string]string{"linux": "/frames"}},
		farm.ProjectSet{Name: "salt-clock", Title: "The Salt Clock", Weight: 1, Scenes: "scenes", Frames: "frames"},
	} {
		if err := state.Apply(r); err != nil {
			t.Fatal(err)
		}
	}
	w := &world{t: t, memory: &memory{}, ended: make(chan error, 1), asks: map[farm.NodeID]int64{}}
	w.Floor = New(Options{State: state, Pace: pace.New(), Committer: w.memory, Recipes: book, Log: slog.New(slog.DiscardHandler), Now: time.Now})
	ctx, stop := context.WithCancel(context.Background())
	w.stop = stop
	go func() { w.ended <- w.Run(ctx) }()
	return w
}

func (w *world) close() {
	w.stop()
	<-w.ended
}

func (w *world) ok(err error) {
	w.t.Helper()
	if err != nil {
		w.t.Fatal(err)
	}
}

func (w *world) join(name string) farm.NodeID {
	w.t.Helper()
	key := "key of " + name
	_, err := w.IssueKey(context.Background(), key, "", "admin", time.Hour, 1)
	w.ok(err)
	facts := farm.Facts{OS: "linux", Speed: 1, Renderers: []farm.Renderer{{Recipe: "practice"}, {Recipe: "practice-feed"}}}
	id, err := w.Enrol(context.Background(), Enrolment{KeyHash: key, TokenHash: "token of " + name, Name: name, Kind: farm.Rack, Facts: facts})
	w.ok(err)
	_, err = w.Start(context.Background(), id, facts, nil, nil)
	w.ok(err)
	return id
}

func (w *world) submit(job, recipe, set string) farm.RunID {
	w.t.Helper()
	f, err := frames.Parse(set)
	w.ok(err)
	sub, err := w.CheckSubmission(Submission{Actor: "admin", Spec: farm.Spec{Job: job, Project: "salt-clock", Scene: "a.practice", Recipe: recipe, Frames: f}})
	w.ok(err)
	run, _, err := w.Submit(context.Background(), sub)
	w.ok(err)
	return farm.RunID(run.ID)
}

// ask asks with the node's next number and does not wait.
func (w *world) ask(id farm.NodeID, warm farm.LeaseID) Answer {
	w.t.Helper()
	w.asks[id]++
	ctx, cancel := context.WithTimeout(context.Background(), time.Millisecond)
	defer cancel()
	a, err := w.Ask(ctx, id, Question{Session: 1, Number: w.asks[id], Warm: warm})
	w.ok(err)
	return a
}

func (w *world) report(id farm.NodeID, r accept.Report) accept.Verdict {
	w.t.Helper()
	v, err := w.Report(context.Background(), id, 1, []accept.Report{r})
	w.ok(err)
	return v[0]
}

func (w *world) run(id farm.RunID) wire.Run {
	w.t.Helper()
	run, err := w.OneRun(context.Background(), id)
	w.ok(err)
	return run
}

// bubble runs a test with a floor inside a synctest bubble.
func bubble(t *testing.T, test func(t *testing.T, w *world)) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t)
		defer w.close()
		test(t, w)
	})
}

func TestTheSameAskGetsTheSameLease(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		w.submit("a", "practice", "1-5")
		first := w.ask(n, 0)
		again, err := w.Ask(context.Background(), n, Question{Session: 1, Number: w.asks[n]})
		w.ok(err)
		if first.Lease == nil || again.Lease == nil || again.Lease.ID != first.Lease.ID || !again.Lease.Frames.Equal(first.Lease.Frames) {
			t.Errorf("first %+v, again %+v", first.Lease, again.Lease)
		}
		if next := w.ask(n, 0); next.Lease != nil || !strings.Contains(next.Why, "report its end first") {
			t.Errorf("another ask got %+v: %s", next.Lease, next.Why)
		}
	})
}

func TestAWaitingAskIsAnsweredBySubmit(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		got := make(chan Answer)
		go func() {
			a, err := w.Ask(context.Background(), n, Question{Session: 1, Number: 1})
			w.ok(err)
			got <- a
		}()
		time.Sleep(10 * time.Second)
		w.submit("a", "practice", "1-5")
		if a := <-got; a.Lease == nil || a.Lease.Frames.String() != "1-5" || a.Lease.Roots.Frames != "/frames" {
			t.Errorf("got %+v: %s", a.Lease, a.Why)
		}
	})
}

func TestAnAskThatNobodyAnswersEnds(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		a, err := w.Ask(ctx, n, Question{Session: 1, Number: 1})
		if err != nil || a.Lease != nil || !strings.Contains(a.Why, "queue is empty") {
			t.Errorf("%+v, %v", a, err)
		}
		if len(w.Floor.asks) != 0 {
			t.Error("the ask is still waiting")
		}
	})
}

func TestNobodyIsAnsweredBeforeTheCommit(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		w.submit("a", "practice", "1-5")
		w.memory.slow = 3 * time.Second
		began := time.Now()
		if a := w.ask(n, 0); a.Lease == nil {
			t.Fatal(a.Why)
		}
		if waited := time.Since(began); waited < 3*time.Second {
			t.Errorf("answered after %v, the commit took 3s", waited)
		}
	})
}

// TestAFailedCommitAnswersNobody looks that after a failed commit the floor
// ends and says so to all, with the promise not given.
func TestAFailedCommitAnswersNobody(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t)
		n := w.join("kiln-01")
		w.submit("a", "practice", "1-5")
		w.memory.mu.Lock()
		w.memory.fail = errors.New("the disk is gone")
		w.memory.mu.Unlock()
		a, err := w.Ask(context.Background(), n, Question{Session: 1, Number: 1})
		if !errors.Is(err, ErrGone) || a.Lease != nil {
			t.Errorf("got %+v, %v", a, err)
		}
		if err := <-w.ended; err == nil || !strings.Contains(err.Error(), "the disk is gone") {
			t.Errorf("the floor ended with %v", err)
		}
		if _, err := w.OneRun(context.Background(), 1); !errors.Is(err, ErrGone) {
			t.Errorf("a later question got %v", err)
		}
	})
}

func TestManyRequestsShareABatch(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		_, err := w.SetPerson(context.Background(), "admin", farm.Admin, "x", "test")
		w.ok(err)
		before := w.memory.batches
		w.memory.slow = time.Second
		var wg sync.WaitGroup
		for i := range 50 {
			wg.Go(func() {
				w.ok(w.IssueToken(context.Background(), fmt.Sprint("t", i), farm.AccessToken, "admin", "", time.Time{}))
			})
		}
		wg.Wait()
		if n := w.memory.batches - before; n > 4 {
			t.Errorf("50 changes took %d batches", n)
		}
	})
}

func TestReportsMayBeRepeated(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		id := w.submit("a", "practice", "1-2")
		l := w.ask(n, 0).Lease
		good := accept.Report{Outcome: accept.Good, Lease: l.ID, Launch: 1, Frame: 1, Hash: "h1", RenderSeconds: 1}
		for range 3 {
			if v := w.report(n, good); !v.Deliver {
				t.Fatalf("%+v", v)
			}
		}
		delivered := good
		delivered.Outcome = accept.Delivered
		for range 3 {
			w.report(n, delivered)
		}
		if v := w.report(n, good); !v.Discard {
			t.Errorf("a done frame shall be delivered again: %+v", v)
		}
		failed := accept.Report{Outcome: accept.Failed, Lease: l.ID, Launch: 1, Frame: 2, Cause: "crash"}
		for range 3 {
			w.report(n, failed)
		}
		if run := w.run(id); run.Troubles[0].Tried != 1 || run.DoneCount != 1 {
			t.Errorf("told three times: %+v", run.Troubles)
		}
		ended := accept.Report{Outcome: accept.Ended, Lease: l.ID}
		for range 3 {
			w.report(n, ended)
		}
		for _, forged := range []accept.Report{{Outcome: accept.Good, Lease: 99, Frame: 2, Hash: "x"}, {Outcome: accept.Good, Lease: l.ID, Frame: 77, Hash: "x"}} {
			if v := w.report(n, forged); !v.Discard {
				t.Errorf("%+v: %+v", forged, v)
			}
		}
		other := w.join("kiln-02")
		if v := w.report(other, accept.Report{Outcome: accept.Good, Lease: l.ID, Frame: 2, Hash: "x"}); !v.Discard {
			t.Errorf("another node's lease: %+v", v)
		}
	})
}

// TestALateFrameCounts lets a node fall silent, deals its frames anew and
// then lets it come back with a finished one.
func TestALateFrameCounts(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		lost := w.join("kiln-01")
		id := w.submit("a", "practice", "1-3")
		l := w.ask(lost, 0).Lease
		time.Sleep(20 * time.Second)
		nodes, err := w.Nodes(context.Background())
		w.ok(err)
		if nodes[0].State != "silent" || w.run(id).Sets.Dealt != "1-3" {
			t.Fatalf("after 20 s: %s, dealt %s", nodes[0].State, w.run(id).Sets.Dealt)
		}
		time.Sleep(60 * time.Second)
		if run := w.run(id); run.Sets.Dealt != "" || run.Sets.ToDo != "1-3" {
			t.Fatalf("after 80 s: %+v", run.Sets)
		}
		second := w.join("kiln-02")
		if got := w.ask(second, 0).Lease; got == nil || got.Frames.String() != "1-3" {
			t.Fatalf("dealt anew: %+v", got)
		}
		if v := w.report(lost, accept.Report{Outcome: accept.Good, Lease: l.ID, Launch: 1, Frame: 2, Hash: "late"}); !v.Deliver {
			t.Errorf("the late frame: %+v", v)
		}
		if v := w.report(second, accept.Report{Outcome: accept.Good, Lease: l.ID + 1, Launch: 1, Frame: 2, Hash: "twice"}); !v.Discard {
			t.Errorf("the second picture of it: %+v", v)
		}
		nodes, err = w.Nodes(context.Background())
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
		l := w.ask(n, 0).Lease
		_, err := w.Steer(context.Background(), id, Hold, true, admin) // ends the lease
		w.ok(err)
		if v := w.report(n, accept.Report{Outcome: accept.Good, Lease: l.ID, Launch: 1, Frame: 1, Hash: "h"}); !v.Deliver {
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
// minutes nothing is dealt anew, and the wrangler is told.
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
		view, err := w.Farm(context.Background())
		w.ok(err)
		if len(view.Hands) != 1 || view.Hands[0].Kind != "hush" || !strings.Contains(view.Hands[0].Sentence, "4 nodes fell silent together") {
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
		l := w.ask(n, 0).Lease
		frame := 1
		for range 4 * 60 * 60 / 10 { // four hours on one frame
			w.ok(w.Beat(context.Background(), n, 1, Beat{Leases: map[farm.LeaseID]Progress{l.ID: {Frame: &frame, Phase: "rendering"}}}))
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

func TestNewestSessionWins(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		id := w.submit("a", "practice", "1-3")
		w.ask(n, 0)
		started, err := w.Start(context.Background(), n, farm.Facts{OS: "linux", Speed: 1, Renderers: []farm.Renderer{{Recipe: "practice"}}}, nil, nil)
		session := started.Number
		if err != nil || session != 2 || w.run(id).Sets.ToDo != "1-3" {
			t.Errorf("session %d, %v, to do %s", session, err, w.run(id).Sets.ToDo)
		}
		var refusal *Refusal
		if _, err := w.Ask(context.Background(), n, Question{Session: 1, Number: 9}); !errors.As(err, &refusal) || refusal.Kind != Conflict || refusal.Field != "session" {
			t.Errorf("the old session asks: %v", err)
		}
		if err := w.Beat(context.Background(), n, 1, Beat{}); !errors.As(err, &refusal) {
			t.Errorf("the old session beats: %v", err)
		}
	})
}

func TestOrdersReachTheNode(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		id := w.submit("a", "practice", "1-9")
		l := w.ask(n, 0).Lease
		wait := func() chan []Order {
			got := make(chan []Order)
			go func() {
				orders, err := w.Orders(context.Background(), n, 1, []farm.LeaseID{l.ID})
				w.ok(err)
				got <- orders.Stop
			}()
			synctest.Wait()
			return got
		}
		orders := wait()
		_, err := w.Steer(context.Background(), id, Hold, false, admin)
		w.ok(err)
		if o := <-orders; len(o) != 1 || o[0].Now {
			t.Errorf("a hold gave %+v", o)
		}
		_, err = w.Steer(context.Background(), id, Release, false, admin)
		w.ok(err)
		orders = wait()
		_, err = w.Steer(context.Background(), id, Cancel, false, admin)
		w.ok(err)
		if o := <-orders; len(o) != 1 || !o[0].Now {
			t.Errorf("a cancel gave %+v", o)
		}
		if o := <-wait(); len(o) != 1 || !o[0].Now {
			t.Errorf("asked after the fact: %+v", o)
		}
	})
}

func TestSteeringFitsTheState(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		id := w.submit("a", "practice", "1-3")
		steer := func(what Steering) (string, error) {
			run, err := w.Steer(context.Background(), id, what, false, admin)
			return run.State, err
		}
		for _, c := range []struct {
			what  Steering
			state string
			fails bool
		}{
			{Release, "queued", false}, {Hold, "held", false}, {Hold, "held", false}, {Release, "queued", false}, {Retry, "", true},
			{Cancel, "cancelled", false}, {Cancel, "cancelled", false}, {Hold, "", true}, {Release, "", true}, {Retry, "", true},
		} {
			state, err := steer(c.what)
			if state != c.state || (err != nil) != c.fails {
				t.Errorf("%s: %q, %v", c.what, state, err)
			}
		}
		audits := 0
		for _, r := range w.memory.records {
			if _, ok := r.(farm.Audited); ok {
				audits++
			}
		}
		if audits != 4 { // submit, hold, release, cancel: not what changed nothing
			t.Errorf("%d audit records, want 4", audits)
		}
		if _, err := w.Steer(context.Background(), id, Hold, false, farm.Person{Name: "tobin", Role: farm.Artist}); err == nil {
			t.Error("an artist held another's run")
		}
	})
}

func TestFeedStaysOnItsLease(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		id := w.submit("a", "practice-feed", "1-3")
		l := w.ask(n, 0).Lease
		for f := 1; f <= 3; f++ {
			w.report(n, accept.Report{Outcome: accept.Good, Lease: l.ID, Launch: 1, Frame: f, Hash: "h"})
			w.report(n, accept.Report{Outcome: accept.Delivered, Lease: l.ID, Launch: 1, Frame: f, Hash: "h"})
			a := w.ask(n, l.ID)
			if f < 3 && (a.Lease == nil || a.Lease.ID != l.ID || a.Lease.Frames.String() != fmt.Sprint(f+1)) {
				t.Fatalf("after frame %d: %+v %s", f, a.Lease, a.Why)
			}
			if f == 3 && a.Lease != nil {
				t.Errorf("after the last frame: %+v", a.Lease)
			}
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

func TestListenersAreToldAndDropped(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		l, first, err := w.Listen(context.Background(), 0)
		w.ok(err)
		if first.Seq != 3 || len(first.Runs) != 0 {
			t.Errorf("first change %+v", first)
		}
		w.submit("a", "practice", "1-3")
		change := <-l.Changes()
		if len(change.Runs) != 1 || change.Runs[0].Job != "a" || change.Seq <= first.Seq {
			t.Errorf("change %+v", change)
		}
		for i := range maxBehind + 10 { // nobody reads
			w.submit(fmt.Sprint("b", i), "practice", "1")
			time.Sleep(2 * tellEvery)
		}
		n := 0
		for range l.Changes() {
			n++
		}
		if n != maxBehind {
			t.Errorf("a slow listener had %d changes before it was dropped", n)
		}
		w.Ignore(l)
	})
}

func TestSubmissionsAreChecked(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		good := func() Submission {
			return Submission{Spec: farm.Spec{Job: "a", Project: "salt-clock", Scene: "a.practice", Frames: frames.One(1)}}
		}
		if sub, err := w.CheckSubmission(good()); err != nil || sub.Spec.Width != 1920 || sub.Spec.Tries != 3 || sub.Spec.Recipe != "practice" || sub.Spec.Output != "a" {
			t.Errorf("%+v, %v", sub.Spec, err)
		}
		for field, spoil := range map[string]func(*farm.Spec){
			"job":     func(s *farm.Spec) { s.Job = "../a" },
			"kind":    func(s *farm.Spec) { s.Kind = "draft" },
			"width":   func(s *farm.Spec) { s.Width = -1 },
			"tries":   func(s *farm.Spec) { s.Tries = -1 },
			"chunk":   func(s *farm.Spec) { s.Chunk = -1 },
			"frames":  func(s *farm.Spec) { s.Frames = frames.Set{} },
			"scene":   func(s *farm.Spec) { s.Scene = "/etc/passwd" },
			"output":  func(s *farm.Spec) { s.Output = "a/../../b" },
			"recipe":  func(s *farm.Spec) { s.Recipe = "none" },
			"values":  func(s *farm.Spec) { s.Values = map[string]string{"none": "1"} },
			"project": func(s *farm.Spec) { s.Project = "none" },
		} {
			sub := good()
			spoil(&sub.Spec)
			sub, err := w.CheckSubmission(sub)
			if err == nil {
				_, _, err = w.Submit(context.Background(), sub)
			}
			var refusal *Refusal
			if !errors.As(err, &refusal) || refusal.Field != field {
				t.Errorf("%s: %v", field, err)
			}
		}
		w.submit("b", "practice", "1")
		sub, err := w.CheckSubmission(Submission{Spec: farm.Spec{Job: "c", Project: "salt-clock", Scene: "a.practice", Frames: frames.One(1), Output: "b"}})
		w.ok(err)
		var refusal *Refusal
		if _, _, err := w.Submit(context.Background(), sub); !errors.As(err, &refusal) || refusal.Field != "output" {
			t.Errorf("two jobs into one folder: %v", err)
		}
	})
}

func TestKeysOfMachines(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		_, err := w.IssueKey(context.Background(), "k", "", "admin", time.Minute, 1)
		w.ok(err)
		enrol := func(key, name string) error {
			_, err := w.Enrol(context.Background(), Enrolment{KeyHash: key, TokenHash: key + name, Name: name, Kind: farm.Rack})
			return err
		}
		for _, c := range []struct{ key, name, says string }{{"other", "a", "not known"}, {"k", "A B", "no node name"}} {
			if err := enrol(c.key, c.name); err == nil || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%s %s: %v", c.key, c.name, err)
			}
		}
		w.ok(enrol("k", "a"))
		if err := enrol("k", "b"); err == nil || !strings.Contains(err.Error(), "used up") {
			t.Errorf("a used up key: %v", err)
		}
		_, err = w.IssueKey(context.Background(), "k2", "", "admin", time.Minute, 1)
		w.ok(err)
		time.Sleep(2 * time.Minute)
		if err := enrol("k2", "c"); err == nil || !strings.Contains(err.Error(), "expired") {
			t.Errorf("an expired key: %v", err)
		}
	})
}

// TestADeposedFloorAnswersNobody: an answer that commits nothing is given only
// by the active service.
func TestADeposedFloorAnswersNobody(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t)
		w.submit("salt_010", "practice", "1-4")
		deposed := errors.New("another has taken over")
		w.memory.mu.Lock()
		w.memory.deposed = deposed
		w.memory.mu.Unlock()
		if runs, err := w.Runs(context.Background()); !errors.Is(err, ErrGone) {
			t.Errorf("a deposed service showed %d runs, error %v", len(runs), err)
		}
		if err := <-w.ended; !errors.Is(err, deposed) {
			t.Errorf("the floor ended with %v", err)
		}
	})
}

// TestForgedReportsAreOnRecord: what no honest node says is refused in words
// and noted, once.
func TestForgedReportsAreOnRecord(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n, other := w.join("kiln-01"), w.join("kiln-02")
		w.submit("a", "practice", "1-9")
		l := w.ask(n, 0).Lease
		for range 3 {
			for _, r := range []accept.Report{{Outcome: accept.Good, Lease: 99, Frame: 2, Hash: "x"}, {Outcome: accept.Good, Lease: l.ID, Frame: 77, Hash: "x"}} {
				if v := w.report(n, r); !v.Discard || v.Why == "" {
					t.Errorf("%+v: %+v", r, v)
				}
			}
			if v := w.report(other, accept.Report{Outcome: accept.Ended, Lease: l.ID}); !v.Discard {
				t.Errorf("the end of another node's lease: %+v", v)
			}
		}
		noted := 0
		w.memory.mu.Lock()
		for _, r := range w.memory.records {
			if a, ok := r.(farm.Audited); ok && a.Action == "refuse report" {
				noted++
			}
		}
		w.memory.mu.Unlock()
		if noted != 3 {
			t.Errorf("%d refusals are on record, want 3", noted)
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
			w.ok(w.Beat(context.Background(), n, 1, Beat{Leases: map[farm.LeaseID]Progress{}}))
			time.Sleep(5 * time.Second)
		}
		if run := w.run(id); run.Sets.Dealt != "1-9" {
			t.Fatalf("after 15 s dealt is %q", run.Sets.Dealt)
		}
		w.ok(w.Beat(context.Background(), n, 1, Beat{Leases: map[farm.LeaseID]Progress{}}))
		if run := w.run(id); run.Sets.ToDo != "1-9" {
			t.Errorf("the lease is still open: %+v", run.Sets)
		}
	})
}

// TestATakenOverEndIsDealtAtOnce: when nothing is left to deal, a node with
// nothing to do gets the end of another's lease.
func TestATakenOverEndIsDealtAtOnce(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		slow := w.join("kiln-01")
		id := w.submit("a", "practice", "1-40")
		l := w.ask(slow, 0).Lease
		one := 1
		for f := 1; f <= 3; f++ {
			time.Sleep(10 * time.Second)
			w.report(slow, accept.Report{Outcome: accept.Good, Lease: l.ID, Launch: 1, Frame: f, Hash: fmt.Sprint(f), RenderSeconds: 10})
			w.ok(w.Beat(context.Background(), slow, 1, Beat{Leases: map[farm.LeaseID]Progress{l.ID: {Frame: &one}}}))
		}
		idle := w.join("kiln-02")
		got := make(chan Answer)
		go func() {
			a, err := w.Ask(context.Background(), idle, Question{Session: 1, Number: 1})
			w.ok(err)
			got <- a
		}()
		synctest.Wait()
		orders, err := w.Orders(context.Background(), slow, 1, []farm.LeaseID{l.ID})
		w.ok(err)
		if len(orders.Trim) != 1 || orders.Trim[0].Frames.Last() != 40 || orders.Trim[0].Frames.Len() < 10 {
			t.Fatalf("asked for %+v", orders)
		}
		// It has begun one of them meanwhile.
		q := orders.Trim[0]
		given := q.Frames.Minus(frames.One(q.Frames.First()))
		for range 2 {
			w.ok(w.Trimmed(context.Background(), slow, 1, q.ID, l.ID, given))
		}
		a := <-got
		if a.Lease == nil || !a.Lease.Frames.Equal(given) {
			t.Fatalf("the idle node got %+v, want %v", a, given)
		}
		w.memory.mu.Lock()
		defer w.memory.mu.Unlock()
		var cut string
		for _, r := range w.memory.records {
			if trimmed, ok := r.(farm.LeaseTrimmed); ok {
				cut = trimmed.Reason
			}
		}
		if !strings.Contains(cut, "kiln-02 shall take") || !strings.Contains(cut, "earlier") {
			t.Errorf("the cut says %q", cut)
		}
		_ = id
	})
}
