package fleet

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
	"vexillum/internal/service/shelf"
	"vexillum/internal/service/views"
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
func (d *Desk) Enrol(ctx context.Context, e Enrolment) (farm.NodeID, error) {
	var id farm.NodeID
	err := d.do(ctx, func(t *transaction) error {
		key := t.State.Keys[e.KeyHash]
		switch {
		case key == nil:
			return refusal.New(
				refusal.Forbidden, "key", "this enrolment key is not known; make one with: vexillum key new",
			)
		case !t.Now.Before(key.ExpiresAt):
			return refusal.New(
				refusal.Forbidden, "key", "this enrolment key expired at %s; make one with: vexillum key new",
				key.ExpiresAt.Format(time.DateTime),
			)
		case !key.RevokedAt.IsZero():
			return refusal.New(
				refusal.Forbidden, "key", "this enrolment key was revoked; make one with: vexillum key new",
			)
		case key.UsesLeft < 1:
			return refusal.New(
				refusal.Forbidden, "key", "this enrolment key is used up; make one with: vexillum key new",
			)
		}
		if err := farm.CheckNodeName(e.Name); err != nil {
			return refusal.New(refusal.Invalid, "name", "%v", err)
		}
		if e.Kind != farm.Rack && e.Kind != farm.Desk {
			return refusal.New(refusal.Invalid, "kind", "a node is a rack or a desk, not %q", e.Kind)
		}
		id = t.State.LastNode + 1
		known := t.State.NodeNamed(e.Name)
		if known != nil {
			if t.State.NodeHasToken(known.ID, t.Now) {
				return refusal.New(
					refusal.Conflict, "name",
					"there is a node %s already; choose another name with --name, or start it from the machine that "+
						"has its token. If that is lost: vexillum nodes revoke %s",
					e.Name, e.Name,
				)
			}
			if !known.EnrolledAt.IsZero() && !slices.Contains(key.Returns, e.Name) {
				return refusal.New(
					refusal.Conflict, "name",
					"%s was shut out, and comes back under its name only with a key that a wrangler made for that: "+
						"vexillum key new --return %s. Under another name, given with --name, any key will do",
					e.Name, e.Name,
				)
			}
			id = known.ID // announced, or shut out
		}
		t.Append(
			farm.NodeEnrolled{Node: id, Name: e.Name, Of: e.Kind, Facts: e.Facts, KeyHash: e.KeyHash, At: t.Now},
			farm.TokenIssued{Hash: e.TokenHash, Of: farm.NodeToken, Node: id, Label: e.Name, At: t.Now},
			farm.Audited{
				Actor: "key " + key.Label, Action: "enrol node", Subject: e.Name, To: string(e.Kind),
				Node: id, At: t.Now,
			},
		)
		t.joinPools(id, key)
		return nil
	})
	return id, err
}

