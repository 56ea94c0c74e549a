package floor

import (
	"context"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/wire"
)

// tellEvery is how often listeners are told what changed.
const tellEvery = 100 * time.Millisecond

// maxBehind bounds the changes that wait for one listener; a slower one is
// let go and comes back by itself.
const maxBehind = 64

// Listener gets every change from a moment on.
type Listener struct {
	changes chan wire.Change
}

// Changes yields the changes; it is closed when the listener was too slow or
// the floor has ended.
func (l *Listener) Changes() <-chan wire.Change { return l.changes }

// Listen starts a listener. The first change holds everything that is not as
// it was after the given sequence number; the listener gets what follows.
func (f *Floor) Listen(ctx context.Context, after int64) (*Listener, wire.Change, error) {
	l := &Listener{changes: make(chan wire.Change, maxBehind)}
	var first wire.Change
	err := f.do(ctx, func(t *transaction) error {
		f.listeners[l] = struct{}{}
		first = wire.Change{Seq: t.s.Seq, Facts: f.facts(t.now), Hands: f.alerts(t.now), Runs: []wire.Run{}}
		for _, run := range f.runViews(t.now) {
			if run.Changed > after || run.State == string(farm.RunRendering) {
				first.Runs = append(first.Runs, run)
			}
		}
		first.Nodes = f.nodeViews(t.now) // what nodes do now has no number
		return nil
	})
	return l, first, err
}

// Ignore ends a listener.
func (f *Floor) Ignore(l *Listener) {
	_ = f.do(context.Background(), func(*transaction) error { // an ended floor has let go of it anyway
		delete(f.listeners, l)
		return nil
	})
}

func (f *Floor) closeListeners() {
	for l := range f.listeners {
		close(l.changes)
		delete(f.listeners, l)
	}
	for l := range f.followers {
		close(l.pieces)
		f.letGo(l)
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
func (f *Floor) tell() {
	if len(f.dirty.runs) == 0 && len(f.dirty.nodes) == 0 {
		return
	}
	dirty := f.dirty
	f.dirty = newDirtySet()
	if len(f.listeners) == 0 && len(f.followers) == 0 {
		return
	}
	now := f.now()
	change := wire.Change{
		Seq: f.s.Seq, Facts: f.facts(now), Hands: f.alerts(now), Runs: []wire.Run{}, Nodes: []wire.Node{},
	}
	for id := range dirty.runs {
		if run := f.s.Runs[id]; run != nil {
			change.Runs = append(change.Runs, f.runView(run, now))
		}
	}
	for id := range dirty.nodes {
		if n := f.s.Nodes[id]; n != nil {
			change.Nodes = append(change.Nodes, f.nodeView(n, now))
		}
	}
	f.follow(change)
	for l := range f.listeners {
		select {
		case l.changes <- change:
		default:
			close(l.changes)
			delete(f.listeners, l)
		}
	}
}
