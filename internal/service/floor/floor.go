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

	"vexillum/internal/core/accept"
	"vexillum/internal/core/deal"
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
	s         *farm.State
	m         *pace.Model
	dealer    *deal.Dealer
	committer Committer
	live      map[farm.NodeID]*liveNode
	newest    map[farm.RunID]Newest
	asks      map[farm.NodeID]*waitingAsk
	orders    map[farm.NodeID]*waitingOrder
	redeal    bool                  // something changed that may give a waiting node work
	reorder   bool                  // something changed that may stop a lease
	takeBack  bool                  // something failed, so that a node may have to give back what it has not begun
	blocks    map[farm.RunID]blocky // how runs of very many stretches are shown
	finished  rate
	dirty     dirt
	listeners map[*Listener]struct{}
	followers map[*Follower]struct{}
	away      map[string]string // places that are not there, with why
	shown     *shown            // to followers; nil while there are none
	lastTick  time.Time
	questions int64 // asked about trims

	deliveries map[accept.Delivery]watched
	forged     map[forgery]bool
	forecasts  map[farm.RunID]told
	foretold   map[farm.RunID]forecast.Finish // by plays
	foretoldAt time.Time
}

// maxQueue bounds the commands that wait; beyond it callers wait themselves.
const maxQueue = 4096

// maxBatch bounds the commands that are decided before one commit.
const maxBatch = 512

// ErrGone says that this floor has ended, for a stop or because a commit
// failed. Whoever asked may ask again when the farm has been loaded anew.
var ErrGone = errors.New("the service is reading its records again; try again in a moment")

// New returns a Floor for a farm that was just loaded.
func New(o Options) *Floor {
	f := &Floor{
		commands: make(chan *command, maxQueue), gone: make(chan struct{}),
		recipes: o.Recipes, log: o.Log, now: o.Now, active: o.Active, version: o.Version, closed: o.Closed,
		s: o.State, m: o.Pace, committer: o.Committer,
		live: map[farm.NodeID]*liveNode{}, newest: o.Newest,
		asks: map[farm.NodeID]*waitingAsk{}, orders: map[farm.NodeID]*waitingOrder{},
		listeners: map[*Listener]struct{}{}, followers: map[*Follower]struct{}{}, dirty: newDirt(), forged: map[forgery]bool{}, forecasts: map[farm.RunID]told{}, blocks: map[farm.RunID]blocky{},
	}
	f.s.Missing = map[string]bool{}
	for _, run := range f.s.Queue() {
		f.s.Missing[run.Spec.Recipe] = f.s.Missing[run.Spec.Recipe] || f.recipes[run.Spec.Recipe] == nil
	}
	f.dealer = deal.New(f.s, f.m, f.sight)
	f.dealer.Waits(func(id farm.NodeID) bool { return f.asks[id] != nil })
	f.dealer.Recall(o.Received)
	if f.newest == nil {
		f.newest = map[farm.RunID]Newest{}
	}
	now := f.now()
	f.lastTick = now
	for id := range f.s.Nodes { // all clocks start afresh
		f.live[id] = &liveNode{seen: now}
	}
	f.finished.recall(o.FinishedSince, o.Finished)
	f.publishAccess()
	return f
}

// command is one request on its way through the loop.
type command struct {
	what   fmt.Stringer // for who watches how long it takes
	decide func(t *turn) error
	err    error
	done   chan struct{}
	taken  atomic.Bool // by the loop, or by a caller who no longer waits
}

// turn is what a command may use while it decides. Records that it appends
// are applied at once and committed with the batch; a command must have made
// all its checks before the first of them.
type turn struct {
	f       *Floor
	s       *farm.State
	now     time.Time
	records []farm.Record
	answers []func() // to be given after the commit, besides the command's own
	broken  error
}

func (t *turn) append(records ...farm.Record) {
	for _, r := range records {
		if t.broken != nil {
			return
		}
		if err := t.s.Apply(r); err != nil {
			t.broken = err
			return
		}
		t.records = append(t.records, r)
		t.f.learn(r)
	}
}

