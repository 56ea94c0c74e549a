// Package node is what runs on a render machine: it enrols, tells what the
// machine is, asks for work, launches renderers, watches and verifies their
// frames, delivers them and reports. It goes on while the service is away.
//
// It knows the service by internal/wire alone and never what other nodes do.
package node

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"time"

	"vexillum/internal/client"
	"vexillum/internal/core/frames"
	"vexillum/internal/launcher"
	"vexillum/internal/recipe"
	"vexillum/internal/wire"
)

// Options says how a node process runs.
type Options struct {
	Client    *client.Client // without a token
	Key       string         // enrolment key; not needed by a machine that is enrolled
	Name      string
	Kind      string   // rack or desk
	Dir       string   // identity and staging
	Speed     float64  // told instead of measured, if above 0
	Renderers []string // recipes to offer; all that are found when empty
	Threads   int      // threads a renderer may use; all cores when 0
	Stall     time.Duration
	Version   string
	Log       *slog.Logger
	Told      func(line string) // lines for the person who started it
	Launcher  []string          // command line of the launcher, without the node's folder
	Send      bool              // send frames to the service even where their place is seen
	LetGo     <-chan struct{}   // closed to end the node process while its renderers go on; may be nil
}

// identity is what a machine keeps of its enrolment.
type identity struct {
	Service string `json:"service"`
	Node    int64  `json:"node"`
	Name    string `json:"name"`
	Token   string `json:"token"`
}

// Agent is a node process.
type Agent struct {
	o       Options
	client  *client.Client
	me      identity
	facts   wire.Facts
	session int64
	asked   int64
	life    string // of the farm
	recipes []recipe.Recipe
	nudge   chan struct{} // progress has changed
	shifted chan struct{} // the leases that are worked on have changed
	starter *launcher.Client

	mu    sync.Mutex
	works map[int64]*work // by lease
}

// Errors that end a node process.
var (
	// ErrSuperseded says that a newer process of the same node has started.
	ErrSuperseded = errors.New("a newer node process has taken this one's place")
	// ErrFolderTaken says that another process works with the same files.
	ErrFolderTaken = errors.New("another node process works in this folder; stop it first, or choose another folder with --data")
	// ErrNotEnrolled says that the machine has neither an identity nor a key.
	ErrNotEnrolled = errors.New("this machine is not enrolled yet; give a key with --key (made by: vexillum key new)")
)

const (
	askSeconds  = 25
	beatEvery   = 5 * time.Second
	beatAtLeast = 200 * time.Millisecond // between beats that tell progress
	retryMost   = 2 * time.Second
	callTimeout = 8 * time.Second

	// defaultStall is how long a renderer may give no sign of life.
	defaultStall = 15 * time.Minute
)

// Run works until the context ends, and then leaves the farm.
func Run(ctx context.Context, o Options) error {
	if o.Stall == 0 {
		o.Stall = defaultStall
	}
	if o.Threads == 0 {
		o.Threads = runtime.NumCPU()
	}
	if o.Told == nil {
		o.Told = func(string) {}
	}
	dir, err := filepath.Abs(o.Dir)
	if err != nil {
		return fmt.Errorf("finding the node's folder: %w", err)
	}
	o.Dir = dir
	a := &Agent{o: o, nudge: make(chan struct{}, 1), shifted: make(chan struct{}, 1), works: map[int64]*work{}}
	if err := os.MkdirAll(o.Dir, 0o700); err != nil {
		return fmt.Errorf("making the node's folder: %w", err)
	}
	release, free, err := launcher.Lock(filepath.Join(o.Dir, "node.lock"))
	if err != nil {
		return fmt.Errorf("taking the node's folder: %w", err)
	}
	if !free {
		return ErrFolderTaken
	}
	defer release()
	a.facts = machineFacts(ctx, o.Dir, o.Version)
	a.facts.Speed = o.Speed
	if a.facts.Speed <= 0 {
		a.facts.Speed = max(0.01, measureSpeed(a.facts.Cores))
	}
	if err := a.identify(ctx); err != nil {
		return err
	}
	for {
		err := a.oneSession(ctx)
		if ctx.Err() != nil || errors.Is(err, errLetGo) {
			return nil
		}
		if !errors.Is(err, launcher.ErrLost) {
			return err
		}
		o.Log.Error("the launcher has ended, and all renderers with it; starting anew")
	}
}

