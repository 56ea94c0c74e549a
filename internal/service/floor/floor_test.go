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

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
	"vexillum/internal/core/protocol/accept"
	"vexillum/internal/recipe"
	"vexillum/internal/service/fleet"
	"vexillum/internal/service/queue"
	"vexillum/internal/service/refusal"
	"vexillum/internal/service/writer"
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
	w.Floor = New(
		Options{
			State: state, Pace: pace.New(), Committer: w.memory, Recipes: book,
			Log: slog.New(slog.DiscardHandler), Now: time.Now,
		},
	)
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
	_, err := w.People.IssueKey(context.Background(), farm.Key{Hash: key, CreatedBy: "admin", UsesLeft: 1}, time.Hour)
	w.ok(err)
	facts := farm.Facts{
		OS: "linux", Speed: 1, Renderers: []farm.Renderer{{Recipe: "practice"}, {Recipe: "practice-feed"}},
	}
	id, err := w.Fleet.Enrol(
		context.Background(),
		fleet.Enrolment{KeyHash: key, TokenHash: "token of " + name, Name: name, Kind: farm.Rack, Facts: facts},
	)
	w.ok(err)
	_, err = w.Fleet.Start(context.Background(), id, facts, nil, nil)
	w.ok(err)
	return id
}

func (w *world) submit(job, recipe, set string) farm.RunID {
	w.t.Helper()
	return w.submitTo("salt-clock", job, recipe, set)
}

func (w *world) submitTo(project, job, recipe, set string) farm.RunID {
	w.t.Helper()
	f, err := frames.Parse(set)
	w.ok(err)
	sub, err := w.Queue.CheckSubmission(
		queue.Submission{
			Actor: "admin", AtOnce: true,
			Spec: farm.Spec{Job: job, Project: project, Scene: "a.practice", Recipe: recipe, Frames: f},
		},
	)
	w.ok(err)
	done, err := w.Queue.Submit(context.Background(), sub)
	w.ok(err)
	return farm.RunID(done.Run.ID)
}

// ask asks with the node's next number and does not wait.
func (w *world) ask(id farm.NodeID, warm farm.LeaseID) fleet.Answer {
	w.t.Helper()
	w.asks[id]++
	ctx, cancel := context.WithTimeout(context.Background(), time.Millisecond)
	defer cancel()
	a, err := w.Fleet.Ask(ctx, id, fleet.Question{Session: 1, Number: w.asks[id], Warm: warm})
	w.ok(err)
	return a
}

func (w *world) report(id farm.NodeID, r accept.Report) accept.Verdict {
	w.t.Helper()
	v, err := w.Fleet.Report(context.Background(), id, 1, []accept.Report{r})
	w.ok(err)
	return v[0]
}

func (w *world) run(id farm.RunID) wire.Run {
	w.t.Helper()
	run, err := w.Views.OneRun(context.Background(), id, farm.Sight{})
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
		again, err := w.Fleet.Ask(context.Background(), n, fleet.Question{Session: 1, Number: w.asks[n]})
		w.ok(err)
		if first.Lease() == nil || again.Lease() == nil || again.Lease().ID != first.Lease().ID ||
			!again.Lease().Frames.Equal(first.Lease().Frames) {
			t.Errorf("first %+v, again %+v", first.Lease(), again.Lease())
		}
		if next := w.ask(n, 0); next.Lease() != nil || !strings.Contains(next.Why, "no room for a further lease") {
			t.Errorf("another ask got %+v: %s", next.Lease(), next.Why)
		}
	})
}

func TestAWaitingAskIsAnsweredBySubmit(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		got := make(chan fleet.Answer)
		go func() {
			a, err := w.Fleet.Ask(context.Background(), n, fleet.Question{Session: 1, Number: 1})
			w.ok(err)
			got <- a
		}()
		time.Sleep(10 * time.Second)
		w.submit("a", "practice", "1-5")
		if a := <-got; a.Lease() == nil || a.Lease().Frames.String() != "1-5" || a.Lease().Roots.Frames != "/frames" {
			t.Errorf("got %+v: %s", a.Lease(), a.Why)
		}
	})
}

