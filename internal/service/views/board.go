// Package views is what people see of the live farm: the only room of the service
// that writes it in the shapes of the network, and lets listeners hear what
// changed. It decides nothing.
package views

import (
	"context"
	"time"

	"vexillum/internal/core/deal"
	"vexillum/internal/core/engine"
	"vexillum/internal/core/explain"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/forecast"
	"vexillum/internal/core/pace"
	"vexillum/internal/core/triage"
	"vexillum/internal/service/writer"
	"vexillum/internal/wire"
)

// Options is what a Board shows besides the farm itself.
type Options struct {
	Pace          *pace.Model
	Finished      []time.Time           // when frames were done lately, oldest first
	FinishedSince time.Time             // zero when nothing is known of the time before
	Newest        map[farm.RunID]Newest // the newest done frame of each run, as far as known
	Version       string                // of this service
	Active        wire.Active           // who we are
}

// Board shows the live farm. Use New; all methods may be called at any time,
// those that say so only in the loop.
type Board struct {
	w       *writer.Writer
	e       *engine.Engine
	active  wire.Active
	version string

	// What follows belongs to the loop alone.
	s         *farm.State  // of the engine, to be read
	m         *pace.Model  // likewise
	dealer    *deal.Dealer // likewise
	why       *explain.Explainer
	live      map[farm.NodeID]*Live
	newest    map[farm.RunID]Newest
	blocks    map[farm.RunID]blocky // how runs of very many stretches are shown
	finished  rate
	dirty     dirtySet
	audiences map[string]*audience // those who follow, by what they see
	sightsAt  int64                // the last change of who sees what
	preflown  map[farm.RunID]wire.RunPreflight
	away      map[string]string // places that are not there, with why
	lookedAt  time.Time         // when runs that wait were looked at again
	lookedTo  int               // the last of them, by its place in the queue

	ruled      *triage.Rulings // verdicts on failed tries, judged at a time and Seq of the farm
	ruledAt    time.Time
	ruledSeq   int64
	ruledLast  farm.MishapMark
	foretold   map[farm.RunID]forecast.Finish // by plays
	foretoldAt time.Time
}

// Newest is the frame of a run that was done last.
type Newest struct {
	Frame int
	At    time.Time
}

// New returns the board of a farm that was just loaded.
func New(w *writer.Writer, e *engine.Engine, s *farm.State, o Options) *Board {
	b := &Board{
		w: w, e: e, s: s, m: o.Pace, dealer: e.Dealer(),
		why: explain.New(e.Dealer(), s, o.Pace), active: o.Active, version: o.Version,
		live: map[farm.NodeID]*Live{}, newest: o.Newest, blocks: map[farm.RunID]blocky{},
		dirty: newDirtySet(), audiences: map[string]*audience{},
		preflown: map[farm.RunID]wire.RunPreflight{},
	}
	if b.newest == nil {
		b.newest = map[farm.RunID]Newest{}
	}
	for id := range s.Nodes {
		b.live[id] = &Live{}
	}
	b.finished.recall(o.FinishedSince, o.Finished)
	w.Watch(writer.Watcher{
		Applied: b.applied, Committed: func(out engine.Batch) { b.dirty.records(out.Records) }, Pulse: b.tell,
		Ended: b.letAllGo,
	})
	return b
}

type transaction = writer.Tx

func (b *Board) do(ctx context.Context, decide func(t *transaction) error) error {
	return b.w.Do(ctx, decide)
}

// applied notes what a Record means for what is shown.
func (b *Board) applied(r farm.Record) {
	switch r := r.(type) {
	case farm.NodeEnrolled, farm.NodeAnnounced:
		b.live[r.About().Node] = &Live{}
	case farm.NodeStarted:
		started := Live{Signs: Signs{DiskFree: -1, MemoryFree: -1}}
		if l := b.live[r.Node]; l != nil {
			started.starts, started.Killed = l.starts[max(0, len(l.starts)-mostStarts):], l.Killed
		}
		started.starts = append(started.starts, r.At)
		b.live[r.Node] = &started
	case farm.ProjectSet, farm.ProjectDropped, farm.PersonSet, farm.PersonRemoved:
		b.sightsAt = b.s.Seq
	case farm.FrameDone:
		b.newest[r.Run] = Newest{Frame: r.Frame, At: r.At}
		b.finished.add(r.At)
	}
}

// Live returns what is shown of a node just now, to be written to, or nil for a
// node that is not there. Only in the loop.
func (b *Board) Live(id farm.NodeID) *Live { return b.live[id] }

// Touch says that what is shown of a node has changed without a Record. Only in
// the loop.
func (b *Board) Touch(id farm.NodeID) { b.dirty.node(id) }

// TouchRun says that what is shown of a run has changed without a Record. Only in
// the loop.
func (b *Board) TouchRun(id farm.RunID) { b.dirty.run(id) }
