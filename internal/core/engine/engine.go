// Package engine is the farm's loop as a pure state machine. Events go in: an
// ask, a report, the answer to a trim, a sign of life, an act of a person, the
// time. Records come out, with the answers to asks that waited and the trims
// that nodes are asked for. The service and every farm played on paper drive the
// same Engine, so that a drill or a forecast decides what the service would.
//
// Events that belong together form a batch:
//
//	e.Begin(now)
//	answer, waits := e.Ask(node, question)
//	out, err := e.Finish()
//
// The package reads no clock and starts no goroutine. It knows neither how
// events travel nor how Records are kept; an answer must not be given before the
// Records of its batch are durable.
package engine

import (
	"slices"
	"time"

	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/pace"
)

// Policy decides which node gets which frames. A [deal.Dealer] is the real one.
type Policy interface {
	// Next decides what an asking node gets: at most one lease.
	Next(deal.Ask, time.Time) deal.Decision
	// TakeOver finds the end of a lease that an idle node should take over. Where
	// there is none it says after which time another answer may come.
	TakeOver(farm.NodeID, time.Time) (cut deal.Cut, ok bool, again time.Duration)
	// Race finds a frame in flight that an idle node should render as well.
	Race(deal.Ask, time.Time) deal.Decision
	// Yield returns what nodes should give back for work that comes first.
	Yield(time.Time) []deal.Cut
	// May reports whether the limits of a run – ceiling, licences, places – let a
	// node take frames of it.
	May(farm.NodeID, farm.RunID, time.Time) bool
	// Receive notes finished work, in reference seconds, for the fair shares of
	// a project and a person.
	Receive(project, person string, work float64, now time.Time)
	// Forget drops what was remembered of a run that has ended.
	Forget(farm.RunID)
}

// Options are what an Engine works with.
type Options struct {
	State *farm.State // owned by the Engine from then on
	Pace  *pace.Model // likewise
	// Policy makes another way of dealing than the [deal.Dealer]; it may be nil.
	Policy func(*farm.State) Policy
	// Epoch makes the ids of trims differ from those of an earlier Engine.
	Epoch int64
	// Present reports nodes that are known to be alive without a sign of life. It
	// may be nil.
	Present func(farm.NodeID) bool
	// Applied hears each Record when it has been applied. It may be nil.
	Applied func(farm.Record)
	// TrimPause is how long a lease is left alone after a trim.
	TrimPause time.Duration
	// LookPause is how often idle nodes look for something to take over. 0: as
	// soon as something may have changed.
	LookPause time.Duration
	// YieldPause returns how often nodes are asked to give back what they have not
	// begun; nil: with each Tick.
	YieldPause func(now time.Time) time.Duration
}

// Live returns options for a farm whose nodes are told by their signs of life
// and answer after a while, as those of a service do.
func Live(o Options) Options {
	o.Present, o.YieldPause = nil, nil
	o.TrimPause, o.LookPause = 3*time.Second, time.Second
	return o
}

// Engine owns the live farm. Its methods must not be called concurrently, and
// those that decide only between Begin and Finish.
type Engine struct {
	o      Options
	s      *farm.State
	m      *pace.Model
	dealer *deal.Dealer // nil where another Policy deals
	policy Policy
	now    time.Time // of the batch

	nodes  map[farm.NodeID]*node
	asks   map[farm.NodeID]*ask
	trims  int64 // asked so far
	redeal bool  // something changed that may give a waiting node work
	// yieldNow says that a frame has failed, so that a node may have to give back
	// what it has not begun: who spoils frames spoils them fast.
	yieldNow   bool
	looksAt    time.Time // when idle nodes look for a take-over next; zero: not planned
	yieldsAt   time.Time
	retriesAt  time.Time // when frames that failed are offered next to nodes that wait
	deliveries map[delivery]watched

	batch   Batch
	touched []farm.RunID // runs that the batch has Records of
	err     error        // a decision contradicted the farm
}

// Batch is what came of a batch of events.
type Batch struct {
	Records []farm.Record
	Answers []Answer // to asks that waited, from this batch or an earlier one
	Trims   []Trim   // that nodes are asked for from now on
	// Orders are nodes that may have to end or trim a lease, some more than once.
	Orders []farm.NodeID
	// AllOrders says that any node may.
	AllOrders bool
	// Again says that there is more to decide at once.
	Again bool
}

// New returns the Engine of a farm that was just loaded or made up. All clocks
// begin at now: nobody is silent yet.
func New(o Options, now time.Time) *Engine {
	e := &Engine{
		o: o, s: o.State, m: o.Pace, nodes: map[farm.NodeID]*node{}, asks: map[farm.NodeID]*ask{},
		deliveries: map[delivery]watched{},
	}
	if o.Policy != nil {
		e.policy = o.Policy(e.s)
	} else {
		e.dealer = deal.New(e.s, e.m, e.Sight)
		e.dealer.Waits(func(id farm.NodeID) bool { return e.asks[id] != nil })
		e.policy = e.dealer
	}
	for id := range e.s.Nodes {
		e.nodes[id] = &node{seen: now}
	}
	return e
}

// Dealer returns the dealer, for explanations and forecasts; nil where another
// Policy deals.
func (e *Engine) Dealer() *deal.Dealer { return e.dealer }

