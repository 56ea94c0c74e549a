package fleet

import (
	"context"
	"crypto/rand"
	"fmt"
	"slices"
	"time"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// Bounds of what can be undone.
const (
	mostUndos = 64 // acts, of all people
	undoFor   = 10 * time.Minute
)

// undoable are the acts that an undo can take back.
var undoable = []string{"hold", "drain", "sideline", "give-back", "release"}

// undo is an act that can be taken back: the states of the nodes that it changed.
type undo struct {
	id, by, do string
	at         time.Time
	nodes      []before
}

// before is the state of a node before an act, and the marks of the state after it.
type before struct {
	node               farm.NodeID
	duty               farm.NodeDuty
	health             farm.NodeHealth
	dutyAfter          time.Time // DutySince after the act
	healthAfter        time.Time
	dutySet, healthSet bool // the act changed it
}

// stateOf returns the state of a node as Records would restore it.
func stateOf(n *farm.Node) before {
	b := before{
		node:   n.ID,
		duty:   farm.NodeDuty{Node: n.ID, Duty: n.Duty, Now: n.DutyNow, Reason: n.DutyReason},
		health: farm.NodeHealth{Node: n.ID, Health: n.Health, By: n.HealthBy, Reason: n.HealthWhy},
	}
	if !n.OffUntil.IsZero() {
		until := n.OffUntil
		b.duty.OffUntil = &until
	}
	if !n.TrialAt.IsZero() {
		at := n.TrialAt
		b.health.TrialAt, b.health.Pause = &at, n.TrialPause.Seconds()
	}
	return b
}

// remember keeps what an act changed, and returns the name under which it can be undone; "" where
// nothing can be.
func (d *Desk) remember(now time.Time, do, by string, nodes []before, state *farm.State) string {
	if len(nodes) == 0 || !slices.Contains(undoable, do) {
		return ""
	}
	for i := range nodes {
		n := state.Nodes[nodes[i].node]
		nodes[i].dutySet = n.Duty != nodes[i].duty.Duty || n.DutyReason != nodes[i].duty.Reason
		nodes[i].healthSet = n.Health != nodes[i].health.Health || n.HealthWhy != nodes[i].health.Reason
		nodes[i].dutyAfter, nodes[i].healthAfter = n.DutySince, n.HealthAt
	}
	if len(d.undos) >= mostUndos {
		d.undos = slices.Delete(d.undos, 0, 1)
	}
	u := undo{id: rand.Text(), by: by, do: do, at: now, nodes: nodes}
	d.undos = append(d.undos, u)
	return u.id
}

// Undo restores exactly the states that nodes had before an act of the same person. Nodes whose
// state somebody has changed since are left alone.
func (d *Desk) Undo(ctx context.Context, in wire.NodeUndo, by farm.Person) (wire.NodesActed, error) {
	out := wire.NodesActed{Effects: []wire.NodeEffect{}}
	err := d.do(ctx, func(t *transaction) error {
		i := slices.IndexFunc(d.undos, func(u undo) bool { return u.id == in.Undo && u.by == by.Name })
		if i < 0 || t.Now.Sub(d.undos[i].at) > undoFor {
			return refusal.New(
				refusal.Conflict, "undo", "this can no longer be undone; change the nodes by hand instead",
			)
		}
		u := d.undos[i]
		d.undos = slices.Delete(d.undos, i, i+1)
		changed := 0
		for _, b := range u.nodes {
			n := t.State.Nodes[b.node]
			if n == nil || !n.RetiredAt.IsZero() {
				continue
			}
			records, sentence := b.restore(n, t.Now, by.Name, u.do)
			if len(records) > 0 {
				changed++
			}
			out.Effects = append(out.Effects, wire.NodeEffect{
				Node: int64(n.ID), Name: n.Name, Changes: len(records) > 0, Sentence: sentence,
			})
			t.Append(records...)
		}
		out.Sentence = english.Plural(changed, "node is", "nodes are") + " as before"
		if left := len(u.nodes) - changed; left > 0 {
			out.Sentence += fmt.Sprintf("; %s changed since and left alone", english.Plural(left, "was", "were"))
		}
		return nil
	})
	return out, err
}

// restore returns the Records that take a node back to the state before; none where somebody has
// changed it since.
func (b *before) restore(n *farm.Node, now time.Time, by, do string) ([]farm.Record, string) {
	drained := do == "drain" && n.Duty == farm.Held && n.DutyReason == farm.Drained
	if !n.DutySince.Equal(b.dutyAfter) && !drained || !n.HealthAt.Equal(b.healthAfter) {
		return nil, "was changed since, and stays as it is"
	}
	var records []farm.Record
	if b.dutySet {
		duty := b.duty
		duty.At = now
		records = append(records, duty)
	}
	if b.healthSet {
		health := b.health
		health.At = now
		records = append(records, health)
	}
	if len(records) == 0 {
		return nil, "is as before"
	}
	return append(records, farm.Audited{
		Actor: by, Action: "undo " + do + " node", Subject: n.Name, From: string(n.Duty), To: string(b.duty.Duty),
		Node: n.ID, At: now,
	}), "is as before"
}
