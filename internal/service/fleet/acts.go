package fleet

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/protocol/accept"
	"vexillum/internal/core/trait"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// pick returns the nodes of a selection, in the order in which they are shown.
// Nobody means all by naming none.
func (t *transaction) pick(sel wire.Selection) ([]*farm.Node, error) {
	if len(sel.Nodes) == 0 && strings.TrimSpace(sel.Where) == "" && sel.Pool == "" {
		return nil, refusal.New(
			refusal.Invalid, "nodes", "no node is named: give nodes, an expression over traits, or a pool",
		)
	}
	where, err := trait.ParseExpression(sel.Where)
	if err != nil {
		return nil, refusal.New(refusal.Invalid, "where", "%v", err)
	}
	if sel.Pool != "" && t.State.Pools[sel.Pool] == nil {
		return nil, refusal.New(refusal.Invalid, "pool", "there is no pool %q; vexillum pool list shows them", sel.Pool)
	}
	for _, id := range sel.Nodes {
		if n := t.State.Nodes[farm.NodeID(id)]; n == nil || !n.RetiredAt.IsZero() {
			return nil, refusal.New(refusal.NotFound, "nodes", "there is no node %d; nothing was changed", id)
		}
	}
	var out []*farm.Node
	for _, n := range t.d.views.ShownNodes() {
		if len(sel.Nodes) > 0 && !slices.Contains(sel.Nodes, int64(n.ID)) ||
			sel.Pool != "" && !slices.Contains(n.Settings.Pools, sel.Pool) || !where.Matches(n.KnownTraits()) {
			continue
		}
		out = append(out, n)
	}
	return out, nil
}

// Picked returns which nodes an expression picks, and which of its traits no
// node has.
func (d *Desk) Picked(ctx context.Context, expression string) (wire.Picked, error) {
	out := wire.Picked{Nodes: []int64{}, Unknown: []string{}}
	where, err := trait.ParseExpression(expression)
	if err != nil {
		return out, refusal.New(refusal.Invalid, "where", "%v", err)
	}
	err = d.do(ctx, func(*transaction) error {
		known := map[string]bool{}
		for _, n := range d.views.ShownNodes() {
			traits := n.KnownTraits()
			for _, x := range traits.All() {
				known[x.Name] = true
			}
			if where.Matches(traits) {
				out.Nodes = append(out.Nodes, int64(n.ID))
			}
		}
		for _, name := range where.Names() {
			if !known[name] {
				out.Unknown = append(out.Unknown, name)
			}
		}
		return nil
	})
	return out, err
}

// act is one way to steer nodes. decide returns what it does to a node: the
// Records, and a sentence. No Records mean that nothing changes.
type act struct {
	decide func(t *transaction, n *farm.Node, in wire.NodeAct, by string) ([]farm.Record, string)
	past   string
}

var acts = map[string]act{
	"hold":      {holdNode, "held"},
	"drain":     {drainNode, "draining"},
	"release":   {releaseNode, "released"},
	"sideline":  {sidelineNode, "sidelined"},
	"give-back": {giveBackNode, "given back"},
	"restart":   {restartNode, "restarting"},
	"retire":    {retireNode, "retired"},
	"revoke":    {revokeNode, "shut out"},
}

// mostReason bounds what a person gives as a reason, in characters.
const mostReason = 200

