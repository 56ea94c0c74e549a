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
	reason string
	asked  time.Time
}

// Times of trims.
const (
	trimRest  = 10 * time.Second // before a lease is trimmed again
	trimLimit = 15 * time.Second // for an answer; after that the lease may be asked again
)

// takeOver looks, for a node that has found nothing to do, whether it should
// take the end of another's lease over, and asks for that.
func (f *Floor) takeOver(t *turn, taker farm.NodeID) {
	inFlight := func(lease farm.LeaseID) int {
		l := t.s.Lease(lease)
		if p := f.live[l.Node].progress[lease]; p.Frame != nil {
			return 1
		}
		return 0
	}
	rests := func(lease *farm.Lease) bool {
		l := f.live[lease.Node]
		if l == nil || t.s.Nodes[lease.Node].Reach != farm.Online {
			return true // no answer would come
		}
		if l.trim != nil && t.now.Sub(l.trim.asked) < trimLimit {
			return true
		}
		return t.now.Before(l.rests[lease.ID])
	}
	cut, ok := deal.TakeOver(t.s, f.m, taker, inFlight, rests)
	if !ok {
		return
	}
	f.questions++
	owner := f.live[cut.Node]
	owner.trim = &question{
		// Another service may have asked before: its questions have other numbers.
		Trim: Trim{ID: f.active.Epoch<<32 + f.questions, Lease: cut.Lease, Frames: cut.Frames},
		node: cut.Node, reason: cut.Reason, asked: t.now,
	}
	if owner.rests == nil {
		owner.rests = map[farm.LeaseID]time.Time{}
	}
	owner.rests[cut.Lease] = t.now.Add(trimRest)
	f.reorder = true
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
		if q := f.live[id].trim; q != nil && q.ID == question {
			f.live[id].trim = nil
			reason = q.reason
		}
		if !given.Empty() {
			reason = fmt.Sprintf("%s; %s gives %s back", reason, n.Name, given)
		}
		t.append(accept.Trimmed(t.s, id, lease, given, reason, t.now)...)
		return nil
	})
}
