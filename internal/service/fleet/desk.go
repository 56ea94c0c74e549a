// Package fleet is the desk for nodes: what node processes ask, report and hear, and
// what people do with nodes. The engine decides what work a node gets.
package fleet

import (
	"context"
	"slices"

	"vexillum/internal/core/deal"
	"vexillum/internal/core/engine"
	"vexillum/internal/core/farm"
	"vexillum/internal/service/shelf"
	"vexillum/internal/service/views"
	"vexillum/internal/service/writer"
)

// Desk answers nodes, and requests about them. Use New; all methods may be called at
// any time.
type Desk struct {
	w       *writer.Writer
	e       *engine.Engine
	s       *farm.State // of the engine, to be read in the loop
	dealer  *deal.Dealer
	recipes *shelf.Shelf
	views   *views.Board
	errands Errands // nil: there are none

	// What follows belongs to the loop alone.
	waiters   map[farm.NodeID]*waiter
	orders    map[farm.NodeID]*waitingOrder
	forged    map[forgery]bool
	began     int64                 // when this desk was made: marks of others are not of it
	placesSeq int64                 // of the newest Record about places or projects
	restarts  map[farm.NodeID]int64 // sessions that are to restart their node process
	undos     []undo                // acts that can be undone, the oldest first
	lent      map[loan]string       // projects of bundles that nodes need to render by hand
}

// loan is a bundle that a node needs beside those of its leases.
type loan struct {
	node   farm.NodeID
	bundle string
}

// mostLent bounds the loans that are remembered.
const mostLent = 1000

// New returns the desk of a service.
func New(
	w *writer.Writer, e *engine.Engine, s *farm.State, recipes *shelf.Shelf, board *views.Board, errands Errands,
) *Desk {
	d := &Desk{
		w: w, e: e, s: s, dealer: e.Dealer(), recipes: recipes, views: board, errands: errands,
		waiters: map[farm.NodeID]*waiter{}, orders: map[farm.NodeID]*waitingOrder{}, forged: map[forgery]bool{},
		restarts: map[farm.NodeID]int64{}, lent: map[loan]string{}, began: w.Now().UnixNano(),
	}
	w.Watch(writer.Watcher{Committed: d.committed})
	return d
}

// transaction is what a request may use while it decides.
type transaction struct {
	*writer.Tx
	d *Desk
}

func (d *Desk) do(ctx context.Context, decide func(t *transaction) error) error {
	return d.w.Do(ctx, func(t *writer.Tx) error { return decide(&transaction{t, d}) })
}

// committed answers nodes that wait with what a batch has decided for them.
func (d *Desk) committed(out engine.Batch) {
	for _, a := range out.Answers {
		if w := d.waiters[a.Node]; w != nil && w.number == a.Number {
			delete(d.waiters, a.Node)
			w.reply <- d.answerView(a)
		}
	}
	if slices.ContainsFunc(out.Records, aboutPlaces) {
		d.placesSeq = d.s.Seq
		out.AllOrders = true
	}
	d.answerOrders(out)
	for _, r := range out.Records {
		if retired, ok := r.(farm.NodeRetired); ok {
			d.dropWaiting(retired.Node)
		}
	}
}