// Act does something with nodes, or says what it would do. All or nothing.
// Who is no wrangler may give desks back, and no more.
func (d *Desk) Act(ctx context.Context, in wire.NodeAct, by farm.Person) (wire.NodesActed, error) {
	out := wire.NodesActed{DryRun: in.DryRun, Effects: []wire.NodeEffect{}}
	do, known := acts[in.Do]
	if !known {
		return out, refusal.New(refusal.Invalid, "do", "there is nothing called %q to do with nodes", in.Do)
	}
	wrangler := by.Role.Allows(farm.Wrangler)
	if !wrangler && in.Do != "give-back" {
		return out, refusal.New(
			refusal.Forbidden, "do", "only a wrangler may %s nodes; the owner of a machine may give it back", in.Do,
		)
	}
	if len(in.Reason) > mostReason {
		return out, refusal.New(refusal.Invalid, "reason", "a reason has at most %d characters", mostReason)
	}
	err := d.do(ctx, func(t *transaction) error {
		picked, err := t.pick(in.Selection)
		if err != nil {
			return err
		}
		if i := slices.IndexFunc(picked, func(n *farm.Node) bool { return n.Kind != farm.Desk }); i >= 0 && !wrangler {
			return refusal.New(
				refusal.Forbidden, "nodes",
				"%s is nobody's own machine; only a wrangler may take it off the farm. Nothing was changed",
				picked[i].Name,
			)
		}
		flying, changed := 0, 0
		var states []before
		for _, n := range picked {
			frames := t.flying(n)
			flying += frames
			records, sentence := do.decide(t, n, in, by.Name)
			if len(records) > 0 {
				changed++
				if in.Now || in.Do == "retire" || in.Do == "revoke" {
					out.Lost += frames
				}
			}
			out.Effects = append(
				out.Effects,
				wire.NodeEffect{Node: int64(n.ID), Name: n.Name, Changes: len(records) > 0, Sentence: sentence},
			)
			if !in.DryRun && len(records) > 0 {
				states = append(states, stateOf(n))
				t.Append(records...)
			}
		}
		if !in.DryRun {
			out.Undo = d.remember(t.Now, in.Do, by.Name, states, t.State)
		}
		if !in.DryRun && in.Do == "restart" {
			for _, n := range picked {
				d.e.Reorder(n.ID)
			}
		}
		out.Sentence = actSentence(in, do.past, len(picked), changed, flying)
		return nil
	})
	return out, err
}

func actSentence(in wire.NodeAct, past string, picked, changed, flying int) string {
	are := map[bool]string{true: "would be", false: "are"}[in.DryRun]
	if changed == 1 && !in.DryRun {
		are = "is"
	}
	text := fmt.Sprintf("%s %s %s", english.Plural(changed, "node", ""), are, past)
	if picked > changed {
		text += fmt.Sprintf("; for %d nothing changes", picked-changed)
	}
	if flying == 0 || changed == 0 || in.Do == "release" || in.Do == "revoke" {
		return text
	}
	what := english.Plural(flying, "frame", "") + " in flight "
	verb := func(one, several string) string {
		if flying == 1 {
			return one
		}
		return several
	}
	switch {
	case in.Do == "restart":
		return text + "; " + what + verb("goes", "go") + " on meanwhile"
	case in.Now || in.Do == "retire":
		return text + "; " + what + verb("is", "are") + " thrown away"
	}
	return text + "; " + what + verb("finishes", "finish") + " first"
}

// flying returns how many frames a node has begun.
func (t *transaction) flying(n *farm.Node) int {
	return t.d.e.FramesInFlight(n.ID)
}

// meanwhile says what becomes of the frames that a node has begun.
func (t *transaction) meanwhile(n *farm.Node, now bool) string {
	flying := t.flying(n)
	switch {
	case flying == 0:
		return ""
	case now:
		return fmt.Sprintf(
			"; %s in flight %s thrown away", english.Plural(flying, "frame", ""),
			map[bool]string{true: "is", false: "are"}[flying == 1],
		)
	case flying == 1:
		return "; its frame in flight finishes first"
	}
	return fmt.Sprintf("; its %d frames in flight finish first", flying)
}

func (t *transaction) duty(n *farm.Node, duty farm.Duty, now bool, action, reason, by string) []farm.Record {
	return []farm.Record{
		farm.NodeDuty{Node: n.ID, Duty: duty, Now: now, Reason: reason, At: t.Now},
		farm.Audited{
			Actor: by, Action: action + " node", Subject: n.Name, From: string(n.Duty), To: string(duty),
			Node: n.ID, At: t.Now,
		},
	}
}

func holdNode(t *transaction, n *farm.Node, in wire.NodeAct, by string) ([]farm.Record, string) {
	if n.Duty == farm.Held && (!in.Now || n.DutyNow) {
		return nil, "is held already"
	}
	return t.duty(
		n, farm.Held, in.Now, "hold", "held by "+farm.Because(by, in.Reason), by,
	), "gets no new work" + t.meanwhile(n, in.Now)
}

