package store

import (
	"context"
	"encoding/json"
	"fmt"

	"vexillum/internal/core/fairness"
)

// KeepReceived writes down what projects have received lately. It is no Record:
// what the last seconds before a kill brought may be missing.
func (s *Store) KeepReceived(ctx context.Context, all []fairness.Received) error {
	data, err := json.Marshal(all)
	if err != nil {
		return fmt.Errorf("encoding what projects have received: %w", err)
	}
	_, err = s.db.ExecContext(ctx, `INSERT INTO received (project, person, amount, at)
		SELECT "Project", "Person", "Amount", "At" FROM jsonb_to_recordset($1::jsonb) AS r("Project" text, "Person"
		text, "Amount" float8, "At" timestamptz)
		ON CONFLICT (project, person) DO UPDATE SET amount = excluded.amount, at = excluded.at`, string(data))
	if err != nil {
		return fmt.Errorf("keeping what projects have received: %w", err)
	}
	return nil
}

// Received returns what projects had received when it was last written down.
func (s *Store) Received(ctx context.Context) ([]fairness.Received, error) {
	var out []fairness.Received
	if err := s.db.SelectContext(
		ctx, &out,
		`SELECT project, person, amount, at FROM received ORDER BY project, person`,
	); err != nil {
		return nil, fmt.Errorf("reading what projects have received: %w", err)
	}
	return out, nil
}