func TestAnAskThatNobodyAnswersEnds(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		a, err := w.Fleet.Ask(ctx, n, fleet.Question{Session: 1, Number: 1})
		if err != nil || a.Lease() != nil || !strings.Contains(a.Why, "queue is empty") {
			t.Errorf("%+v, %v", a, err)
		}
		if w.e.Waits(n) {
			t.Error("the ask is still waiting")
		}
	})
}

// TestALateCopyOfAnAskTakesNothing lets copies of an ask, whose caller has
// given up or was answered, come after a newer one.
func TestALateCopyOfAnAskTakesNothing(t *testing.T) {
	asks := func(w *world, ctx context.Context, n farm.NodeID, number int64) <-chan fleet.Answer {
		got := make(chan fleet.Answer, 1)
		go func() {
			a, err := w.Fleet.Ask(ctx, n, fleet.Question{Session: 1, Number: number})
			w.ok(err)
			got <- a
		}()
		synctest.Wait()
		return got
	}
	for name, late := range map[string]func(ctx context.Context, w *world, n farm.NodeID){
		"while the same number waits": func(ctx context.Context, w *world, n farm.NodeID) {
			first := asks(w, ctx, n, 1)
			gone, cancel := context.WithTimeout(ctx, time.Minute)
			defer cancel()
			asks(w, gone, n, 1)
			if a := <-first; !a.Again || len(a.Leases) > 0 {
				w.t.Errorf("the first copy got %+v", a)
			}
			w.submit("a", "practice", "1-5") // the copy that waits is given a lease; it does not arrive
			if a := <-asks(w, ctx, n, 1); a.Lease() == nil || a.Lease().Frames.String() != "1-5" {
				w.t.Errorf("asked again, it got %+v", a)
			}
		},
		"after the answer": func(ctx context.Context, w *world, n farm.NodeID) {
			w.ask(n, 0)
			if a := <-asks(w, ctx, n, 1); a.Again || len(a.Leases) > 0 {
				w.t.Errorf("the copy got %+v", a)
			}
			w.submit("a", "practice", "1-5")
			if a := <-asks(w, ctx, n, 2); a.Lease() == nil {
				w.t.Errorf("the next ask got %+v", a)
			}
		},
		"while the next number waits": func(ctx context.Context, w *world, n farm.NodeID) {
			w.ask(n, 0)
			next := asks(w, ctx, n, 2)
			if a := <-asks(w, ctx, n, 1); a.Again || len(a.Leases) > 0 {
				w.t.Errorf("the copy got %+v", a)
			}
			w.submit("a", "practice", "1-5")
			if a := <-next; a.Lease() == nil {
				w.t.Errorf("the next ask got %+v", a)
			}
		},
		"after a lease that has ended": func(ctx context.Context, w *world, n farm.NodeID) {
			w.submit("a", "practice", "1-5")
			l := w.ask(n, 0).Lease()
			w.report(n, accept.Report{Outcome: accept.Ended, Lease: l.ID, Message: "went away"})
			if a := <-asks(w, ctx, n, 1); len(a.Leases) > 0 {
				w.t.Errorf("the copy got %+v", a)
			}
			if a := <-asks(w, ctx, n, 2); a.Lease() == nil {
				w.t.Errorf("the next ask got %+v", a)
			}
		},
	} {
		t.Run(name, func(t *testing.T) {
			bubble(t, func(t *testing.T, w *world) { late(t.Context(), w, w.join("kiln-01")) })
		})
	}
}

func TestALateCopyOfAnAskForFurtherFramesTakesNone(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		run := w.submit("a", "practice-feed", "1-5")
		l := w.ask(n, 0).Lease()
		for range 3 {
			for f := range l.Frames.All() {
				w.report(
					n,
					accept.Report{
						Outcome: accept.Good, Lease: l.ID, Launch: 1, Frame: f,
						Hash: fmt.Sprint(f), RenderSeconds: 10,
					},
				)
			}
			if l = w.ask(n, l.ID).Lease(); l == nil {
				t.Fatal("a renderer that is up gets no further frame")
			}
		}
		before := w.run(run).Sets
		a, err := w.Fleet.Ask(context.Background(), n, fleet.Question{Session: 1, Number: w.asks[n] - 1, Warm: l.ID})
		w.ok(err)
		if after := w.run(run).Sets; len(a.Leases) > 0 || after != before {
			t.Errorf("the copy got %+v; %+v became %+v", a, before, after)
		}
	})
}