func drainNode(t *transaction, n *farm.Node, in wire.NodeAct, by string) ([]farm.Record, string) {
	switch {
	case n.Duty == farm.Draining:
		return nil, "is draining already"
	case n.Duty == farm.Held && t.State.Idle(n.ID):
		return nil, "is held, and empty"
	}
	return t.duty(
		n, farm.Draining, in.Now, "drain", "drained by "+farm.Because(by, in.Reason), by,
	), "gets no new work; its page says when its last frame has been delivered" + t.meanwhile(n, in.Now)
}

func releaseNode(t *transaction, n *farm.Node, in wire.NodeAct, by string) ([]farm.Record, string) {
	var records []farm.Record
	if n.Health == farm.Sidelined {
		records = append(
			records,
			farm.NodeHealth{
				Node: n.ID, Health: farm.Fine, Reason: "released by " + farm.Because(by, in.Reason), At: t.Now,
			},
		)
	}
	free := *n
	free.OffUntil = time.Time{} // who releases it means it
	duty, why := free.DutyAt(t.Now)
	if n.Duty == farm.Held || n.Duty == farm.Draining || !n.OffUntil.IsZero() && n.Duty == farm.OffDuty {
		reason := "released by " + farm.Because(by, in.Reason)
		if duty == farm.OffDuty {
			reason = why
		}
		records = append(records, t.duty(n, duty, false, "release", reason, by)...)
	} else if len(records) > 0 {
		records = append(
			records,
			farm.Audited{
				Actor: by, Action: "release node", Subject: n.Name, From: string(n.Health),
				To: string(farm.Fine), Node: n.ID, At: t.Now,
			},
		)
	}
	switch {
	case len(records) == 0 && n.Duty == farm.OffDuty:
		return nil, "is not held; " + n.DutyReason
	case len(records) == 0:
		return nil, "is not held"
	case duty == farm.OffDuty:
		return records, "is free, and off duty: " + why
	}
	return records, "gets work again"
}

func sidelineNode(t *transaction, n *farm.Node, in wire.NodeAct, by string) ([]farm.Record, string) {
	if n.Health == farm.Sidelined {
		return nil, "is " + n.HealthWhy + " already"
	}
	why := "sidelined by " + farm.Because(by, in.Reason)
	return []farm.Record{
		farm.NodeHealth{Node: n.ID, Health: farm.Sidelined, Reason: why, At: t.Now},
		farm.Audited{
			Actor: by, Action: "sideline node", Subject: n.Name, From: string(n.Health),
			To: string(farm.Sidelined), Node: n.ID, At: t.Now,
		},
	}, "gets no new work until somebody releases it" + t.meanwhile(n, false)
}

// giveBackNode gives a machine to its owner until its next duty hours begin.
// One that is held stays held: giving it back must not release it later.
func giveBackNode(t *transaction, n *farm.Node, in wire.NodeAct, by string) ([]farm.Record, string) {
	if n.Duty == farm.Held || n.Duty == farm.Draining {
		if !in.Now || n.DutyNow || t.flying(n) == 0 {
			return nil, "gets no new work already: " + n.DutyReason + t.meanwhile(n, n.DutyNow)
		}
		return t.duty(n, n.Duty, true, "give back", n.DutyReason, by), "stays as it is: " + n.DutyReason + t.meanwhile(
			n, true,
		)
	}
	until := t.Now.Add(giveBackFor)
	if n.Settings.Hours != nil {
		on, change := n.Settings.Hours.At(t.Now)
		switch {
		case !change.IsZero() && on: // this window is over; the next one counts
			if _, next := n.Settings.Hours.At(change); !next.IsZero() {
				until = next
			}
		case !change.IsZero():
			until = change
		}
	}
	if n.Duty == farm.OffDuty && !n.OffUntil.Before(until) {
		return nil, "is with its owner already"
	}
	when := farm.Moment(until)
	reason := fmt.Sprintf("given back to its owner by %s until %s", farm.Because(by, in.Reason), when)
	return []farm.Record{
		farm.NodeDuty{Node: n.ID, Duty: farm.OffDuty, Now: in.Now, OffUntil: &until, Reason: reason, At: t.Now},
		farm.Audited{
			Actor: by, Action: "give node back", Subject: n.Name, From: string(n.Duty),
			To: "off duty until " + when, Node: n.ID, At: t.Now,
		},
	}, "belongs to its owner until " + when + t.meanwhile(n, in.Now)
}