// identify reads who this machine is, or enrols it.
func (a *Agent) identify(ctx context.Context) error {
	path := filepath.Join(a.o.Dir, "node.json")
	data, err := os.ReadFile(path)
	if err == nil {
		if err := json.Unmarshal(data, &a.me); err != nil {
			return fmt.Errorf("reading this machine's identity in %s: %w; remove the file to enrol anew", path, err)
		}
		a.client = a.o.Client.WithToken(a.me.Token)
		return nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("reading this machine's identity: %w", err)
	}
	if a.o.Key == "" {
		return ErrNotEnrolled
	}
	var enrolled wire.Enrolled
	call, cancel := context.WithTimeout(ctx, callTimeout)
	defer cancel()
	err = a.o.Client.Do(call, http.MethodPost, "/node/v1/enrol", wire.Enrol{Key: a.o.Key, Name: a.o.Name, Kind: a.o.Kind, Facts: a.facts}, &enrolled)
	if err != nil {
		return err
	}
	a.me = identity{Service: a.o.Client.Addresses(), Node: enrolled.Node, Name: enrolled.Name, Token: enrolled.Token}
	if data, err = json.MarshalIndent(a.me, "", "  "); err != nil {
		return fmt.Errorf("keeping this machine's identity: %w", err)
	}
	if err := os.WriteFile(path+".new", data, 0o600); err != nil {
		return fmt.Errorf("keeping this machine's identity: %w", err)
	}
	if err := os.Rename(path+".new", path); err != nil {
		return fmt.Errorf("keeping this machine's identity: %w", err)
	}
	a.client = a.o.Client.WithToken(a.me.Token)
	a.o.Told(fmt.Sprintf("enrolled as node %s", a.me.Name))
	return nil
}

// oneSession opens one session and works in it until it is over.
func (a *Agent) oneSession(ctx context.Context) error {
	if err := os.MkdirAll(a.staging(), 0o755); err != nil {
		return fmt.Errorf("making the staging area: %w", err)
	}
	var err error
	if a.starter, err = launcher.Connect(ctx, a.o.Dir, a.o.Launcher); err != nil {
		return err
	}
	defer a.starter.Close()
	held, err := a.recall()
	if err != nil {
		return err
	}
	if err := a.readRecipes(ctx); err != nil {
		return err
	}
	a.facts.Renderers = findRenderers(ctx, a.recipes, a.o.Renderers)
	start := wire.Start{Facts: a.facts}
	for _, w := range held {
		start.Holding = append(start.Holding, wire.Held{Lease: w.lease.ID, Life: w.life})
	}
	var started wire.Started
	if err := a.persist(ctx, http.MethodPost, "/node/v1/start", start, &started); err != nil {
		return err
	}
	a.session, a.asked, a.me.Name, a.life = started.Session, 0, started.Name, started.Life
	a.o.Log.Info("session open", "node", a.me.Name, "session", a.session, "speed", a.facts.Speed, "leases_held", len(held))
	a.o.Told(fmt.Sprintf("%s is on the farm: %d cores, speed %.2f, %s", a.me.Name, a.facts.Cores, a.facts.Speed, renderersText(a.facts.Renderers)))
	resumed := a.sort(held, started)

	session, stop := context.WithCancelCause(ctx)
	var wg sync.WaitGroup
	wg.Go(func() { a.beats(session, stop) })
	wg.Go(func() { a.orders(session) })
	wg.Go(func() { a.workAll(session, stop, resumed) })
	select {
	case <-session.Done():
	case <-a.starter.Lost():
		stop(a.starter.Err())
	case <-a.o.LetGo:
		stop(errLetGo)
	}
	wg.Wait()
	cause := context.Cause(session)
	switch {
	case errors.Is(cause, launcher.ErrLost), errors.Is(cause, errLetGo):
	case ctx.Err() != nil:
		a.starter.End()
		a.leave()
		return nil
	default:
		a.starter.End() // whoever came after us renders by himself
	}
	return cause
}

// recall reads what earlier node processes were in the middle of.
func (a *Agent) recall() ([]*work, error) {
	folders, err := heldLeases(a.staging())
	if err != nil {
		return nil, err
	}
	var held []*work
	for _, folder := range folders {
		h, before, err := recallHolding(folder)
		if err != nil {
			a.o.Log.Warn("a lease's folder cannot be read; it is set aside", "folder", folder, "error", err)
			if err := a.setAside(folder, "unreadable"); err != nil {
				return nil, err
			}
			continue
		}
		w := a.newWork(&h.Lease)
		w.life, w.before = h.Life, before
		held = append(held, w)
	}
	return held, nil
}