func TestAnAskThatTellsEndsDoesNotWait(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		run := w.submit("a", "practice", "1-5")
		l := w.ask(n, 0).Lease()
		_, err := w.Queue.Steer(
			context.Background(), run, queue.Cancel, queue.How{Now: true}, farm.Person{Name: "admin", Role: farm.Admin},
		)
		w.ok(err)
		began := time.Now()
		a, err := w.Fleet.Ask(
			context.Background(), n,
			fleet.Question{Session: 1, Number: 2, Ended: []fleet.Ended{{Lease: l.ID, Why: "stopped"}}},
		)
		w.ok(err)
		if waited := time.Since(began); waited > 0 || !a.More || len(a.Leases) > 0 {
			t.Errorf("%+v after %v", a, waited)
		}
	})
}

func TestNobodyIsAnsweredBeforeTheCommit(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		w.submit("a", "practice", "1-5")
		w.memory.slow = 3 * time.Second
		began := time.Now()
		if a := w.ask(n, 0); a.Lease() == nil {
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
		a, err := w.Fleet.Ask(context.Background(), n, fleet.Question{Session: 1, Number: 1})
		if !errors.Is(err, writer.ErrGone) || a.Lease() != nil {
			t.Errorf("got %+v, %v", a, err)
		}
		if err := <-w.ended; err == nil || !strings.Contains(err.Error(), "the disk is gone") {
			t.Errorf("the floor ended with %v", err)
		}
		if _, err := w.Views.OneRun(context.Background(), 1, farm.Sight{}); !errors.Is(err, writer.ErrGone) {
			t.Errorf("a later question got %v", err)
		}
	})
}

func TestManyRequestsShareABatch(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		_, err := w.People.SetPerson(context.Background(), "admin", farm.Admin, "x", "", "test")
		w.ok(err)
		before := w.memory.batches
		w.memory.slow = time.Second
		var wg sync.WaitGroup
		for i := range 50 {
			wg.Go(func() {
				w.ok(w.People.IssueToken(
					context.Background(), fmt.Sprint("t", i), farm.AccessToken, "admin", "", "x",
					time.Now().Add(time.Hour),
				))
			})
		}
		wg.Wait()
		if n := w.memory.batches - before; n > 4 {
			t.Errorf("50 changes took %d batches", n)
		}
	})
}

func TestSteeringFitsTheState(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		id := w.submit("a", "practice", "1-3")
		steer := func(what queue.Steering) (string, error) {
			run, err := w.Queue.Steer(context.Background(), id, what, queue.How{}, admin)
			return run.State, err
		}
		for _, c := range []struct {
			what  queue.Steering
			state string
			fails bool
		}{
			{queue.Release, "queued", false}, {queue.Hold, "held", false}, {queue.Hold, "held", false}, {queue.Release, "queued", false}, {queue.Retry, "", true},
			{queue.Cancel, "cancelled", false}, {queue.Cancel, "cancelled", false}, {queue.Hold, "", true}, {queue.Release, "", true}, {queue.Retry, "", true},
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
		if _, err := w.Queue.Steer(
			context.Background(), id, queue.Hold, queue.How{}, farm.Person{Name: "tobin", Role: farm.Artist},
		); err == nil {
			t.Error("an artist held another's run")
		}
	})
}

