// Package queue is the desk for runs: submitting them, steering them, changing what was
// said of them, and holding what they need as a whole.
package queue

import (
	"context"

	"vexillum/internal/core/deal"
	"vexillum/internal/core/engine"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/pace"
	"vexillum/internal/service/shelf"
	"vexillum/internal/service/views"
	"vexillum/internal/service/writer"
)

// Desk answers requests about runs. Use New; all methods may be called at any time.
type Desk struct {
	w       *writer.Writer
	e       *engine.Engine
	s       *farm.State // of the engine, to be read in the loop
	m       *pace.Model
	dealer  *deal.Dealer
	recipes *shelf.Shelf
	views   *views.Board
}

// New returns the desk of a service.
func New(
	w *writer.Writer, e *engine.Engine, s *farm.State, m *pace.Model, recipes *shelf.Shelf, board *views.Board,
) *Desk {
	return &Desk{w, e, s, m, e.Dealer(), recipes, board}
}

// transaction is what a request may use while it decides.
type transaction struct {
	*writer.Tx
	d *Desk
}

func (d *Desk) do(ctx context.Context, decide func(t *transaction) error) error {
	return d.w.Do(ctx, func(t *writer.Tx) error { return decide(&transaction{t, d}) })
}
