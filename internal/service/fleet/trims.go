package fleet

import (
	"context"

	"vexillum/internal/core/engine"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// Trim asks a node which of the last frames of a lease it can give back.
type Trim = engine.Trim

// Trimmed takes in a node's answer to a trim. What it gave back is dealt in the
// same batch.
func (d *Desk) Trimmed(
	ctx context.Context, id farm.NodeID, session, trim int64, lease farm.LeaseID, given frames.Set,
) error {
	return d.do(ctx, func(t *transaction) error {
		if _, err := t.session(id, session); err != nil {
			return err
		}
		d.e.Trimmed(id, trim, lease, given)
		return nil
	})
}
