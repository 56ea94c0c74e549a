// Package floor is the one owner of the live farm. All that changes the farm
// passes through its loop: decide, commit, apply, answer, tell. Nobody is
// answered before what he was promised is committed.
//
// It knows neither HTTP nor SQL: requests come as calls, Records go to a
// Committer.
package floor

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync/atomic"
	"time"

	"vexillum/internal/core/deal"
	"vexillum/internal/core/engine"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/forecast"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/health"
	"vexillum/internal/core/pace"
	"vexillum/internal/recipe"
	"vexillum/internal/wire"
)

// Committer makes Records durable.
type Committer interface {
	Commit(records []farm.Record) error
	// Confirm returns an error if another service may be the active one by
	// now. Answers that commit nothing need it.
	Confirm() error
}

// Options is what a Floor works with.
type Options struct {
	State         *farm.State
	Pace          *pace.Model
	Finished      []time.Time           // when frames were done lately, oldest first
	FinishedSince time.Time             // zero when nothing is known of the time before
	Newest        map[farm.RunID]Newest // the newest done frame of each run, as far as known
	Received      []deal.Received       // what projects had received before the start
	Committer     Committer
	Recipes       recipe.Book
	Log           *slog.Logger
	Now           func() time.Time
	Version       string          // of this service
	Active        wire.Active     // who we are
	Closed        func(farm.Spec) // told of every run that has closed; must not wait; may be nil
}

// Newest is the frame of a run that was done last.
type Newest struct {
	Frame int
	At    time.Time
}

// Floor owns the live farm. Use New, then Run; all other methods may be
// called by anybody at any time.
type Floor struct {
	commands chan *command
	gone     chan struct{} // closed when Run has ended
	access   atomic.Pointer[Access]
	recipes  recipe.Book
	log      *slog.Logger
	now      func() time.Time
	active   wire.Active
	version  string
	closed   func(farm.Spec)

	took func(what fmt.Stringer, took time.Duration) // hears how long decisions take; for tests, may be nil

	// What follows belongs to the loop alone.
	e         *engine.Engine
	s         *farm.State  // of the engine, to be read
	m         *pace.Model  // likewise
	dealer    *deal.Dealer // likewise
	committer Committer
	live      map[farm.NodeID]*liveNode
	newest    map[farm.RunID]Newest
	waiters   map[farm.NodeID]*waiter
	orders    map[farm.NodeID]*waitingOrder
	blocks    map[farm.RunID]blocky // how runs of very many stretches are shown
	finished  rate
	dirty     dirtySet
	listeners map[*Listener]struct{}
	followers map[*Follower]struct{}
	away      map[string]string // places that are not there, with why
	shown     *shown            // to followers; nil while there are none
	lastTick  time.Time

	forged     map[forgery]bool
	foretold   map[farm.RunID]forecast.Finish // by plays
	foretoldAt time.Time
}

// maxQueue bounds the commands that wait; beyond it callers wait themselves.
const maxQueue = 4096

// maxBatch bounds the commands that are decided before one commit.
const maxBatch = 512

// ErrGone says that this floor has ended, for a stop or because a commit
// failed. Whoever asked may ask again when the farm has been loaded again.
var ErrGone = errors.New("the service is reading its records again; try again in a moment")