func TestSubmissionsAreChecked(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		good := func() queue.Submission {
			return queue.Submission{
				Spec: farm.Spec{Job: "a", Project: "salt-clock", Scene: "a.practice", Frames: frames.One(1)},
			}
		}
		if sub, err := w.Queue.CheckSubmission(
			good(),
		); err != nil || sub.Spec.Width != 1920 || sub.Spec.Tries != 3 || sub.Spec.Recipe != "practice" ||
			sub.Spec.Output != "a" {
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
			sub, err := w.Queue.CheckSubmission(sub)
			if err == nil {
				_, err = w.Queue.Submit(context.Background(), sub)
			}
			var no *refusal.Refusal
			if !errors.As(err, &no) || no.Field != field {
				t.Errorf("%s: %v", field, err)
			}
		}
		w.submit("b", "practice", "1")
		sub, err := w.Queue.CheckSubmission(
			queue.Submission{
				Spec: farm.Spec{
					Job: "c", Project: "salt-clock", Scene: "a.practice", Frames: frames.One(1), Output: "b",
				},
			},
		)
		w.ok(err)
		before, seq := w.o.State.LastRun, w.o.State.Seq
		for i, dry := range []bool{true, true, false} {
			sub.Dry = dry
			sub.Spec.Needs, sub.Spec.Frames = "gpu", frames.Of(frames.Span{First: 1, Last: 3 + 5*i})
			done, err := w.Queue.Submit(context.Background(), sub)
			if done.Nobody == "" {
				t.Errorf("some node is said to have a graphics device")
			}
			if run := done.Run; err != nil || run.Output != "b/final-2" || run.Name != "c/final-2" ||
				(run.ID == 0) != dry {
				t.Errorf("two jobs into one folder: %s in %s, %v", run.Name, run.Output, err)
			}
			if dry && (w.o.State.LastRun != before || w.o.State.Seq != seq) {
				t.Errorf(
					"a submit that is only tried changed the farm: run %d, record %d", w.o.State.LastRun, w.o.State.Seq,
				)
			}
		}
		// What was tried with fewer frames is not remembered under its number.
		run, node := w.o.State.Runs[before+1], &farm.Node{ID: 1, Facts: farm.Facts{Speed: 1}}
		for f := range run.Spec.Frames.All() {
			w.o.Pace.Observe(run, node, 1, farm.FrameAccepted{Run: run.ID, Frame: f, Node: 1, RenderSeconds: 3})
		}
		w.o.Pace.Close(run)
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
		if runs, err := w.Views.Runs(context.Background(), farm.Sight{}); !errors.Is(err, writer.ErrGone) {
			t.Errorf("a deposed service showed %d runs, error %v", len(runs), err)
		}
		if err := <-w.ended; !errors.Is(err, deposed) {
			t.Errorf("the floor ended with %v", err)
		}
	})
}

// TestARunWaitsForItsRecipe starts a service that lacks the recipe of a run: asks
// are answered, and the run says what it waits for.
func TestARunWaitsForItsRecipe(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		n := w.join("kiln-01")
		id := w.submit("a", "practice", "1-4")
		if l := w.ask(n, 0).Lease(); l == nil {
			t.Fatal("there is no lease")
		}
		rest := w.submit("b", "practice", "1-4")
		delete(w.o.Recipes, "practice")
		again := New(Options{
			State: w.Floor.o.State, Pace: pace.New(), Committer: w.memory, Recipes: w.o.Recipes,
			Log: slog.New(slog.DiscardHandler), Now: time.Now,
		})
		w.stop()
		<-w.ended
		ctx, stop := context.WithCancel(context.Background())
		w.stop = stop
		go func() { w.ended <- again.Run(ctx) }()
		w.Floor = again
		asking, done := context.WithTimeout(context.Background(), time.Second)
		defer done()
		if a, err := again.Fleet.Ask(asking, n, fleet.Question{Session: 1, Number: 77}); err != nil ||
			len(a.Leases) > 0 {
			t.Errorf("the ask was answered with %d leases, %v", len(a.Leases), err)
		}
		for _, run := range []int64{int64(id), int64(rest)} {
			view, err := again.Views.OneRun(context.Background(), farm.RunID(run), farm.Sight{})
			if err != nil || !strings.Contains(view.Why, "no recipe practice any more") {
				t.Errorf("run %d: %s, %v", run, view.Why, err)
			}
		}
	})
}

