package floor

import (
	"context"

	"vexillum/internal/core/accept"
	"vexillum/internal/core/farm"
)

// Report takes what a node reports, in order, and answers each item. An item
// that is told again gets the same answer and changes nothing.
func (f *Floor) Report(ctx context.Context, id farm.NodeID, session int64, reports []accept.Report) ([]accept.Verdict, error) {
	verdicts := make([]accept.Verdict, 0, len(reports))
	err := f.do(ctx, func(t *turn) error {
		if _, err := t.session(id, session); err != nil {
			return err
		}
		for _, r := range reports {
			records, verdict := accept.Take(t.s, id, r, t.now)
			t.append(records...)
			verdicts = append(verdicts, verdict)
		}
		return nil
	})
	return verdicts, err
}