// setAside moves a folder out of the staging area. Nothing in it is touched.
func (a *Agent) setAside(folder, why string) error {
	aside := filepath.Join(a.o.Dir, "set-aside", why)
	if err := os.MkdirAll(aside, 0o755); err != nil {
		return fmt.Errorf("setting %s aside: %w", folder, err)
	}
	to := filepath.Join(aside, fmt.Sprintf("%s-%d", filepath.Base(folder), time.Now().UnixMilli()))
	if err := os.Rename(folder, to); err != nil {
		return fmt.Errorf("setting %s aside: %w", folder, err)
	}
	a.o.Told("what " + filepath.Base(folder) + " held is not of this farm; it was set aside in " + to)
	return nil
}

// sort divides what is held by what the service says of it: leases that go
// on, and those of which only finished frames are offered. What belongs to
// another farm is set aside.
func (a *Agent) sort(held []*work, started wire.Started) []*work {
	keep := map[int64]string{}
	for _, k := range started.Keep {
		keep[k.Lease] = k.Frames
	}
	var out []*work
	for _, w := range held {
		if w.life != started.Life {
			a.endRenderer(w)
			if err := a.setAside(w.staging, "of-another-farm"); err != nil {
				a.o.Log.Error("work of another farm", "error", err)
			}
			continue
		}
		left, goesOn := keep[w.lease.ID]
		w.over = !goesOn
		w.lease.Frames = left
		out = append(out, w)
	}
	return out
}

// endRenderer ends what still runs of a lease that is not ours to finish.
func (a *Agent) endRenderer(w *work) {
	before := w.before.running()
	if before == nil {
		return
	}
	w.launcher = a.starter
	if l, err := w.adopt(before, false); err == nil {
		go func() { // nobody reads it any more
			for range l.marks { //nolint:revive // until the reader is gone
			}
		}()
		l.proc.Stop(time.Duration(w.lease.Recipe.Grace))
		<-l.proc.Gone()
		l.proc.Forget()
		close(l.marks)
	}
}

func renderersText(found []wire.Renderer) string {
	if len(found) == 0 {
		return "no renderer found"
	}
	text := ""
	for i, r := range found {
		if i > 0 {
			text += ", "
		}
		text += r.Recipe + " " + r.Version
	}
	return text
}

func (a *Agent) staging() string { return filepath.Join(a.o.Dir, "staging") }

// leave tells the service that this process ends. The work is dealt anew
// either way; this only makes it sooner.
func (a *Agent) leave() {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	if err := a.client.Do(ctx, http.MethodPost, "/node/v1/leave", wire.Leave{Session: a.session, Reason: "it was stopped on its machine"}, nil); err != nil {
		a.o.Log.Warn("leaving the farm", "error", err)
	}
}

// persist calls the service until it answers. The error says that going on
// makes no sense.
func (a *Agent) persist(ctx context.Context, method, path string, in, out any) error {
	wait := 100 * time.Millisecond
	quiet := false
	for {
		limit := callTimeout
		if strings.HasSuffix(path, "/ask") || strings.HasSuffix(path, "/orders") {
			limit += askSeconds * time.Second
		}
		call, cancel := context.WithTimeout(ctx, limit)
		err := a.client.Do(call, method, path, in, out)
		cancel()
		var p *wire.Problem
		switch {
		case err == nil:
			return nil
		case ctx.Err() != nil:
			return ctx.Err()
		case errors.As(err, &p) && p.Field == "session" && p.Status == http.StatusConflict:
			return fmt.Errorf("%w: %s", ErrSuperseded, p.Detail)
		case errors.As(err, &p) && p.Status < 500 && p.Status != http.StatusTooManyRequests:
			return err
		}
		if !quiet {
			a.o.Log.Warn("the service is away; trying on", "error", err)
			quiet = true
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(wait):
		}
		wait = min(2*wait, retryMost)
	}
}