// giveBackFor is how long a node without duty hours is given back.
const giveBackFor = 12 * time.Hour

func restartNode(t *transaction, n *farm.Node, in wire.NodeAct, by string) ([]farm.Record, string) {
	if n.Reach != farm.Online {
		return nil, "is not online; start its node process on the machine"
	}
	if !in.DryRun {
		t.d.restarts[n.ID] = n.Session
	}
	return []farm.Record{
			farm.Audited{
				Actor: by, Action: "restart node process", Subject: n.Name, To: in.Reason, Node: n.ID,
				At: t.Now,
			},
		},
		"restarts its node process; renderers go on meanwhile"
}

func retireNode(t *transaction, n *farm.Node, in wire.NodeAct, by string) ([]farm.Record, string) {
	why := fmt.Sprintf("%s was retired by %s", n.Name, farm.Because(by, in.Reason))
	sentence := "leaves the farm for good; what it did stays on record, and its name may be used again" + t.meanwhile(
		n, true,
	)
	records := accept.Release(t.State, n.ID, nil, why, t.Now)
	return append(records,
		farm.NodeRetired{Node: n.ID, Reason: why, At: t.Now},
		farm.Audited{Actor: by, Action: "retire node", Subject: n.Name, To: in.Reason, Node: n.ID, At: t.Now}), sentence
}

// revokeNode shuts the node's token out: a machine that was lost, or copied.
func revokeNode(t *transaction, n *farm.Node, in wire.NodeAct, by string) ([]farm.Record, string) {
	var records []farm.Record
	for hash, token := range t.State.Tokens {
		if token.Node == n.ID {
			records = append(records, farm.TokenRevoked{Hash: hash, At: t.Now})
		}
	}
	if len(records) == 0 {
		return nil, "has no token"
	}
	records = append(
		records,
		accept.Release(t.State, n.ID, nil, fmt.Sprintf("the token of %s was revoked by %s", n.Name, by), t.Now)...)
	return append(
		records,
		farm.NodeReach{
			Node: n.ID, Reach: farm.Silent, Reason: "its token was revoked by " + farm.Because(by, in.Reason),
			At: t.Now,
		},
		farm.Audited{Actor: by, Action: "revoke node token", Subject: n.Name, To: in.Reason, Node: n.ID, At: t.Now},
	), "is shut out at once; the machine comes back with a new key: vexillum key new --return " + n.Name + t.meanwhile(n, true)
}

// Rename gives a node another name.
func (d *Desk) Rename(ctx context.Context, id farm.NodeID, name string, by farm.Person) (wire.Node, error) {
	var view wire.Node
	err := d.do(ctx, func(t *transaction) error {
		n := t.State.Nodes[id]
		if n == nil || !n.RetiredAt.IsZero() {
			return refusal.New(refusal.NotFound, "node", "there is no node %d", id)
		}
		if err := farm.CheckNodeName(name); err != nil {
			return refusal.New(refusal.Invalid, "name", "%v", err)
		}
		if n.Name != name {
			if t.State.NodeNamed(name) != nil {
				return refusal.New(refusal.Conflict, "name", "there is a node %s already", name)
			}
			t.Append(
				farm.Audited{
					Actor: by.Name, Action: "rename node", Subject: n.Name, From: n.Name, To: name,
					Node: id, At: t.Now,
				},
				farm.NodeRenamed{Node: id, Name: name, At: t.Now},
			)
		}
		view = d.views.NodeView(n, t.Now)
		return nil
	})
	return view, err
}

// Chosen returns the nodes that a selection names.
func (d *Desk) Chosen(ctx context.Context, sel wire.Selection) (out []wire.Node, err error) {
	err = d.do(ctx, func(t *transaction) error {
		nodes, err := t.pick(sel)
		for _, n := range nodes {
			out = append(out, d.views.NodeView(n, t.Now))
		}
		return err
	})
	return out, err
}
