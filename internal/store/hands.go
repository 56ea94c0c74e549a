package store

import (
	"context"
	"fmt"
	"time"
)

// PastHand is something that needed a hand, or still does.
type PastHand struct {
	ID           int64      `db:"id"`
	Kind         string     `db:"kind"`
	Run          int64      `db:"run"`  // 0: none
	Node         int64      `db:"node"` // 0: none
	Sentence     string     `db:"sentence"`
	Evidence     string     `db:"evidence"`
	Count        int        `db:"count"`
	RaisedAt     time.Time  `db:"raised_at"`
	LastAt       time.Time  `db:"last_at"`
	EndedAt      *time.Time `db:"ended_at"` // null: it is not over
	TakenBy      string     `db:"taken_by"`
	TakenAt      *time.Time `db:"taken_at"`
	SnoozedBy    string     `db:"snoozed_by"`
	SnoozedUntil *time.Time `db:"snoozed_until"`
	ResolvedBy   string     `db:"resolved_by"`
	ResolvedAt   *time.Time `db:"resolved_at"`
	Note         string     `db:"note"`
}

const handColumns = `id, of->>'kind' AS kind, COALESCE(run, 0) AS run, COALESCE(node, 0) AS node, sentence, evidence,
	count, raised_at, last_at, ended_at, taken_by, taken_at, snoozed_by, snoozed_until, resolved_by, resolved_at, note`

// Hands returns what needed a hand, newest first, at most limit older than before (0: the
// newest). What is about runs of hidden projects is left out.
func (s *Store) Hands(ctx context.Context, before int64, limit int, hidden []string) ([]PastHand, error) {
	out := []PastHand{}
	err := s.db.SelectContext(ctx, &out, `SELECT `+handColumns+`
		FROM hand WHERE ($1::bigint = 0 OR id < $1) AND NOT project = ANY(COALESCE($3::text[], '{}'))
		ORDER BY id DESC LIMIT $2`,
		before, limit, hidden,
	)
	if err != nil {
		return nil, fmt.Errorf("reading what needed a hand: %w", err)
	}
	return out, nil
}
