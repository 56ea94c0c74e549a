package floor

import (
	"context"
	"fmt"
	"slices"
	"time"

	"vexillum/internal/core/accept"
	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// Trim asks a node which of the last frames of a lease it can give back.
type Trim struct {
	ID     int64
	Lease  farm.LeaseID
	Frames frames.Set
}

// question is a Trim that waits for its answer.
type question struct {
	Trim
	node   farm.NodeID
	taker  farm.NodeID
	reason string
	ahead  time.Duration // by which the lease would end earlier
	asked  time.Time
}

// Times of trims.
const (
	trimRest  = 3 * time.Second  // before a lease is trimmed again
	trimLimit = 15 * time.Second // for an answer; after that the lease may be asked again
)

// takeOver looks, for a node that has found nothing to do, whether it should
// take the end of another's lease over, and asks for that.
func (f *Floor) takeOver(t *turn, taker farm.NodeID) {
	if !t.s.Idle(taker) {
		return
	}
	cut, ok, _ := f.dealer.TakeOver(taker, t.now)
	if !ok {
		f.race(t, taker)
		return
	}
	f.question(t, cut, taker)
}

// race lets a node that waits render a frame in flight on another, too.
func (f *Floor) race(t *turn, taker farm.NodeID) {
	w := f.asks[taker]
	if w == nil {
		return
	}
	d := f.dealer.Race(w.ask, t.now)
	t.append(d.Records...)
	l := dealt(t.s, d)
	if l == nil || t.broken != nil {
		return
	}
	f.answered(taker, w)
	n := t.s.Nodes[taker]
	a := Answer{Leases: []*LeaseView{f.leaseView(n, l)}, More: deal.HasRoom(t.s, n), Why: d.Why}
	t.answers = append(t.answers, func() { w.reply <- a })
}

// question asks a node for the end of a lease. taker is who waits for it, or 0
// where it is to be dealt to whoever comes first.
func (f *Floor) question(t *turn, cut deal.Cut, taker farm.NodeID) {
	owner := f.live[cut.Node]
	if owner == nil || owner.trim != nil && t.now.Sub(owner.trim.asked) < trimLimit {
		return
	}
	f.questions++
	owner.trim = &question{
		// Another service may have asked before: its questions have other numbers.
		Trim: Trim{ID: f.active.Epoch<<32 + f.questions, Lease: cut.Lease, Frames: cut.Frames},
		node: cut.Node, taker: taker, reason: cut.Reason, ahead: cut.Ahead, asked: t.now,
	}
	if owner.rests == nil {
		owner.rests = map[farm.LeaseID]time.Time{}
	}
	owner.rests[cut.Lease] = t.now.Add(trimRest)
	f.reorder = true
}

// sight tells the dealer what is seen of a lease at work.
func (f *Floor) sight(lease *farm.Lease) deal.Sight {
	l, now := f.live[lease.Node], f.now()
	if l == nil {
		return deal.Sight{Rests: true}
	}
	rests := f.s.Nodes[lease.Node].Reach != farm.Online || // no answer would come
		l.trim != nil && now.Sub(l.trim.asked) < trimLimit || now.Before(l.rests[lease.ID])
	p, advanced := l.progress[lease.ID], l.advanced[lease.ID]
	switch {
	case p.Frame != nil && lease.Left.Has(*p.Frame) && !p.Since.Before(advanced):
		return deal.Sight{Begun: true, Frame: *p.Frame, Seconds: now.Sub(p.Since).Seconds(), Rests: rests}
	case !advanced.IsZero() && !lease.Left.Empty():
		// It has gone on with the next frame, and has not told yet.
		return deal.Sight{Begun: true, Frame: lease.Left.First(), Seconds: now.Sub(advanced).Seconds(), Rests: rests}
	}
	return deal.Sight{Seconds: now.Sub(lease.OpenedAt).Seconds(), Rests: rests}
}

// trimFor returns the question to a node, if one waits.
func (f *Floor) trimFor(node farm.NodeID, leases []farm.LeaseID) []Trim {
	l := f.live[node]
	if l == nil || l.trim == nil || !slices.Contains(leases, l.trim.Lease) {
		return nil
	}
	return []Trim{l.trim.Trim}
}

// Trimmed takes a node's answer to a trim. What it gave back is dealt in the
// same batch. An answer to a question that was not asked, or was answered,
// changes nothing that is not true anyway: the node has given the frames back.
func (f *Floor) Trimmed(ctx context.Context, id farm.NodeID, session, question int64, lease farm.LeaseID, given frames.Set) error {
	return f.do(ctx, func(t *turn) error {
		n, err := t.session(id, session)
		if err != nil {
			return err
		}
		reason := n.Name + " gave frames back"
		var taker farm.NodeID
		var ahead time.Duration
		if q := f.live[id].trim; q != nil && q.ID == question {
			f.live[id].trim = nil
			reason, taker, ahead = q.reason, q.taker, time.Duration(float64(q.ahead)*float64(given.Len())/float64(max(1, q.Frames.Len())))
		}
		switch {
		case given.Empty():
		case f.asks[taker] != nil: // whose lease tells why
			reason = fmt.Sprintf("%s gives %s back", n.Name, given)
		default:
			reason = fmt.Sprintf("%s; %s gives %s back", reason, n.Name, given)
		}
		cut := accept.Trimmed(t.s, id, lease, given, reason, t.now)
		t.append(cut...)
		if len(cut) > 0 {
			f.handOver(t, taker, cut[0].(farm.LeaseTrimmed), ahead)
		}
		return nil
	})
}

// handOver gives what was cut off to the node that it was cut off for, in the
// same batch, if that still waits for work.
func (f *Floor) handOver(t *turn, taker farm.NodeID, cut farm.LeaseTrimmed, ahead time.Duration) {
	w, n, run := f.asks[taker], t.s.Nodes[taker], t.s.Runs[cut.Run]
	if w == nil || !n.Ready() || run.State != farm.RunRendering || t.broken != nil {
		return
	}
	set := cut.Frames.Intersect(run.ToDo) // somebody may race for one meanwhile
	if set.Empty() {
		return
	}
	share, full := deal.Room(t.s, f.m, n, run, w.ask.Memory, nil)
	if full != "" {
		return
	}
	f.answered(taker, w)
	opened := farm.LeaseOpened{
		Lease: t.s.LastLease + 1, Node: taker, Run: cut.Run, Session: n.Session, Ask: w.ask.Number, Frames: set, Share: share,
		Reason: deal.TookOver(n.Name, t.s.NodeName(cut.Node), set, ahead), At: t.now,
	}
	t.append(opened)
	if t.broken != nil {
		return
	}
	a := Answer{Leases: []*LeaseView{f.leaseView(n, t.s.Lease(opened.Lease))}, More: deal.HasRoom(t.s, n), Why: opened.Reason}
	t.answers = append(t.answers, func() { w.reply <- a })
}