// New returns a Floor for a farm that was just loaded.
func New(o Options) *Floor {
	f := &Floor{
		commands: make(chan *command, maxQueue), gone: make(chan struct{}), recipes: o.Recipes,
		log: o.Log, now: o.Now, active: o.Active, version: o.Version, closed: o.Closed,
		s: o.State, m: o.Pace, committer: o.Committer, live: map[farm.NodeID]*liveNode{},
		newest: o.Newest, waiters: map[farm.NodeID]*waiter{}, orders: map[farm.NodeID]*waitingOrder{},
		listeners: map[*Listener]struct{}{}, followers: map[*Follower]struct{}{}, dirty: newDirtySet(),
		forged: map[forgery]bool{}, blocks: map[farm.RunID]blocky{},
	}
	f.s.Missing = map[string]bool{}
	for _, run := range f.s.Queue() {
		f.s.Missing[run.Spec.Recipe] = f.s.Missing[run.Spec.Recipe] || f.recipes[run.Spec.Recipe] == nil
	}
	if f.newest == nil {
		f.newest = map[farm.RunID]Newest{}
	}
	now := f.now()
	f.lastTick = now
	f.e = engine.New(engine.Live(engine.Options{
		State: o.State, Pace: o.Pace, Epoch: o.Active.Epoch, Applied: f.applied,
	}), now)
	f.dealer = f.e.Dealer()
	f.dealer.RestoreUsage(o.Received)
	for id := range f.s.Nodes {
		f.live[id] = &liveNode{}
	}
	f.finished.recall(o.FinishedSince, o.Finished)
	f.publishAccess()
	return f
}

// command is one request on its way through the loop.
type command struct {
	what   fmt.Stringer // for who watches how long it takes
	decide func(t *transaction) error
	err    error
	done   chan struct{}
	taken  atomic.Bool // by the loop, or by a caller who no longer waits
}

// transaction is what a command may use while it decides. Records that it appends
// are applied at once and committed with the batch; a command must have made
// all its checks before the first of them.
type transaction struct {
	f   *Floor
	s   *farm.State
	now time.Time
}

func (t *transaction) append(records ...farm.Record) { t.f.e.Append(records...) }

// do sends a command through the loop and waits until what it decided is
// committed.
func (f *Floor) do(ctx context.Context, decide func(t *transaction) error) error {
	c := &command{what: here(), decide: decide, done: make(chan struct{})}
	select {
	case f.commands <- c:
	case <-f.gone:
		return ErrGone
	case <-ctx.Done():
		return ctx.Err()
	}
	select {
	case <-c.done:
		return c.err
	case <-f.gone:
		select { // it may have been answered just before the end
		case <-c.done:
			return c.err
		default:
			return ErrGone
		}
	case <-ctx.Done():
		if c.taken.CompareAndSwap(false, true) {
			return ctx.Err() // it will not be decided
		}
	}
	select { // it is being decided: what it writes must not be read before that is over
	case <-c.done:
		return c.err
	case <-f.gone:
		return ErrGone
	}
}

// Run works until the context ends or a commit fails. After an error the
// State must be loaded again.
func (f *Floor) Run(ctx context.Context) error {
	defer close(f.gone)
	defer f.closeListeners()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	tell := time.NewTicker(tellEvery)
	defer tell.Stop()
	again := false
	for {
		var first *command
		if !again {
			select {
			case <-ctx.Done():
				return nil
			case first = <-f.commands:
			case <-tick.C:
				first = &command{what: step("tick"), decide: f.tick, done: make(chan struct{})}
			case <-tell.C:
				began := time.Now()
				f.tell()
				f.watch(step("tell"), began)
				continue
			}
		}
		var err error
		if again, err = f.batch(first); err != nil {
			return err
		}
	}
}

// batch decides as many commands as wait, commits what they decided together,
// and answers them. again says that there is more to decide at once.
func (f *Floor) batch(first *command) (again bool, err error) {
	t := &transaction{f: f, s: f.s, now: f.now()}
	f.e.Begin(t.now)
	var decided []*command
	decide := func(c *command) {
		if !c.taken.CompareAndSwap(false, true) {
			return
		}
		began := time.Now()
		c.err = c.decide(t)
		f.watch(c.what, began)
		decided = append(decided, c)
	}
	if first != nil {
		decide(first)
	}
	for len(decided) < maxBatch && f.e.Err() == nil {
		select {
		case c := <-f.commands:
			decide(c)
			continue
		default:
		}
		break
	}
	began := time.Now()
	out, err := f.e.Finish()
	f.watch(step("deal to those that wait"), began)
	if err == nil {
		err = f.checkpoint(&out, t.now)
	}
	if err != nil {
		return false, fmt.Errorf("a decision contradicts the farm: %w", err)
	}
	answers := make([]Answer, len(out.Answers))
	for i, a := range out.Answers {
		answers[i] = f.answerView(a)
	}
	if len(out.Records) > 0 {
		if err := f.committer.Commit(out.Records); err != nil {
			return false, err
		}
		f.dirty.records(out.Records)
		f.publishAccessIf(out.Records)
		f.tellClosed(out.Records)
	} else if err := f.committer.Confirm(); err != nil {
		return false, err
	}
	for _, c := range decided {
		close(c.done)
	}
	for i, a := range out.Answers {
		if w := f.waiters[a.Node]; w != nil && w.number == a.Number {
			delete(f.waiters, a.Node)
			w.reply <- answers[i]
		}
	}
	f.answerOrders(out)
	return out.Again, nil
}

