package views

import (
	"context"

	"vexillum/internal/core/farm"
	"vexillum/internal/wire"
)

// MostBehind bounds the changes that wait for one listener; a slower one is
// let go and comes back by itself.
const MostBehind = 64

// Listener gets every change from a moment on.
type Listener struct {
	changes chan wire.Change
}

// Changes yields the changes; it is closed when the listener was too slow or
// the floor has ended.
func (l *Listener) Changes() <-chan wire.Change { return l.changes }

// Listen starts a listener. The first change holds everything that is not as
// it was after the given sequence number; the listener gets what follows.
func (b *Board) Listen(ctx context.Context, after int64) (*Listener, wire.Change, error) {
	l := &Listener{changes: make(chan wire.Change, MostBehind)}
	var first wire.Change
	err := b.do(ctx, func(t *transaction) error {
		b.listeners[l] = struct{}{}
		first = wire.Change{Seq: t.State.Seq, Facts: b.Facts(t.Now), Hands: b.alerts(t.Now), Runs: []wire.Run{}}
		for _, run := range b.runViews(t.Now) {
			if run.Changed > after || run.State == string(farm.RunRendering) {
				first.Runs = append(first.Runs, run)
			}
		}
		first.Nodes = b.nodeViews(t.Now) // what nodes do now has no number
		return nil
	})
	return l, first, err
}

// Ignore ends a listener.
func (b *Board) Ignore(l *Listener) {
	_ = b.do(context.Background(), func(*transaction) error { // an ended floor has let go of it anyway
		delete(b.listeners, l)
		return nil
	})
}

func (b *Board) closeListeners() {
	for l := range b.listeners {
		close(l.changes)
		delete(b.listeners, l)
	}
	for l := range b.followers {
		close(l.pieces)
		b.letGo(l)
	}
}

// dirtySet is what changed since listeners were last told.
type dirtySet struct {
	runs  map[farm.RunID]bool
	nodes map[farm.NodeID]bool
}

func newDirtySet() dirtySet { return dirtySet{map[farm.RunID]bool{}, map[farm.NodeID]bool{}} }

func (d *dirtySet) run(id farm.RunID)   { d.runs[id] = true }
func (d *dirtySet) node(id farm.NodeID) { d.nodes[id] = true }

func (d *dirtySet) records(records []farm.Record) {
	for _, r := range records {
		about := r.About()
		if about.Run != 0 {
			d.run(about.Run)
		}
		if about.Node != 0 {
			d.node(about.Node)
		}
	}
}

// tell sends what changed to everybody who listens.
func (b *Board) tell() {
	if len(b.dirty.runs) == 0 && len(b.dirty.nodes) == 0 {
		return
	}
	dirty := b.dirty
	b.dirty = newDirtySet()
	if len(b.listeners) == 0 && len(b.followers) == 0 {
		return
	}
	now := b.w.Now()
	change := wire.Change{
		Seq: b.s.Seq, Facts: b.Facts(now), Hands: b.alerts(now), Runs: []wire.Run{}, Nodes: []wire.Node{},
	}
	for id := range dirty.runs {
		if run := b.s.Runs[id]; run != nil {
			change.Runs = append(change.Runs, b.RunView(run, now))
		}
	}
	for id := range dirty.nodes {
		if n := b.s.Nodes[id]; n != nil {
			change.Nodes = append(change.Nodes, b.NodeView(n, now))
		}
	}
	b.follow(change)
	for l := range b.listeners {
		select {
		case l.changes <- change:
		default:
			close(l.changes)
			delete(b.listeners, l)
		}
	}
}
