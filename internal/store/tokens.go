package store

import (
	"context"
	"fmt"
	"time"
)

// TokensUsed returns when tokens were last used, by their hash, as far as that
// was kept.
func (s *Store) TokensUsed(ctx context.Context) (map[string]time.Time, error) {
	var rows []struct {
		Hash string    `db:"hash"`
		At   time.Time `db:"used_at"`
	}
	if err := s.db.SelectContext(ctx, &rows, `SELECT hash, used_at FROM token WHERE used_at IS NOT NULL`); err != nil {
		return nil, fmt.Errorf("reading when tokens were used: %w", err)
	}
	out := make(map[string]time.Time, len(rows))
	for _, r := range rows {
		out[r.Hash] = r.At
	}
	return out, nil
}

// KeepTokensUsed keeps when tokens were used. Those that are gone do not matter.
func (s *Store) KeepTokensUsed(ctx context.Context, used map[string]time.Time) error {
	if len(used) == 0 {
		return nil
	}
	var hashes []string
	var at []time.Time
	for hash, when := range used {
		hashes, at = append(hashes, hash), append(at, when)
	}
	_, err := s.db.ExecContext(
		ctx,
		`UPDATE token SET used_at = r.at FROM unnest($1::text[], $2::timestamptz[]) AS r(hash, at) WHERE token.hash =
			r.hash`,
		hashes, at,
	)
	if err != nil {
		return fmt.Errorf("keeping when tokens were used: %w", err)
	}
	return nil
}

// Secret returns what the services that share the database know, and nobody
// else.
func (s *Store) Secret(ctx context.Context) (string, error) {
	var out string
	if err := s.db.GetContext(ctx, &out, `SELECT secret FROM farm`); err != nil {
		return "", fmt.Errorf("reading the secret of the services: %w", err)
	}
	return out, nil
}