// workAll goes on with the leases of earlier processes, and then asks for
// others, one after the other.
func (a *Agent) workAll(ctx context.Context, stop context.CancelCauseFunc, resumed []*work) {
	var wg sync.WaitGroup
	for _, w := range resumed {
		wg.Go(func() {
			a.o.Log.Info("going on", "lease", w.lease.ID, "run", w.lease.RunName, "frames", w.lease.Frames, "over", w.over)
			ended, err := a.workOn(ctx, w)
			if err == nil {
				_, err = a.report(ctx, wire.ReportItem{Outcome: wire.OutcomeEnded, Lease: ended.Lease, Message: ended.Message})
			}
			if err != nil {
				stop(err)
				return
			}
			w.clear()
		})
	}
	wg.Wait()
	var last *work // the end of which the next ask tells
	var ended wire.Ended
	for ctx.Err() == nil {
		ask := wire.Ask{Seconds: askSeconds}
		if last != nil {
			ask.Ended = &ended
		}
		answer, err := a.ask(ctx, ask)
		if err != nil {
			stop(err)
			return
		}
		if last != nil {
			last.clear()
			last = nil
		}
		if answer.Lease == nil {
			continue
		}
		l, err := a.withRecipe(ctx, answer.Lease)
		if err != nil {
			stop(err)
			return
		}
		a.o.Log.Info("lease", "lease", l.ID, "run", l.RunName, "frames", l.Frames, "why", answer.Why)
		w := a.newWork(l)
		if err := keepHolding(w.staging, holding{Life: a.life, Lease: *l}); err != nil { // the service hears that nothing came of it
			a.o.Log.Error("the lease cannot be worked on", "error", err)
			item := wire.ReportItem{Outcome: wire.OutcomeEnded, Lease: l.ID, Message: "cannot work: " + err.Error()}
			if _, err := a.report(ctx, item); err != nil {
				stop(err)
				return
			}
			select { // not at once again
			case <-ctx.Done():
			case <-time.After(retryMost):
			}
			continue
		}
		if ended, err = a.workOn(ctx, w); err != nil {
			stop(err)
			return
		}
		last = w
	}
}

func (a *Agent) readRecipes(ctx context.Context) error {
	a.recipes = nil
	return a.persist(ctx, http.MethodGet, "/node/v1/recipes", nil, &a.recipes)
}

// withRecipe finds the recipe that a lease names. One that is not known, or
// has changed, is read again.
func (a *Agent) withRecipe(ctx context.Context, l *wire.Lease) (*leased, error) {
	for range 2 {
		for _, r := range a.recipes {
			if r.Name == l.Recipe && r.Mark() == l.RecipeMark {
				return &leased{Lease: *l, Recipe: r}, nil
			}
		}
		if err := a.readRecipes(ctx); err != nil {
			return nil, err
		}
	}
	// The service changes its recipes just now; the name will do.
	for _, r := range a.recipes {
		if r.Name == l.Recipe {
			return &leased{Lease: *l, Recipe: r}, nil
		}
	}
	return nil, fmt.Errorf("the service has no recipe %q; is one of its services an older one", l.Recipe)
}

func (a *Agent) newWork(l *leased) *work {
	return &work{
		lease: l, svc: a, log: a.o.Log, staging: filepath.Join(a.staging(), leaseFolder(l.ID)), launcher: a.starter,
		speed: a.facts.Speed, node: a.me.Name, threads: a.o.Threads, stall: a.o.Stall, send: a.o.Send, changed: a.progressed, phase: "starting", verifying: map[int]bool{},
		ready: make(chan struct{}),
	}
}

func (a *Agent) workOn(ctx context.Context, w *work) (wire.Ended, error) {
	var err error
	w.node = a.me.Name
	if w.journal, err = openJournal(w.staging, a.o.Log); err != nil {
		return wire.Ended{}, err
	}
	defer w.journal.close()
	a.setWork(w, true)
	defer a.setWork(w, false)
	return w.run(ctx)
}

func (a *Agent) setWork(w *work, on bool) {
	a.mu.Lock()
	if on {
		a.works[w.lease.ID] = w
	} else {
		delete(a.works, w.lease.ID)
	}
	a.mu.Unlock()
	select {
	case a.shifted <- struct{}{}:
	default:
	}
	a.progressed()
}

// ask asks for work and waits for it.
func (a *Agent) ask(ctx context.Context, in wire.Ask) (wire.Answer, error) {
	a.asked++
	in.Session, in.Number = a.session, a.asked
	var answer wire.Answer
	err := a.persist(ctx, http.MethodPost, "/node/v1/ask", in, &answer)
	return answer, err
}

