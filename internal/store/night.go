package store

import (
	"context"
	"fmt"
	"time"
)

// FailedTry is a try that failed, with what it cost.
type FailedTry struct {
	At      time.Time `db:"at"`
	Run     int64     `db:"run"`
	RunName string    `db:"run_name"`
	Frame   int       `db:"frame"`
	Lease   int64     `db:"lease"`
	Launch  int       `db:"launch"`
	Node    string    `db:"node"`
	Cause   string    `db:"cause"`
	Blame   string    `db:"blame"`
	Seconds float64   `db:"seconds"` // since its lease began, or had its last result
	Done    bool      `db:"done"`    // the frame is done since, or given up
}

// FailedTries returns the tries that failed in a while, the oldest first; of very many the
// newest, at most limit. What is of hidden projects is left out.
func (s *Store) FailedTries(
	ctx context.Context, from, to time.Time, hidden []string, limit int,
) ([]FailedTry, error) {
	out := []FailedTry{}
	err := s.db.SelectContext(ctx, &out, `WITH failed AS (
			SELECT a.* FROM attempt a JOIN run r ON r.id = a.run
			WHERE a.at >= $1 AND a.at <= $2 AND NOT r.project = ANY(COALESCE($3::text[], '{}'))
			ORDER BY a.seq DESC LIMIT $4
		), leases AS (SELECT DISTINCT run, lease FROM failed),
		marks AS (
			SELECT l.id AS lease, l.opened_at AS at, NULL::bigint AS seq FROM lease l JOIN leases t ON t.lease = l.id
			UNION ALL
			SELECT f.lease, f.accepted_at, NULL FROM frame f JOIN leases t ON t.run = f.run AND t.lease = f.lease
			UNION ALL
			SELECT a.lease, a.at, a.seq FROM attempt a JOIN leases t ON t.run = a.run AND t.lease = a.lease
		), steps AS (
			SELECT seq, at - lag(at) OVER (PARTITION BY lease ORDER BY at, seq NULLS FIRST) AS took FROM marks
		)
		SELECT a.at, a.run, r.job || '/' || r.kind || '-' || r.number AS run_name, a.frame, a.lease, a.launch,
			COALESCE(n.name, '') AS node, a.cause, a.blame, COALESCE(EXTRACT(EPOCH FROM st.took), 0)::float8 AS seconds,
			EXISTS (SELECT FROM frame f WHERE f.run = a.run AND f.frame = a.frame AND f.state = 'done') OR
			EXISTS (SELECT FROM skip k WHERE k.run = a.run AND k.frames @> a.frame) OR r.done @> a.frame AS done
		FROM failed a JOIN run r ON r.id = a.run LEFT JOIN node n ON n.id = a.node LEFT JOIN steps st ON st.seq = a.seq
		ORDER BY a.seq`, from, to, hidden, limit)
	if err != nil {
		return nil, fmt.Errorf("reading what failed: %w", err)
	}
	return out, nil
}

// Deed is something that the farm has done by itself about what failed.
type Deed struct {
	At     time.Time `db:"at"`
	Run    int64     `db:"run"`  // 0: none
	Node   int64     `db:"node"` // 0: none
	Reason string    `db:"reason"`
}

// Deeds returns what the farm has done by itself in a while, the oldest first; of very many
// the newest, at most limit. What is of hidden projects is left out.
func (s *Store) Deeds(ctx context.Context, from, to time.Time, hidden []string, limit int) ([]Deed, error) {
	out := []Deed{}
	err := s.db.SelectContext(ctx, &out, `SELECT at, run, node, reason FROM (
			SELECT e.seq, e.at, COALESCE(e.run, 0) AS run, COALESCE(e.node, 0) AS node,
				CASE WHEN e.kind = 'run moved' THEN r.job || '/' || r.kind || '-' || r.number || ' was held: '
					WHEN e.kind = 'node health' THEN COALESCE('device ' || NULLIF(e.body->>'device', '') || ' of ', '')
						|| n.name ||
						CASE e.body->>'health' WHEN 'sidelined' THEN ' is sidelined: ' ELSE ' works again: ' END
					ELSE '' END || e.reason AS reason
			FROM event e LEFT JOIN run r ON r.id = e.run LEFT JOIN node n ON n.id = e.node
			WHERE e.at >= $1 AND e.at <= $2 AND e.reason <> ''
			AND NOT COALESCE(r.project, '') = ANY(COALESCE($3::text[], '{}'))
			AND (e.kind = 'wait set' OR e.kind = 'node health' AND e.body->>'by' = 'triage'
				OR e.kind = 'run moved' AND e.body->>'held' IN ('failing', 'changed', 'step'))
			ORDER BY e.seq DESC LIMIT $4) t ORDER BY seq`, from, to, hidden, limit)
	if err != nil {
		return nil, fmt.Errorf("reading what the farm has done by itself: %w", err)
	}
	return out, nil
}

// EndedRun is a run that has ended.
type EndedRun struct {
	Run    int64  `db:"run"`
	Name   string `db:"name"`
	State  string `db:"state"`
	Frames int    `db:"frames"` // that are done
	// EndedAt is when it ended.
	EndedAt time.Time `db:"ended_at"`
	// Due is when it had to be ready; nil: at any time.
	Due *time.Time `db:"due"`
	// Hours are the machine hours of its leases, as if each had all of its node.
	Hours float64 `db:"hours"`
	// Picture is a frame in the middle that is done; nil: none is.
	Picture *int `db:"picture"`
}

// EndedRuns returns the runs that ended in a while, in the order of their numbers.
func (s *Store) EndedRuns(
	ctx context.Context, from, to time.Time, hidden []string, limit int,
) ([]EndedRun, error) {
	out := []EndedRun{}
	err := s.db.SelectContext(ctx, &out, `SELECT id AS run, job || '/' || kind || '-' || number AS name, state,
			(SELECT count(*) FROM frame f WHERE f.run = r.id AND f.state = 'done') AS frames, ended_at,
			(COALESCE(terms->>'due', CASE WHEN terms IS NULL THEN spec->>'due' END))::timestamptz AS due,
			COALESCE((SELECT sum(greatest(0, extract(epoch FROM l.ended_at - l.opened_at))) / 3600 FROM lease l
				WHERE l.run = r.id AND l.ended_at IS NOT NULL), 0)::float8 AS hours,
			(SELECT percentile_disc(0.5) WITHIN GROUP (ORDER BY f.frame) FROM frame f
				WHERE f.run = r.id AND f.state = 'done') AS picture
		FROM run r WHERE ended_at >= $1 AND ended_at <= $2 AND NOT project = ANY(COALESCE($3::text[], '{}'))
		ORDER BY id LIMIT $4`, from, to, hidden, limit)
	if err != nil {
		return nil, fmt.Errorf("reading which runs ended: %w", err)
	}
	return out, nil
}

// HandsOf returns what needed a hand in a while, the oldest first.
func (s *Store) HandsOf(
	ctx context.Context, from, to time.Time, hidden []string, limit int,
) ([]PastHand, error) {
	out := []PastHand{}
	err := s.db.SelectContext(ctx, &out, `SELECT `+handColumns+` FROM hand
		WHERE last_at >= $1 AND raised_at <= $2 AND NOT project = ANY(COALESCE($3::text[], '{}'))
		ORDER BY id LIMIT $4`, from, to, hidden, limit)
	if err != nil {
		return nil, fmt.Errorf("reading what needed a hand: %w", err)
	}
	return out, nil
}
