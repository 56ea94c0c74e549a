package floor

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"vexillum/internal/core/accept"
	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// liveNode is what is known of a node just now and is not kept.
type liveNode struct {
	seen      time.Time
	fell      bool // silent without having said that it leaves
	freed     bool // silent for so long that all was taken from it
	processor float64
	memory    float64
	signs     Signs
	starts    []time.Time // of its node process, that this service saw
	progress  map[farm.LeaseID]Progress
	missing   map[farm.LeaseID]absence   // open leases that its last signs of life did not name
	trim      *question                  // that the node has not answered
	rests     map[farm.LeaseID]time.Time // until when a lease is not trimmed again
	restart   int64                      // session that shall start its node process anew
}

// Progress is how far a node is with a lease.
type Progress struct {
	Frame     *int
	Phase     string
	Fraction  float64
	Since     time.Time // of the frame and phase
	Verifying []int
	Trouble   string // why frames wait to be delivered
	Full      string // why no further frame is begun
}

// Enrolment asks to make a machine a node.
type Enrolment struct {
	KeyHash   string
	TokenHash string // of the token that the node shall have
	Name      string
	Kind      farm.NodeKind
	Facts     farm.Facts
}

// Enrol makes a machine a node and returns its id.
func (f *Floor) Enrol(ctx context.Context, e Enrolment) (farm.NodeID, error) {
	var id farm.NodeID
	err := f.do(ctx, func(t *turn) error {
		key := t.s.Keys[e.KeyHash]
		switch {
		case key == nil:
			return refuse(Forbidden, "key", "this enrolment key is not known; make one with: vexillum key new")
		case !t.now.Before(key.ExpiresAt):
			return refuse(Forbidden, "key", "this enrolment key expired at %s; make one with: vexillum key new", key.ExpiresAt.Format(time.DateTime))
		case !key.RevokedAt.IsZero():
			return refuse(Forbidden, "key", "this enrolment key was revoked; make one with: vexillum key new")
		case key.UsesLeft < 1:
			return refuse(Forbidden, "key", "this enrolment key is used up; make one with: vexillum key new")
		}
		if err := farm.CheckNodeName(e.Name); err != nil {
			return refuse(Invalid, "name", "%v", err)
		}
		if e.Kind != farm.Rack && e.Kind != farm.Desk {
			return refuse(Invalid, "kind", "a node is rack or desk, not %q", e.Kind)
		}
		id = t.s.LastNode + 1
		known := t.s.NodeNamed(e.Name)
		if known != nil {
			if t.hasToken(known.ID) {
				return refuse(Conflict, "name", "there is a node %s already; choose another name with --name, or start it from the machine that has its token. If that is lost: vexillum nodes revoke %s", e.Name, e.Name)
			}
			id = known.ID // announced, or its token was revoked
		}
		t.append(
			farm.NodeEnrolled{Node: id, Name: e.Name, Of: e.Kind, Facts: e.Facts, KeyHash: e.KeyHash, At: t.now},
			farm.TokenIssued{Hash: e.TokenHash, Of: farm.NodeToken, Node: id, Label: e.Name, At: t.now},
			farm.Audited{Actor: "key " + key.Label, Action: "enrol node", Subject: e.Name, To: string(e.Kind), Node: id, At: t.now},
		)
		t.joinPools(id, key)
		return nil
	})
	return id, err
}

// hasToken reports whether a machine holds the token of a node.
func (t *turn) hasToken(id farm.NodeID) bool {
	for _, token := range t.s.Tokens {
		if token.Node == id && token.Valid(t.now) {
			return true
		}
	}
	return false
}

// joinPools puts a node that has just enrolled into the pools of its key.
func (t *turn) joinPools(id farm.NodeID, key *farm.Key) {
	n := t.s.Nodes[id]
	if n == nil || t.broken != nil {
		return
	}
	next := n.Settings
	for _, p := range key.Pools {
		if t.s.Pools[p] != nil {
			next.Pools = append(slices.Clone(next.Pools), p)
		}
	}
	next.Tidy()
	if different := farm.Differences(n.Settings, next); len(different) > 0 {
		t.append(farm.NodeSet{Node: id, Version: n.Version + 1, Settings: next, Actor: "key " + key.Label, Reason: strings.Join(different, "; "), At: t.now})
	}
}

