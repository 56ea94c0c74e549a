// Package people is the desk for who may come in: people, their tokens and passwords,
// and the keys that nodes enrol with. It knows neither HTTP nor how a password is
// tested.
package people

import (
	"context"
	"slices"
	"sync/atomic"

	"vexillum/internal/core/engine"
	"vexillum/internal/core/farm"
	"vexillum/internal/service/writer"
)

// Desk answers requests about people. Use New; all methods may be called at any time.
type Desk struct {
	w      *writer.Writer
	access atomic.Pointer[Access]
}

// New returns the desk of a service.
func New(w *writer.Writer, s *farm.State) *Desk {
	d := &Desk{w: w}
	d.publish(s)
	w.Watch(writer.Watcher{Committed: func(out engine.Batch) {
		if slices.ContainsFunc(out.Records, func(r farm.Record) bool { return r.Wakes()&farm.WakesAccess != 0 }) {
			d.publish(s)
		}
	}})
	return d
}

// transaction is what a request may use while it decides.
type transaction struct {
	*writer.Tx
}

func (d *Desk) do(ctx context.Context, decide func(t *transaction) error) error {
	return d.w.Do(ctx, func(t *writer.Tx) error { return decide(&transaction{t}) })
}