func TestARevocationEndsWhatSpeaksForAPerson(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		ctx := context.Background()
		for _, p := range []struct {
			name string
			role farm.Role
		}{{"admin", farm.Admin}, {"ines", farm.Viewer}, {"tobin", farm.Artist}} {
			_, err := w.People.SetPerson(ctx, p.name, p.role, "old", "", "test")
			w.ok(err)
			for i := range 3 {
				w.ok(w.People.IssueToken(
					ctx, fmt.Sprintf("%s-%d-0123456789abcdef", p.name, i), farm.AccessToken, p.name, "a pipeline",
					"old", time.Now().Add(time.Hour),
				))
			}
		}
		counts := func(name string) (n int) {
			for i := range 3 {
				if _, ok := w.People.Access().Token(fmt.Sprintf("%s-%d-0123456789abcdef", name, i), time.Now()); ok {
					n++
				}
			}
			return n
		}
		w.ok(w.People.ChangePassword(ctx, "ines", "old", "new", "ines-1-0123456789abcdef"))
		if counts("ines") != 1 {
			t.Errorf("after a new password %d tokens count", counts("ines"))
		}
		if err := w.People.IssueToken(
			ctx, "late", farm.AccessToken, "ines", "", "old", time.Now().Add(time.Hour),
		); err == nil {
			t.Error("a sign-in that was proved by the old password got a token after the change")
		}
		_, err := w.People.SetPerson(ctx, "tobin", "", "reset", "", "admin")
		w.ok(err)
		if counts("tobin") != 0 {
			t.Errorf("after a reset %d tokens count", counts("tobin"))
		}
		if p, _ := w.People.Access().Person("tobin"); p.Role != farm.Artist {
			t.Errorf("a new password made tobin %s", p.Role)
		}
		if err := w.People.EndToken(
			ctx, "ines-1-0123456789", farm.Person{Name: "tobin", Role: farm.Artist},
		); err == nil {
			t.Error("somebody revoked the token of another")
		}
		w.ok(w.People.EndToken(ctx, "ines-1-0123456789", farm.Person{Name: "admin", Role: farm.Admin}))
		if counts("ines") != 0 {
			t.Error("an admin's revocation did nothing")
		}
		w.ok(w.People.RemovePerson(ctx, "ines", farm.Person{Name: "admin", Role: farm.Admin}))
		if _, there := w.People.Access().Person("ines"); there {
			t.Error("ines is still there")
		}
		if err := w.People.RemovePerson(ctx, "admin", farm.Person{Name: "admin", Role: farm.Admin}); err == nil {
			t.Error("the last admin could leave")
		}
	})
}

// TestEditsChangeWhatTheyName: what is not named stays, and who edits what
// somebody else has changed meanwhile is told.
func TestEditsChangeWhatTheyName(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		ctx := context.Background()
		title, weight := "The Salt Clock, restored", 3.5
		_, err := w.Setup.SetProject(ctx, "salt-clock", wire.ProjectChange{Title: &title, Weight: &weight}, "", "nadia")
		w.ok(err)
		p, err := w.Setup.SetProject(ctx, "salt-clock", wire.ProjectChange{Frames: "frames"}, "", "nadia")
		if err != nil || p.Title != title || p.Weight != weight || p.Scenes != "scenes" {
			t.Errorf("setting the place of its frames made the project %+v, %v", p, err)
		}
		seen, before, err := w.Setup.SetPlace(
			ctx, "frames", wire.PlaceChange{Paths: map[string]string{"darwin": "/Volumes/frames"}}, "", "nadia",
		)
		w.ok(err)
		loads := 4
		_, after, err := w.Setup.SetPlace(ctx, "frames", wire.PlaceChange{Loads: &loads}, before.Etag(), "tobin")
		if err != nil || len(after.Paths) != 2 || after.Loads != 4 {
			t.Errorf("%+v, %v", after, err)
		}
		var no *refusal.Refusal
		if _, _, err := w.Setup.SetPlace(
			ctx, "frames", wire.PlaceChange{Loads: new(int)}, seen.Etag(), "nadia",
		); !errors.As(err, &no) || no.Kind != refusal.Changed {
			t.Errorf("an edit of what was changed meanwhile: %v", err)
		}
		mask, value := "002", "a"
		_, err = w.Setup.SetLaunchSettings(
			ctx, wire.LaunchSettingsChange{Mask: &mask, Variables: map[string]*string{"A": &value, "B": &value}}, "",
			nadia,
		)
		w.ok(err)
		env, err := w.Setup.SetLaunchSettings(
			ctx, wire.LaunchSettingsChange{Variables: map[string]*string{"B": nil}}, "", nadia,
		)
		if err != nil || env.Mask != "002" || len(env.Variables) != 1 || env.Variables["A"] != "a" {
			t.Errorf("%+v, %v", env, err)
		}
	})
}