// Session is what the start of a node process gives.
type Session struct {
	Name   string
	Number int64
	Keep   map[farm.LeaseID]frames.Set // leases that go on, with the frames that have no result
	Caps   farm.Caps
	Set    int64 // version of the settings
}

// Start opens a new session of a node process that holds the given leases.
// All other work of the node is dealt anew. foreign are leases that it holds
// of another farm, which is put on record.
func (f *Floor) Start(ctx context.Context, id farm.NodeID, facts farm.Facts, holding, foreign []farm.LeaseID) (out Session, err error) {
	err = f.do(ctx, func(t *turn) error {
		n := t.s.Nodes[id]
		if n == nil || !n.RetiredAt.IsZero() {
			return refuse(NotFound, "", "this node does not exist any more; enrol the machine again")
		}
		records, keep := accept.Start(t.s, n, facts, holding, t.now)
		t.append(records...)
		out = Session{Name: n.Name, Number: n.Session, Keep: map[farm.LeaseID]frames.Set{}, Caps: n.Settings.Caps, Set: n.Version}
		for _, l := range keep {
			out.Keep[l] = t.s.Lease(l).Left
		}
		if len(foreign) > 0 {
			t.append(farm.Audited{Actor: n.Name, Action: "refuse foreign work", Subject: n.Name, Node: id, At: t.now,
				To: fmt.Sprintf("it holds leases %v of another farm, or of this one before it was restored; they were set aside on the machine", foreign)})
		}
		f.dropWaiting(id)
		return nil
	})
	return out, err
}

// session returns the node if the session is its newest, and notes that it is
// heard from.
func (t *turn) session(id farm.NodeID, session int64) (*farm.Node, error) {
	n := t.s.Nodes[id]
	if n == nil || !n.RetiredAt.IsZero() {
		return nil, refuse(NotFound, "", "this node does not exist any more; enrol the machine again")
	}
	if n.Session != session {
		return nil, refuse(Conflict, "session", "a newer node process of %s is running; this one has to stop", n.Name)
	}
	l := t.f.live[id]
	l.seen, l.fell, l.freed = t.now, false, false
	if n.Reach != farm.Online {
		t.append(farm.NodeReach{Node: id, Reach: farm.Online, Reason: n.Name + " is heard from again", At: t.now})
	}
	return n, nil
}

// Answer is what an ask gets: a lease, or the reason why there is none.
type Answer struct {
	Lease *LeaseView
	Why   string
}

type waitingAsk struct {
	ask   deal.Ask
	reply chan Answer
}

// Question asks for work.
type Question struct {
	Session  int64
	Number   int64        // the node's own count of its asks in the session
	Warm     farm.LeaseID // whose renderer is still up; 0 for none
	Ended    farm.LeaseID // which has ended just before; 0 for none
	EndedWhy string
}

// Ask asks for work and waits until there is some or the context ends; then
// the Answer has no lease. The same ask gets the same lease again.
func (f *Floor) Ask(ctx context.Context, id farm.NodeID, q Question) (Answer, error) {
	session, number, warm := q.Session, q.Number, q.Warm
	w := &waitingAsk{ask: deal.Ask{Node: id, Number: number, Warm: warm}, reply: make(chan Answer, 1)}
	var now Answer
	waits := false
	err := f.do(context.WithoutCancel(ctx), func(t *turn) error {
		n, err := t.session(id, session)
		if err != nil {
			return err
		}
		f.dropAsk(id)
		if q.Ended != 0 {
			records, _ := accept.Take(t.s, id, accept.Report{Outcome: accept.Ended, Lease: q.Ended, Message: q.EndedWhy}, t.now)
			t.append(records...)
		}
		for _, l := range t.s.LeasesOf(id) {
			if l.Ask == number && !l.Left.Empty() {
				now = Answer{Lease: f.leaseView(n, l), Why: l.Reason}
				return nil
			}
			if l.ID != warm {
				now = Answer{Why: fmt.Sprintf("%s still holds lease %d; report its end first", n.Name, l.ID)}
				return nil
			}
		}
		d := deal.Next(t.s, f.m, w.ask, t.now)
		t.append(d.Records...)
		if l := dealt(t.s, d); l != nil {
			now = Answer{Lease: f.leaseView(n, l), Why: d.Why}
			return nil
		}
		now = Answer{Why: d.Why}
		if warm == 0 { // a renderer that is up shall not wait
			waits = true
			f.asks[id] = w
			f.takeOver(t, id)
		}
		return nil
	})
	if err != nil {
		return Answer{}, err // what was decided was not committed
	}
	if !waits {
		return now, nil
	}
	select {
	case a := <-w.reply:
		return a, nil
	case <-f.gone:
		return Answer{}, ErrGone
	case <-ctx.Done():
	}
	err = f.do(context.WithoutCancel(ctx), func(*turn) error {
		if f.asks[id] == w {
			delete(f.asks, id)
		}
		return nil
	})
	select {
	case a := <-w.reply: // it came while we were leaving
		return a, nil
	default:
		return now, err
	}
}

