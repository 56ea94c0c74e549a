// Package setup is the desk for what a farm is made of besides nodes and runs: places,
// projects, pools, licences and launch settings. It looks at no folder.
package setup

import (
	"context"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/shelf"
	"vexillum/internal/service/writer"
)

// Desk answers requests about the setup of the farm. Use New; all methods may be
// called at any time.
type Desk struct {
	w       *writer.Writer
	s       *farm.State // to be read in the loop
	recipes *shelf.Shelf
}

// New returns the desk of a service.
func New(w *writer.Writer, s *farm.State, recipes *shelf.Shelf) *Desk {
	return &Desk{w, s, recipes}
}

// transaction is what a request may use while it decides.
type transaction struct {
	*writer.Tx
}

func (d *Desk) do(ctx context.Context, decide func(t *transaction) error) error {
	return d.w.Do(ctx, func(t *writer.Tx) error { return decide(&transaction{t}) })
}