func (f *Floor) tellClosed(records []farm.Record) {
	for _, r := range records {
		if m, ok := r.(farm.RunMoved); ok && m.State.Closed() && f.closed != nil {
			f.closed(f.s.Runs[m.Run].Spec)
		}
	}
}

// applied notes what a Record means for what this room shows.
func (f *Floor) applied(r farm.Record) {
	switch r := r.(type) {
	case farm.NodeEnrolled, farm.NodeAnnounced:
		f.live[r.About().Node] = &liveNode{}
	case farm.NodeRetired:
		f.dropWaiting(r.Node)
	case farm.NodeStarted:
		var starts []time.Time
		var killed health.Killed
		if l := f.live[r.Node]; l != nil {
			starts, killed = l.starts[max(0, len(l.starts)-mostStarts):], l.killed
		}
		f.live[r.Node] = &liveNode{
			starts: append(starts, r.At), killed: killed, signs: Signs{DiskFree: -1, MemoryFree: -1},
		}
	case farm.FrameDone:
		f.newest[r.Run] = Newest{Frame: r.Frame, At: r.At}
		f.finished.add(r.At)
	}
}

// A done set is kept whole less often the more stretches it has, and not at all
// beyond so many: then its frames are read one by one at a start.
const (
	keepPart = 8
	keepMost = 2 * frames.MaxStretches
)

// keepEvery is after how many finished frames a run's done set is kept whole.
const keepEvery = 256

// TookOver notes that this service has become the active one, after another or
// by itself.
func (f *Floor) TookOver(ctx context.Context, before, why string) error {
	return f.do(ctx, func(t *transaction) error {
		action := "take over"
		if before == "" || before == f.active.Name {
			action = "start service"
		}
		t.append(
			farm.Audited{
				Actor: f.active.Name, Action: action, Subject: "farm", From: before,
				To: f.active.Name + ": " + why, At: t.now,
			},
		)
		return nil
	})
}

// checkpoint keeps the done set of runs whole from time to time, and when they
// close: so a start reads few frames one by one.
func (f *Floor) checkpoint(out *engine.Batch, now time.Time) error {
	closed := map[farm.RunID]bool{}
	for _, r := range out.Records {
		if id := r.About().Run; id != 0 {
			moved, ok := r.(farm.RunMoved)
			closed[id] = closed[id] || ok && moved.State.Closed()
		}
	}
	for id := range closed {
		run := f.s.Runs[id]
		if run == nil || run.Done.Stretches() > keepMost {
			continue
		}
		if closed[id] || run.SinceCheckpoint >= max(keepEvery, run.Done.Stretches()/keepPart) {
			kept := farm.RunKept{Run: id, Done: run.Done.Multirange(), Seq: f.s.Seq, At: now}
			if err := f.s.Apply(kept); err != nil {
				return err
			}
			out.Records = append(out.Records, kept)
		}
	}
	return nil
}

// tick runs every second.
func (f *Floor) tick(t *transaction) error {
	if gap := t.now.Sub(f.lastTick); gap > longestTick { // it was this service that did not listen
		f.e.Resumed(gap)
	}
	f.lastTick = t.now
	f.e.Tick()
	return nil
}

// longestTick is the time between two ticks beyond which this process itself
// must have stood still.
const longestTick = 3 * time.Second