// dealt returns the lease that a decision opened or extended, or nil.
func dealt(s *farm.State, d deal.Decision) *farm.Lease {
	for _, r := range d.Records {
		switch r := r.(type) {
		case farm.LeaseOpened:
			return s.Lease(r.Lease)
		case farm.LeaseExtended:
			return s.Lease(r.Lease)
		}
	}
	return nil
}

// dealToWaiting gives work to nodes that wait for it, if something changed
// that may bring some. The answers are given after the commit.
func (f *Floor) dealToWaiting(t *turn) (answers []func()) {
	if !f.redeal || t.broken != nil {
		return nil
	}
	f.redeal = false
	ids := make([]farm.NodeID, 0, len(f.asks))
	for id := range f.asks {
		ids = append(ids, id)
	}
	// The fastest first: they bring most while all wait the same.
	slices.SortFunc(ids, func(a, b farm.NodeID) int {
		x, y := t.s.Nodes[a].Facts.Speed, t.s.Nodes[b].Facts.Speed
		switch {
		case x > y:
			return -1
		case x < y:
			return 1
		}
		return int(a - b)
	})
	for _, id := range ids {
		w := f.asks[id]
		d := deal.Next(t.s, f.m, w.ask, t.now)
		t.append(d.Records...)
		if t.broken != nil {
			return nil
		}
		if l := dealt(t.s, d); l != nil {
			delete(f.asks, id)
			a := Answer{Lease: f.leaseView(t.s.Nodes[id], l), Why: d.Why}
			answers = append(answers, func() { w.reply <- a })
		}
	}
	f.redeal = false // what the dealing itself changed brings nothing new
	return answers
}

// Order tells a node to end a lease.
type Order struct {
	Lease  farm.LeaseID
	Now    bool // at once; otherwise when the frame in flight is finished
	Reason string
}

type waitingOrder struct {
	leases  []farm.LeaseID
	caps    int64
	session int64
	reply   chan Orders
}

// Orders are what a node shall do about its leases.
type Orders struct {
	Stop    []Order
	Trim    []Trim
	Caps    *farm.Caps // newer than what the node has
	Set     int64      // version of the settings that they are of
	Restart bool       // the node process shall start anew
}

func (o Orders) none() bool { return len(o.Stop)+len(o.Trim) == 0 && o.Caps == nil && !o.Restart }

// Orders returns which of the leases that a node works on shall end or be
// trimmed, or what else it shall do, and waits until there is something or the
// context ends. caps is the version of the caps in force on the node.
func (f *Floor) Orders(ctx context.Context, id farm.NodeID, session int64, leases []farm.LeaseID, caps int64) (Orders, error) {
	w := &waitingOrder{leases: leases, caps: caps, session: session, reply: make(chan Orders, 1)}
	var now Orders
	err := f.do(context.WithoutCancel(ctx), func(t *turn) error {
		if _, err := t.session(id, session); err != nil {
			return err
		}
		if now = f.ordersFor(id, w); now.none() {
			f.orders[id] = w
		}
		return nil
	})
	if err != nil {
		return Orders{}, err
	}
	if !now.none() {
		return now, nil
	}
	select {
	case now = <-w.reply:
		return now, nil
	case <-f.gone:
		return Orders{}, ErrGone
	case <-ctx.Done():
	}
	return Orders{}, f.do(context.WithoutCancel(ctx), func(*turn) error {
		if f.orders[id] == w {
			delete(f.orders, id)
		}
		return nil
	})
}