// more implements service.
func (a *Agent) more(ctx context.Context, lease int64) (frames.Set, error) {
	answer, err := a.ask(ctx, wire.Ask{Warm: lease}) // a renderer that is up does not wait
	if err != nil || answer.Lease == nil || answer.Lease.ID != lease {
		return frames.Set{}, err
	}
	var set frames.Set
	return set, set.UnmarshalText([]byte(answer.Lease.Frames))
}

// report implements service.
func (a *Agent) report(ctx context.Context, items ...wire.ReportItem) ([]wire.Verdict, error) {
	var out wire.Reported
	err := a.persist(ctx, http.MethodPost, "/node/v1/report", wire.Report{Session: a.session, Items: items}, &out)
	if err == nil && len(out.Verdicts) != len(items) {
		err = fmt.Errorf("the service answered %d of %d reports", len(out.Verdicts), len(items))
	}
	return out.Verdicts, err
}

// thumbnail implements service. A thumbnail that does not arrive is no loss.
func (a *Agent) thumbnail(ctx context.Context, run int64, frame int, jpeg []byte) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	path := fmt.Sprintf("/node/v1/runs/%d/frames/%d/thumbnail", run, frame)
	if err := a.client.Put(ctx, path, "image/jpeg", jpeg); err != nil {
		a.o.Log.Warn("thumbnail", "frame", frame, "error", err)
	}
}

// orders waits for orders about the leases that are worked on.
func (a *Agent) orders(ctx context.Context) {
	for ctx.Err() == nil {
		in := wire.Orders{Session: a.session, Leases: []int64{}, Seconds: askSeconds}
		a.mu.Lock()
		for id := range a.works {
			in.Leases = append(in.Leases, id)
		}
		a.mu.Unlock()
		if len(in.Leases) == 0 {
			select {
			case <-ctx.Done():
				return
			case <-a.shifted:
			}
			continue
		}
		calling, cancel := context.WithCancel(ctx)
		answered := make(chan struct{})
		go func() {
			select {
			case <-a.shifted: // ask about the others
				cancel()
				<-answered
			case <-answered:
			}
		}()
		var out wire.Ordered
		err := a.persist(calling, http.MethodPost, "/node/v1/orders", in, &out)
		shifted := calling.Err() != nil
		close(answered)
		cancel()
		if err != nil {
			if shifted && ctx.Err() == nil {
				continue
			}
			return // the session's other calls learn the same
		}
		for _, order := range out.Stop {
			if w := a.workOf(order.Lease); w != nil {
				<-w.ready
				w.stop(order.Now, order.Reason)
			}
		}
		for _, q := range out.Trim {
			a.answerTrim(ctx, q)
		}
		if len(out.Stop) > 0 { // until the lease is reported ended, the answer stays the same
			select {
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
		}
	}
}

func (a *Agent) workOf(lease int64) *work {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.works[lease]
}

// answerTrim gives back what no renderer has begun.
func (a *Agent) answerTrim(ctx context.Context, q wire.Trim) {
	answer := wire.Trimmed{Session: a.session, ID: q.ID, Lease: q.Lease}
	var wanted frames.Set
	if w := a.workOf(q.Lease); w != nil && wanted.UnmarshalText([]byte(q.Frames)) == nil {
		<-w.ready
		answer.Frames = w.trim(q.ID, wanted)
	}
	a.o.Log.Info("trim", "lease", q.Lease, "wanted", q.Frames, "given", answer.Frames)
	if err := a.persist(ctx, http.MethodPost, "/node/v1/trimmed", answer, nil); err != nil && ctx.Err() == nil {
		a.o.Log.Warn("answering a trim", "error", err)
	}
}

// progressed lets a beat tell what has changed.
func (a *Agent) progressed() {
	select {
	case a.nudge <- struct{}{}:
	default:
	}
}

// beats tells that the node lives, regularly and when progress has changed.
func (a *Agent) beats(ctx context.Context, stop context.CancelCauseFunc) {
	for {
		processor, memory := usage(ctx)
		in := wire.Beat{Session: a.session, Leases: []wire.Progress{}, Processor: processor, Memory: memory}
		a.mu.Lock()
		for _, w := range a.works {
			in.Leases = append(in.Leases, w.progress())
		}
		a.mu.Unlock()
		if err := a.persist(ctx, http.MethodPost, "/node/v1/beat", in, nil); err != nil {
			stop(err)
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(beatAtLeast):
		}
		select {
		case <-ctx.Done():
			return
		case <-a.nudge:
		case <-time.After(beatEvery):
		}
	}
}
