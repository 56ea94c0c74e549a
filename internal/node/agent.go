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
	nudge   chan struct{} // progress has changed

	mu   sync.Mutex
	work *work
}

// Errors that end a node process.
var (
	// ErrSuperseded says that a newer process of the same node has started.
	ErrSuperseded = errors.New("a newer node process has taken this one's place")
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
	a := &Agent{o: o, nudge: make(chan struct{}, 1)}
	if err := os.MkdirAll(o.Dir, 0o700); err != nil {
		return fmt.Errorf("making the node's folder: %w", err)
	}
	a.facts = machineFacts(ctx, o.Dir, o.Version)
	a.facts.Speed = o.Speed
	if a.facts.Speed <= 0 {
		a.facts.Speed = max(0.01, measureSpeed(a.facts.Cores))
	}
	if err := a.identify(ctx); err != nil {
		return err
	}
	if err := a.oneSession(ctx); ctx.Err() == nil {
		return err
	}
	return nil
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
	// Nothing of an earlier process is running any more: its renderers died
	// with it.
	if err := os.RemoveAll(a.staging()); err != nil {
		a.o.Log.Warn("clearing the staging area", "error", err)
	}
	if err := os.MkdirAll(a.staging(), 0o755); err != nil {
		return fmt.Errorf("making the staging area: %w", err)
	}
	var recipes []recipe.Recipe
	if err := a.persist(ctx, http.MethodGet, "/node/v1/recipes", nil, &recipes); err != nil {
		return err
	}
	a.facts.Renderers = findRenderers(ctx, recipes, a.o.Renderers)
	var started wire.Started
	if err := a.persist(ctx, http.MethodPost, "/node/v1/start", wire.Start{Facts: a.facts}, &started); err != nil {
		return err
	}
	a.session, a.asked, a.me.Name = started.Session, 0, started.Name
	a.o.Log.Info("session open", "node", a.me.Name, "session", a.session, "speed", a.facts.Speed)
	a.o.Told(fmt.Sprintf("%s is on the farm: %d cores, speed %.2f, %s", a.me.Name, a.facts.Cores, a.facts.Speed, renderersText(a.facts.Renderers)))

	session, stop := context.WithCancelCause(ctx)
	var wg sync.WaitGroup
	wg.Go(func() { a.beats(session, stop) })
	wg.Go(func() { a.works(session, stop) })
	<-session.Done()
	wg.Wait()
	cause := context.Cause(session)
	if ctx.Err() != nil {
		a.leave()
		return nil
	}
	return cause
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

// works asks for leases and works on them, one after the other.
func (a *Agent) works(ctx context.Context, stop context.CancelCauseFunc) {
	for ctx.Err() == nil {
		answer, err := a.ask(ctx, 0)
		if err != nil {
			stop(err)
			return
		}
		if answer.Lease == nil {
			continue
		}
		l := answer.Lease
		w := &work{
			lease: l, svc: a, log: a.o.Log, staging: filepath.Join(a.staging(), fmt.Sprintf("lease-%d", l.ID)),
			speed: a.facts.Speed, node: a.me.Name, threads: a.o.Threads, stall: a.o.Stall, changed: a.progressed, phase: "starting", verifying: map[int]bool{},
		}
		a.o.Log.Info("lease", "lease", l.ID, "run", l.RunName, "frames", l.Frames, "why", answer.Why)
		if err := a.workOn(ctx, w); err != nil {
			stop(err)
			return
		}
	}
}

func (a *Agent) workOn(ctx context.Context, w *work) error {
	a.setWork(w)
	defer a.setWork(nil)
	watching, done := context.WithCancel(ctx)
	var wg sync.WaitGroup
	ready := make(chan struct{})
	wg.Go(func() {
		<-ready
		a.orders(watching, w)
	})
	defer wg.Wait()
	defer done()
	w.ready = ready
	return w.run(ctx)
}

func (a *Agent) setWork(w *work) {
	a.mu.Lock()
	a.work = w
	a.mu.Unlock()
	a.progressed()
}

// ask asks for work and waits for it; warm names a lease whose renderer is
// still up, which does not wait.
func (a *Agent) ask(ctx context.Context, warm int64) (wire.Answer, error) {
	a.asked++
	var answer wire.Answer
	in := wire.Ask{Session: a.session, Number: a.asked, Warm: warm, Seconds: askSeconds}
	if warm != 0 {
		in.Seconds = 0
	}
	err := a.persist(ctx, http.MethodPost, "/node/v1/ask", in, &answer)
	return answer, err
}

// more implements service.
func (a *Agent) more(ctx context.Context, lease int64) (frames.Set, error) {
	answer, err := a.ask(ctx, lease)
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

// orders waits for orders about a lease until it is over.
func (a *Agent) orders(ctx context.Context, w *work) {
	for ctx.Err() == nil {
		var out wire.Ordered
		in := wire.Orders{Session: a.session, Leases: []int64{w.lease.ID}, Seconds: askSeconds}
		if err := a.persist(ctx, http.MethodPost, "/node/v1/orders", in, &out); err != nil {
			return // the session's other calls learn the same
		}
		for _, order := range out.Stop {
			w.stop(order.Now, order.Reason)
		}
		if len(out.Stop) > 0 { // until the lease is reported ended, the answer stays the same
			select {
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
		}
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
		if a.work != nil {
			in.Leases = append(in.Leases, a.work.progress())
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
