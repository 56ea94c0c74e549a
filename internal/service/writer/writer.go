// Package writer is the one owner of the live farm. All that changes the farm
// passes through its loop: decide, commit, answer, tell. Nobody is answered
// before what was decided for the request is committed.
//
// It knows neither HTTP nor SQL nor what requests are about: they come as
// functions over a [Tx] from the rooms that know, and Records go to a
// [Committer]. The rooms hear of what happens by a [Watcher].
package writer

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync/atomic"
	"time"

	"vexillum/internal/core/engine"
	"vexillum/internal/core/farm"
)

// Committer makes Records durable.
type Committer interface {
	Commit(records []farm.Record) error
	// Confirm returns an error if another service may be the active one by
	// now. Answers that commit nothing need it.
	Confirm() error
}

// Options is what a Writer works with. All are needed but Took.
type Options struct {
	Engine    *engine.Engine
	State     *farm.State // of the engine
	Committer Committer
	Log       *slog.Logger
	Now       func() time.Time
	Took      func(what fmt.Stringer, took time.Duration) // hears how long each decision took; may be nil
}

// Watcher hears of what the loop does, inside the loop: its functions must not
// wait. Each may be nil.
type Watcher struct {
	Applied   func(farm.Record)    // a Record has been applied; it is not committed yet
	Committed func(o engine.Batch) // a batch is committed; its askers are answered next
	Pulse     func()               // every [PulseEvery]
	Ended     func()               // the loop has ended
}

// PulseEvery is the time between two calls of [Watcher.Pulse].
const PulseEvery = 100 * time.Millisecond

// Writer owns the live farm. Use New, Watch, then Run; Do may be called by
// anybody at any time.
type Writer struct {
	commands chan *command
	gone     chan struct{} // closed when Run has ended
	o        Options
	watchers []Watcher
	lastTick time.Time // of the loop alone
}

// maxQueue bounds the commands that wait; beyond it callers wait themselves.
const maxQueue = 4096

// maxBatch bounds the commands that are decided before one commit.
const maxBatch = 512

// ErrGone says that this writer has ended, for a stop or because a commit
// failed. A caller may ask again when the farm has been loaded again.
var ErrGone = errors.New("the service is reading its records again; try again in a moment")

// ErrLoading is an [ErrGone] of a request that certainly did nothing: no Writer was there.
var ErrLoading = fmt.Errorf("%w", ErrGone)

// New returns a Writer for a farm that was just loaded.
func New(o Options) *Writer {
	return &Writer{commands: make(chan *command, maxQueue), gone: make(chan struct{}), o: o, lastTick: o.Now()}
}

// Watch lets a room hear of what the loop does. It must be called before Run.
func (w *Writer) Watch(watcher Watcher) { w.watchers = append(w.watchers, watcher) }

// Now returns the time by the clock of the service.
func (w *Writer) Now() time.Time { return w.o.Now() }

// Gone is closed when the loop has ended.
func (w *Writer) Gone() <-chan struct{} { return w.gone }

// Queued returns how many commands wait to be decided.
func (w *Writer) Queued() int { return len(w.commands) }

// command is one request on its way through the loop.
type command struct {
	what   fmt.Stringer // for the log, where it takes long
	decide func(t *Tx) error
	err    error
	done   chan struct{}
	taken  atomic.Bool // by the loop, or by a caller that no longer waits
}

// Tx is what a command may use while it decides.
type Tx struct {
	State *farm.State // to be read
	Now   time.Time
	e     *engine.Engine
}

// Append applies Records at once; they are committed with the batch. A command
// must have made all its checks before the first of them.
func (t *Tx) Append(records ...farm.Record) { t.e.Append(records...) }

// Do sends a command through the loop and waits until what it decided is
// committed. It returns what decide returned, [ErrGone], or the error of a
// context that ended before the command was begun.
func (w *Writer) Do(ctx context.Context, decide func(t *Tx) error) error {
	c := &command{what: here(), decide: decide, done: make(chan struct{})}
	select {
	case w.commands <- c:
	case <-w.gone:
		return ErrGone
	case <-ctx.Done():
		return ctx.Err()
	}
	select {
	case <-c.done:
		return c.err
	case <-w.gone:
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
	case <-w.gone:
		return ErrGone
	}
}

// Run works until the context ends or a commit fails. After an error the farm
// must be loaded again.
func (w *Writer) Run(ctx context.Context) error {
	defer close(w.gone)
	defer func() {
		for _, watcher := range w.watchers {
			if watcher.Ended != nil {
				watcher.Ended()
			}
		}
	}()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	pulse := time.NewTicker(PulseEvery)
	defer pulse.Stop()
	again := false
	for {
		var first *command
		if !again {
			select {
			case <-ctx.Done():
				return nil
			case first = <-w.commands:
			case <-tick.C:
				first = &command{what: step("tick"), decide: w.tick, done: make(chan struct{})}
			case <-pulse.C:
				w.pulse()
				continue
			}
		}
		var err error
		if again, err = w.batch(first); err != nil {
			return err
		}
	}
}

func (w *Writer) pulse() {
	began := time.Now()
	for _, watcher := range w.watchers {
		if watcher.Pulse != nil {
			watcher.Pulse()
		}
	}
	w.watch(step("tell"), began)
}

// batch decides as many commands as wait, commits what they decided together,
// and answers them. again says that there is more to decide at once.
func (w *Writer) batch(first *command) (again bool, err error) {
	t := &Tx{State: w.o.State, Now: w.o.Now(), e: w.o.Engine}
	w.o.Engine.Begin(t.Now)
	decided := w.decide(first, t)
	began := time.Now()
	out, err := w.o.Engine.Finish()
	w.watch(step("deal to those that wait"), began)
	if err == nil {
		err = w.checkpoint(&out, t.Now)
	}
	if err != nil {
		return false, fmt.Errorf("a decision contradicts the farm: %w", err)
	}
	if len(out.Records) > 0 {
		err = w.o.Committer.Commit(out.Records)
	} else {
		err = w.o.Committer.Confirm()
	}
	if err != nil {
		return false, err
	}
	for _, watcher := range w.watchers {
		if watcher.Committed != nil {
			watcher.Committed(out)
		}
	}
	for _, c := range decided {
		close(c.done)
	}
	return out.Again, nil
}

// decide lets the first command and those that wait decide, and returns them.
func (w *Writer) decide(first *command, t *Tx) (decided []*command) {
	one := func(c *command) {
		if !c.taken.CompareAndSwap(false, true) {
			return
		}
		began := time.Now()
		c.err = c.decide(t)
		w.watch(c.what, began)
		decided = append(decided, c)
	}
	if first != nil {
		one(first)
	}
	for len(decided) < maxBatch && w.o.Engine.Err() == nil {
		select {
		case c := <-w.commands:
			one(c)
			continue
		default:
		}
		break
	}
	return decided
}

// Applied must be called for each Record that the engine applies.
func (w *Writer) Applied(r farm.Record) {
	for _, watcher := range w.watchers {
		if watcher.Applied != nil {
			watcher.Applied(r)
		}
	}
}

// tick runs every second.
func (w *Writer) tick(t *Tx) error {
	if gap := t.Now.Sub(w.lastTick); gap > longestTick { // it was this service that did not listen
		w.o.Engine.Resumed(gap)
	}
	w.lastTick = t.Now
	w.o.Engine.Tick()
	return nil
}

// longestTick is the time between two ticks beyond which this process itself
// must have stood still.
const longestTick = 3 * time.Second