// Begin begins a batch of events that happen at one moment.
func (e *Engine) Begin(now time.Time) {
	e.now, e.batch, e.touched = now, Batch{}, e.touched[:0]
}

// Append applies Records that an act of a person or an event decided. A Record
// that contradicts the farm spoils the batch: nothing of it counts, and Finish
// returns the error.
func (e *Engine) Append(records ...farm.Record) {
	for _, r := range records {
		if e.err != nil {
			return
		}
		if err := e.s.Apply(r); err != nil {
			e.err = err
			return
		}
		e.batch.Records = append(e.batch.Records, r)
		if run := r.About().Run; run != 0 && (len(e.touched) == 0 || e.touched[len(e.touched)-1] != run) {
			e.touched = append(e.touched, run)
		}
		e.learn(r)
		if e.o.Applied != nil {
			e.o.Applied(r)
		}
	}
}

// Decided returns how many Records the batch has so far.
func (e *Engine) Decided() int { return len(e.batch.Records) }

// Err returns the error of a batch that is spoilt.
func (e *Engine) Err() error { return e.err }

// Finish deals to the nodes that wait, settles what has nothing left to do, and
// returns what came of the batch. After an error the Engine is of no more use:
// its State holds what was not committed.
func (e *Engine) Finish() (Batch, error) {
	if e.yieldNow {
		e.yieldNow = false
		e.yield()
	}
	if e.redeal {
		e.dealToWaiting()
	}
	if len(e.asks) > 0 && e.o.LookPause == 0 && !e.looksAt.IsZero() && !e.now.Before(e.looksAt) {
		e.look()
	}
	e.settle()
	e.follow()
	e.batch.Again = e.redeal
	e.batch.Trims = slices.DeleteFunc(e.batch.Trims, func(t Trim) bool { // a later event may have ended it
		l := e.s.Lease(t.Lease)
		return l == nil || !l.Open()
	})
	return e.batch, e.err
}

// Reorder lets a node hear at once what it has to do.
func (e *Engine) Reorder(id farm.NodeID) { e.batch.Orders = append(e.batch.Orders, id) }

// learn notes what a Record means for what is not State: what is known of
// nodes, what was learned, and who has to be dealt to again.
func (e *Engine) learn(r farm.Record) {
	wakes := r.Wakes()
	e.redeal = e.redeal || wakes&farm.WakesAsks != 0
	e.yieldNow = e.yieldNow || wakes&farm.WakesYields != 0
	switch about := r.About(); {
	case wakes&farm.WakesOrders == 0:
	case about.Node != 0:
		e.Reorder(about.Node)
	case about.Run != 0:
		e.reorderRun(e.s.Runs[about.Run])
	default:
		e.batch.AllOrders = true
	}
	switch r := r.(type) {
	case farm.RunMoved:
		if r.State.Closed() {
			e.m.Close(e.s.Runs[r.Run])
			e.policy.Forget(r.Run)
		}
	case farm.LeaseEnded:
		if n := e.nodes[r.Node]; n != nil {
			delete(n.progress, r.Lease)
			delete(n.advanced, r.Lease)
			delete(n.rests, r.Lease)
			delete(n.launched, r.Lease)
		}
	case farm.NodeEnrolled:
		e.nodes[r.Node] = &node{seen: r.At}
	case farm.NodeAnnounced:
		e.nodes[r.Node] = &node{seen: r.At}
	case farm.NodeRetired:
		delete(e.asks, r.Node)
	case farm.NodeStarted:
		delete(e.asks, r.Node)
		e.nodes[r.Node] = &node{seen: r.At}
	case farm.FrameAccepted:
		e.observe(r)
	case farm.FrameFailed:
		e.failed(r)
	case farm.FrameDone:
		if run := e.s.Runs[r.Run]; run.Done.Len() == 1 || run.Spec.Wait && !run.Terms.Scouted {
			e.redeal = true // the other nodes may join
		}
		e.redeal = e.redeal || len(e.s.Followers(r.Run)) > 0
	}
}

// reorderRun lets the nodes that hold leases of a run hear what they have to do.
func (e *Engine) reorderRun(run *farm.Run) {
	for l := range run.OpenLeases {
		e.Reorder(l.Node)
	}
}

// observe learns from a frame that was accepted.
func (e *Engine) observe(r farm.FrameAccepted) {
	if n := e.s.Nodes[r.Node]; n != nil {
		part := 1.0
		if l := e.s.Lease(r.Lease); l != nil {
			part = n.Part(l.Share)
		}
		run := e.s.Runs[r.Run]
		e.m.Observe(run, n, part, r)
		e.policy.Receive(run.Spec.Project, run.Spec.Owner, r.RenderSeconds*part*e.m.SpeedFor(n, run), r.At)
		if run.Races() > 0 { // who raced for the frame may stop
			for l := range run.OpenLeases {
				if l.Superseded && l.Left.Empty() {
					e.Reorder(l.Node)
				}
			}
		}
		if len(e.asks) > 0 && !run.ToDo.Empty() && deal.Reconsider(e.m.Seen(run.ID)) {
			e.redeal = true // nodes that were passed over may be of use, as it is known now
		}
	}
	if n, l := e.nodes[r.Node], e.s.Lease(r.Lease); n != nil && l != nil {
		n.goesOn(e.s.Runs[r.Run], l, r.Frame, r.At)
	}
}
