package floor

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"vexillum/internal/core/engine"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/health"
	"vexillum/internal/service/refusal"
)

// Progress is how far a node is with a lease.
type Progress = engine.Progress

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
	err := f.do(ctx, func(t *transaction) error {
		key := t.s.Keys[e.KeyHash]
		switch {
		case key == nil:
			return refusal.New(refusal.Forbidden, "key", "this enrolment key is not known; make one with: vexillum key new")
		case !t.now.Before(key.ExpiresAt):
			return refusal.New(
				refusal.Forbidden, "key", "this enrolment key expired at %s; make one with: vexillum key new",
				key.ExpiresAt.Format(time.DateTime),
			)
		case !key.RevokedAt.IsZero():
			return refusal.New(refusal.Forbidden, "key", "this enrolment key was revoked; make one with: vexillum key new")
		case key.UsesLeft < 1:
			return refusal.New(refusal.Forbidden, "key", "this enrolment key is used up; make one with: vexillum key new")
		}
		if err := farm.CheckNodeName(e.Name); err != nil {
			return refusal.New(refusal.Invalid, "name", "%v", err)
		}
		if e.Kind != farm.Rack && e.Kind != farm.Desk {
			return refusal.New(refusal.Invalid, "kind", "a node is a rack or a desk, not %q", e.Kind)
		}
		id = t.s.LastNode + 1
		known := t.s.NodeNamed(e.Name)
		if known != nil {
			if t.s.NodeHasToken(known.ID, t.now) {
				return refusal.New(
					refusal.Conflict, "name",
					"there is a node %s already; choose another name with --name, or start it from the machine that has its token. If that is lost: vexillum nodes revoke %s",
					e.Name, e.Name,
				)
			}
			if !known.EnrolledAt.IsZero() && !slices.Contains(key.Returns, e.Name) {
				return refusal.New(
					refusal.Conflict, "name",
					"%s was shut out, and comes back under its name only with a key that a wrangler made for that: vexillum key new --return %s. Under another name, given with --name, any key will do",
					e.Name, e.Name,
				)
			}
			id = known.ID // announced, or shut out
		}
		t.append(
			farm.NodeEnrolled{Node: id, Name: e.Name, Of: e.Kind, Facts: e.Facts, KeyHash: e.KeyHash, At: t.now},
			farm.TokenIssued{Hash: e.TokenHash, Of: farm.NodeToken, Node: id, Label: e.Name, At: t.now},
			farm.Audited{
				Actor: "key " + key.Label, Action: "enrol node", Subject: e.Name, To: string(e.Kind),
				Node: id, At: t.now,
			},
		)
		t.joinPools(id, key)
		return nil
	})
	return id, err
}

// joinPools puts a node that has just enrolled into the pools of its key.
func (t *transaction) joinPools(id farm.NodeID, key *farm.Key) {
	n := t.s.Nodes[id]
	if n == nil || t.f.e.Err() != nil {
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
		t.append(
			farm.NodeSet{
				Node: id, Version: n.Version + 1, Settings: next, Actor: "key " + key.Label,
				Reason: strings.Join(different, "; "), At: t.now,
			},
		)
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
// All other work of the node is dealt to others. foreign are leases that it holds
// of another farm, which is put on record.
func (f *Floor) Start(
	ctx context.Context, id farm.NodeID, facts farm.Facts, holding, foreign []farm.LeaseID,
) (out Session, err error) {
	err = f.do(ctx, func(t *transaction) error {
		n := t.s.Nodes[id]
		if n == nil || !n.RetiredAt.IsZero() {
			return refusal.New(refusal.NotFound, "", "this node does not exist any more; enrol the machine again")
		}
		keep := f.e.Start(id, facts, holding)
		out = Session{
			Name: n.Name, Number: n.Session, Keep: map[farm.LeaseID]frames.Set{}, Caps: n.Settings.Caps,
			Set: n.Version,
		}
		for _, l := range keep {
			out.Keep[l] = t.s.Lease(l).Left
		}
		if len(foreign) > 0 {
			t.append(farm.Audited{
				Actor: n.Name, Action: "refuse foreign work", Subject: n.Name, Node: id, At: t.now,
				To: fmt.Sprintf(
					"it holds leases %v of another farm, or of this one before it was restored; they were set aside on the machine",
					foreign,
				),
			})
		}
		f.dropWaiting(id)
		return nil
	})
	return out, err
}

// Killed puts on record that the system has killed a node process, while a
// lease had so many bytes of memory, and lets it be seen for a while.
func (f *Floor) Killed(ctx context.Context, id farm.NodeID, k health.Killed, lease farm.LeaseID) error {
	return f.do(ctx, func(t *transaction) error {
		live := t.f.live[id]
		if live == nil {
			return nil
		}
		if k.At.After(t.now) || t.now.Sub(k.At) > health.KilledSpan { // its clock is wrong, or it was away
			k.At = t.now
		}
		if l := t.s.Lease(lease); l != nil && l.Node == id {
			k.Most = fmt.Sprintf("%s on lease %d", t.s.Runs[l.Run].Spec.Name(), lease)
		} else if lease != 0 {
			k.Most = fmt.Sprintf("lease %d", lease)
		}
		live.killed = k
		name := t.s.NodeName(id)
		t.append(farm.Audited{
			Actor: name, Action: "killed for memory", Subject: name, To: k.Text(name), Node: id, At: t.now,
		})
		return nil
	})
}

// session returns the node if the session is its newest, and notes that it is
// heard from.
func (t *transaction) session(id farm.NodeID, session int64) (*farm.Node, error) {
	n := t.s.Nodes[id]
	if n == nil || !n.RetiredAt.IsZero() {
		return nil, refusal.New(refusal.NotFound, "", "this node does not exist any more; enrol the machine again")
	}
	if n.Session != session {
		return nil, refusal.New(refusal.Conflict, "session", "a newer node process of %s is running; this one must stop", n.Name)
	}
	t.f.e.Hear(id)
	return n, nil
}

// Beat is a node's sign of life.
type Beat struct {
	Processor float64
	Memory    float64
	Signs     Signs
	Leases    map[farm.LeaseID]Progress
}

// Beat notes that a node lives and what it does.
func (f *Floor) Beat(ctx context.Context, id farm.NodeID, session int64, b Beat) error {
	return f.do(ctx, func(t *transaction) error {
		n, err := t.session(id, session)
		if err != nil {
			return err
		}
		l := f.live[id]
		l.processor, l.memory, l.signs = b.Processor, b.Memory, b.Signs
		if !b.Signs.Now.IsZero() {
			l.signs.ClockOff = b.Signs.Now.Sub(t.now)
		}
		f.dirty.node(n.ID)
		for lease := range b.Leases {
			if l := t.s.Lease(lease); l != nil {
				f.dirty.run(l.Run)
			}
		}
		f.e.Beat(id, b.Leases, b.Signs.MemoryFree)
		return nil
	})
}

// Leave says that a node process ends; its work is dealt to others.
func (f *Floor) Leave(ctx context.Context, id farm.NodeID, session int64, reason string) error {
	return f.do(ctx, func(t *transaction) error {
		if _, err := t.session(id, session); err != nil {
			return err
		}
		f.e.Leave(id, reason)
		f.dropWaiting(id)
		return nil
	})
}