// do sends a command through the loop and waits until what it decided is
// committed.
func (f *Floor) do(ctx context.Context, decide func(t *turn) error) error {
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
// State must be loaded anew.
func (f *Floor) Run(ctx context.Context) error {
	defer close(f.gone)
	defer f.closeListeners()
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	tell := time.NewTicker(tellEvery)
	defer tell.Stop()
	for {
		var first *command
		if !f.redeal {
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
		if err := f.batch(first); err != nil {
			return err
		}
	}
}

// batch decides as many commands as wait, commits what they decided together,
// and answers them.
func (f *Floor) batch(first *command) error {
	t := &turn{f: f, s: f.s, now: f.now()}
	var answered []*command
	decide := func(c *command) {
		if !c.taken.CompareAndSwap(false, true) {
			return
		}
		began := time.Now()
		c.err = c.decide(t)
		f.watch(c.what, began)
		answered = append(answered, c)
	}
	if first != nil {
		decide(first)
	}
	for len(answered) < maxBatch && t.broken == nil {
		select {
		case c := <-f.commands:
			decide(c)
			continue
		default:
		}
		break
	}
	if f.takeBack && t.broken == nil { // at once: who spoils frames spoils them fast
		f.takeBack = false
		for _, cut := range f.dealer.Yield(t.now) {
			f.question(t, cut, 0)
		}
	}
	began := time.Now()
	answers := append(t.answers, f.dealToWaiting(t)...)
	f.watch(step("deal to those that wait"), began)
	if t.broken == nil {
		f.settle(t)
	}
	if t.broken != nil {
		return fmt.Errorf("a decision contradicts the farm: %w", t.broken)
	}
	if len(t.records) > 0 {
		if err := f.committer.Commit(t.records); err != nil {
			return err
		}
		f.dirty.records(t.records)
		f.publishAccessIf(t.records)
		f.tellClosed(t.records)
	} else if err := f.committer.Confirm(); err != nil {
		return err
	}
	for _, c := range answered {
		close(c.done)
	}
	for _, answer := range answers {
		answer()
	}
	if f.reorder {
		f.reorder = false
		f.answerOrders()
	}
	return nil
}

func (f *Floor) tellClosed(records []farm.Record) {
	for _, r := range records {
		if m, ok := r.(farm.RunMoved); ok && m.State.Closed() && f.closed != nil {
			f.closed(f.s.Runs[m.Run].Spec)
		}
	}
}

// learn notes what a Record means for the parts of the floor that are not
// State.
func (f *Floor) learn(r farm.Record) {
	switch r := r.(type) {
	case farm.RunSubmitted, farm.PlaceSet, farm.LicenceSet, farm.RunSet, farm.LeaseTrimmed, farm.FramesRetried, farm.FramesRedone, farm.NodeReach, farm.DeliveryLost, farm.PoolSet, farm.LaunchSettingsSet:
		f.redeal = true
	case farm.FrameFailed:
		f.redeal, f.takeBack = true, true
	case farm.NodeDuty, farm.NodeHealth, farm.NodeSet, farm.StaySet:
		f.redeal, f.reorder = true, true
	case farm.RunMoved:
		f.redeal, f.reorder = true, true
		if r.State.Closed() {
			f.m.Close(f.s.Runs[r.Run])
			f.dealer.Forget(r.Run)
		}
	case farm.LeaseEnded:
		f.redeal, f.reorder = true, true
		if l := f.live[r.Node]; l != nil {
			delete(l.progress, r.Lease)
			delete(l.advanced, r.Lease)
			delete(l.rests, r.Lease)
		}
	case farm.NodeEnrolled, farm.NodeAnnounced:
		f.live[r.About().Node] = &liveNode{seen: r.About().At}
	case farm.NodeRetired:
		f.dropWaiting(r.Node)
		f.redeal = true
	case farm.NodeStarted:
		var starts []time.Time
		var killed health.Killed
		if l := f.live[r.Node]; l != nil {
			starts, killed = l.starts[max(0, len(l.starts)-mostStarts):], l.killed
		}
		f.live[r.Node] = &liveNode{
			seen: r.At, starts: append(starts, r.At), killed: killed, signs: Signs{DiskFree: -1, MemoryFree: -1},
		}
		f.redeal, f.reorder = true, true
	case farm.FrameAccepted:
		if n := f.s.Nodes[r.Node]; n != nil {
			part := 1.0
			if l := f.s.Lease(r.Lease); l != nil {
				part = n.Part(l.Share)
			}
			run := f.s.Runs[r.Run]
			f.m.Observe(run, n, part, r)
			f.dealer.Receive(run.Spec.Project, run.Spec.Owner, r.RenderSeconds*part*f.m.SpeedFor(n, run), r.At)
			f.reorder = f.reorder || run.Races() > 0 // who raced for the frame may stop
			if len(f.asks) > 0 && !run.ToDo.Empty() && deal.Reconsider(f.m.Seen(run.ID)) {
				f.redeal = true // nodes that were passed over may be of use, as it is known now
			}
		}
		if l := f.live[r.Node]; l != nil {
			if l.advanced == nil {
				l.advanced = map[farm.LeaseID]time.Time{}
			}
			l.advanced[r.Lease] = r.At
		}
	case farm.FrameDone:
		f.newest[r.Run] = Newest{Frame: r.Frame, At: r.At}
		if run := f.s.Runs[r.Run]; run.Done.Len() == 1 || run.Spec.Wait && !run.Terms.Scouted {
			f.redeal = true // the crowd may join
		}
		f.finished.add(r.At)
	}
}

// mostStarts bounds the starts of a node process that are remembered.
const mostStarts = 20

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
	return f.do(ctx, func(t *turn) error {
		action := "take over"
		if before == "" || before == f.active.Name {
			action = "start service"
		}
		t.append(farm.Audited{Actor: f.active.Name, Action: action, Subject: "farm", From: before, To: f.active.Name + ": " + why, At: t.now})
		return nil
	})
}

// settle closes runs that have nothing left to do and keeps long ones whole
// from time to time.
func (f *Floor) settle(t *turn) {
	touched := map[farm.RunID]bool{}
	for _, r := range t.records {
		if id := r.About().Run; id != 0 {
			touched[id] = true
		}
	}
	for id := range touched {
		run := t.s.Runs[id]
		if run == nil {
			continue
		}
		keep := run.SinceCheckpoint >= max(keepEvery, run.Done.Stretches()/keepPart)
		if deal.Scouted(run) {
			t.append(farm.RunMoved{Run: id, State: farm.RunHeld, Reason: fmt.Sprintf("its scouts are rendered (frames %s): look at them", run.Spec.Scouts), At: t.now})
		}
		if !run.State.Closed() {
			if state, settled := run.Settled(); settled {
				if run.OpenCount() > 0 {
					continue // a node will say when its renderer is gone
				}
				t.append(farm.RunMoved{Run: id, State: state, Reason: closingReason(run, state), At: t.now})
				keep = true
			}
		}
		if keep && run.Done.Stretches() <= keepMost {
			t.append(farm.RunKept{Run: id, Done: run.Done.Multirange(), Seq: t.s.Seq, At: t.now})
		}
	}
}

// allParked says of a run that has no good picture what became of its frames.
func allParked(n int) string {
	if n == 1 {
		return "its only frame is parked"
	}
	return fmt.Sprintf("all %d frames are parked", n)
}

func areDone(n int) string {
	if n == 1 {
		return "1 frame is"
	}
	return fmt.Sprintf("%d frames are", n)
}

func are(n int) string {
	if n == 1 {
		return "1 is"
	}
	return fmt.Sprintf("%d are", n)
}

func closingReason(run *farm.Run, state farm.RunState) string {
	switch state {
	case farm.RunDone:
		if run.Done.Len() == 1 {
			return "its frame is done"
		}
		return fmt.Sprintf("all %d frames are done", run.Done.Len())
	case farm.RunGaps:
		return fmt.Sprintf("%s done, %s parked: %s", areDone(run.Done.Len()), are(run.Parked.Len()), run.Parked.Brief())
	default:
		return allParked(run.Parked.Len())
	}
}