// joinPools puts a node that has just enrolled into the pools of its key.
func (t *transaction) joinPools(id farm.NodeID, key *farm.Key) {
	n := t.State.Nodes[id]
	if n == nil || t.d.e.Err() != nil {
		return
	}
	next := n.Settings
	for _, p := range key.Pools {
		if t.State.Pools[p] != nil {
			next.Pools = append(slices.Clone(next.Pools), p)
		}
	}
	next.Tidy()
	if different := farm.Differences(n.Settings, next); len(different) > 0 {
		t.Append(
			farm.NodeSet{
				Node: id, Version: n.Version + 1, Settings: next, Actor: "key " + key.Label,
				Reason: strings.Join(different, "; "), At: t.Now,
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
func (d *Desk) Start(
	ctx context.Context, id farm.NodeID, facts farm.Facts, holding, foreign []farm.LeaseID,
) (out Session, err error) {
	err = d.do(ctx, func(t *transaction) error {
		n := t.State.Nodes[id]
		if n == nil || !n.RetiredAt.IsZero() {
			return refusal.New(refusal.NotFound, "", "this node does not exist any more; enrol the machine again")
		}
		keep := d.e.Start(id, facts, holding)
		out = Session{
			Name: n.Name, Number: n.Session, Keep: map[farm.LeaseID]frames.Set{}, Caps: n.Settings.Caps,
			Set: n.Version,
		}
		for _, l := range keep {
			out.Keep[l] = t.State.Lease(l).Left
		}
		if len(foreign) > 0 {
			t.Append(farm.Audited{
				Actor: n.Name, Action: "refuse foreign work", Subject: n.Name, Node: id, At: t.Now,
				To: fmt.Sprintf(
					"it holds leases %v of another farm, or of this one before it was restored; they were set aside "+
						"on the machine",
					foreign,
				),
			})
		}
		d.dropWaiting(id)
		delete(d.restarts, id)
		return nil
	})
	return out, err
}

// NameOf returns the name of a node in its newest session, and whether it exchanges
// nothing with other nodes.
func (d *Desk) NameOf(ctx context.Context, id farm.NodeID, session int64) (name string, alone bool, err error) {
	err = d.do(ctx, func(t *transaction) error {
		n, err := t.session(id, session)
		if err == nil {
			name, alone = n.Name, t.State.Alone(n)
		}
		return err
	})
	return name, alone, err
}

// Found notes which renderers a node has found since its session began, and its speed index where
// that was measured again; 0: it was not.
func (d *Desk) Found(
	ctx context.Context, id farm.NodeID, session int64, found []farm.Renderer, speed float64,
) error {
	return d.do(ctx, func(t *transaction) error {
		n, err := t.session(id, session)
		if err != nil || slices.Equal(n.Facts.Renderers, found) && (speed == 0 || speed == n.Facts.Speed) {
			return err
		}
		t.Append(farm.NodeFound{Node: id, Renderers: found, Speed: speed, At: t.Now})
		return nil
	})
}

// Recipes returns what nodes have to know of recipes, and its mark.
func (d *Desk) Recipes(ctx context.Context) (items []shelf.Item, err error) {
	err = d.do(ctx, func(t *transaction) error {
		items = d.recipes.ForNodes(t.State.Queue())
		return nil
	})
	return items, err
}

// Killed puts on record that the system has killed a node process, while a
// lease had a number of bytes of memory, and lets it be seen for a while.
func (d *Desk) Killed(ctx context.Context, id farm.NodeID, k health.Killed, lease farm.LeaseID) error {
	return d.do(ctx, func(t *transaction) error {
		live := t.d.views.Live(id)
		if live == nil {
			return nil
		}
		if k.At.After(t.Now) || t.Now.Sub(k.At) > health.KilledSpan { // its clock is wrong, or it was away
			k.At = t.Now
		}
		if l := t.State.Lease(lease); l != nil && l.Node == id {
			k.Most = fmt.Sprintf("%s on lease %d", t.State.Runs[l.Run].Spec.Name(), lease)
		} else if lease != 0 {
			k.Most = fmt.Sprintf("lease %d", lease)
		}
		live.Killed = k
		name := t.State.NodeName(id)
		t.Append(farm.Audited{
			Actor: name, Action: "killed for memory", Subject: name, To: k.Text(name), Node: id, At: t.Now,
		})
		return nil
	})
}

// session returns the node if the session is its newest, and notes that it is
// heard from.
func (t *transaction) session(id farm.NodeID, session int64) (*farm.Node, error) {
	n := t.State.Nodes[id]
	if n == nil || !n.RetiredAt.IsZero() {
		return nil, refusal.New(refusal.NotFound, "", "this node does not exist any more; enrol the machine again")
	}
	if n.Session != session {
		return nil, refusal.New(
			refusal.Conflict, "session", "a newer node process of %s is running; this one must stop", n.Name,
		)
	}
	t.d.e.Hear(id)
	return n, nil
}

// Beat is a node's sign of life.
type Beat struct {
	Processor float64
	Memory    float64
	Signs     views.Signs
	Leases    map[farm.LeaseID]Progress
}

// Beat notes that a node lives and what it does.
func (d *Desk) Beat(ctx context.Context, id farm.NodeID, session int64, b Beat) error {
	return d.do(ctx, func(t *transaction) error {
		n, err := t.session(id, session)
		if err != nil {
			return err
		}
		l := d.views.Live(id)
		l.Processor, l.Memory, l.Signs = b.Processor, b.Memory, b.Signs
		if !b.Signs.Now.IsZero() {
			l.Signs.ClockOff = b.Signs.Now.Sub(t.Now)
		}
		d.views.Touch(n.ID)
		for lease := range b.Leases {
			if l := t.State.Lease(lease); l != nil {
				d.views.TouchRun(l.Run)
			}
		}
		d.e.Beat(id, b.Leases, b.Signs.MemoryFree)
		return nil
	})
}

// Leave says that a node process ends; its work is dealt to others.
func (d *Desk) Leave(ctx context.Context, id farm.NodeID, session int64, reason string) error {
	return d.do(ctx, func(t *transaction) error {
		if _, err := t.session(id, session); err != nil {
			return err
		}
		d.e.Leave(id, reason)
		d.dropWaiting(id)
		return nil
	})
}