func (f *Floor) ordersFor(node farm.NodeID, w *waitingOrder) Orders {
	var orders []Order
	n := f.s.Nodes[node]
	for _, id := range w.leases {
		l := f.s.Lease(id)
		switch {
		case l == nil:
			orders = append(orders, Order{Lease: id, Now: true, Reason: "its run has ended"})
		case !l.Open():
			orders = append(orders, Order{Lease: id, Now: true, Reason: "the lease has ended"})
		case f.s.Runs[l.Run].State == farm.RunHeld:
			orders = append(orders, Order{Lease: id, Reason: "the run is held"})
		case n.Duty != farm.OnDuty:
			orders = append(orders, Order{Lease: id, Now: n.DutyNow, Reason: n.Name + " is " + string(n.Duty)})
		case n.Health == farm.Sidelined:
			orders = append(orders, Order{Lease: id, Reason: n.Name + " is sidelined"})
		}
	}
	out := Orders{Stop: orders, Trim: f.trimFor(node, w.leases)}
	if w.caps < n.Version {
		caps := n.Settings.Caps
		out.Caps, out.Set = &caps, n.Version
	}
	if l := f.live[node]; l != nil && l.restart == w.session && w.session != 0 {
		out.Restart = true
	}
	return out
}

func (f *Floor) answerOrders() {
	for id, w := range f.orders {
		if orders := f.ordersFor(id, w); !orders.none() {
			delete(f.orders, id)
			w.reply <- orders
		}
	}
}

// dropWaiting lets go of what an older session of a node waits for.
func (f *Floor) dropWaiting(id farm.NodeID) {
	f.dropAsk(id)
	if w := f.orders[id]; w != nil {
		delete(f.orders, id)
		w.reply <- Orders{}
	}
}

// dropAsk lets go of an older ask of a node.
func (f *Floor) dropAsk(id farm.NodeID) {
	if w := f.asks[id]; w != nil {
		delete(f.asks, id)
		w.reply <- Answer{Why: "a newer ask has taken its place"}
	}
}

// Beat is a node's sign of life.
type Beat struct {
	Processor float64
	Memory    float64
	Signs     Signs
	Leases    map[farm.LeaseID]Progress
}

// Signs is what a node tells about its health.
type Signs struct {
	Now       time.Time // by its clock; zero where it does not tell
	ClockOff  time.Duration
	DiskFree  int64 // below 0 where it is not known
	DiskTotal int64
	SwapUsed  int64
}

// Beat notes that a node lives and what it does.
func (f *Floor) Beat(ctx context.Context, id farm.NodeID, session int64, b Beat) error {
	return f.do(ctx, func(t *turn) error {
		n, err := t.session(id, session)
		if err != nil {
			return err
		}
		l := f.live[id]
		l.processor, l.memory, l.signs = b.Processor, b.Memory, b.Signs
		if !b.Signs.Now.IsZero() {
			l.signs.ClockOff = b.Signs.Now.Sub(t.now)
		}
		t.inventory(l, id, b.Leases)
		for lease, p := range b.Leases {
			old := l.progress[lease]
			p.Since = t.now
			if old.Phase == p.Phase && sameFrame(old.Frame, p.Frame) {
				p.Since = old.Since
			}
			b.Leases[lease] = p
		}
		l.progress = b.Leases
		f.dirty.node(n.ID)
		for lease := range b.Leases {
			if l := t.s.Lease(lease); l != nil {
				f.dirty.run(l.Run)
			}
		}
		return nil
	})
}

func sameFrame(a, b *int) bool { return a == b || a != nil && b != nil && *a == *b }

// Leave says that a node process ends; its work is dealt anew.
func (f *Floor) Leave(ctx context.Context, id farm.NodeID, session int64, reason string) error {
	return f.do(ctx, func(t *turn) error {
		n, err := t.session(id, session)
		if err != nil {
			return err
		}
		t.append(accept.Release(t.s, id, nil, fmt.Sprintf("the node process of %s ended: %s", n.Name, reason), t.now)...)
		t.append(farm.NodeReach{Node: id, Reach: farm.Silent, Reason: fmt.Sprintf("%s has left: %s", n.Name, reason), At: t.now})
		f.dropWaiting(id)
		return nil
	})
}
