package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"vexillum/internal/core/farm"
)

// Event is one committed Record as the log shows it.
type Event struct {
	Seq    int64     `db:"seq"`
	At     time.Time `db:"at"`
	Kind   string    `db:"kind"`
	Run    int64     `db:"run"`
	Node   int64     `db:"node"`
	Reason string    `db:"reason"`
	Moved  string    `db:"moved"` // how a lease moved work from node to node: take-over, race, or nothing
}

// moved reads that from the contents of an event.
const moved = `CASE WHEN body->>'race' = 'true' THEN 'race' WHEN body->>'from' IS NOT NULL THEN 'take-over' ELSE
	'' END AS moved`

// RunLog returns what happened to a run and has a reason, newest first, at
// most limit events newer than after and older than before (0: the newest).
func (s *Store) RunLog(ctx context.Context, run, after, before int64, limit int) ([]Event, error) {
	events := []Event{}
	err := s.db.SelectContext(
		ctx, &events,
		`SELECT seq, at, kind, run, COALESCE(node, 0) AS node, reason, `+moved+` FROM event
		WHERE run = $1 AND reason <> '' AND seq > $2 AND ($3::bigint = 0 OR seq < $3) ORDER BY seq DESC LIMIT $4`,
		run, after, before, limit,
	)
	if err != nil {
		return nil, fmt.Errorf("reading the log of run %d: %w", run, err)
	}
	return events, nil
}

// NodeLog returns what became of a node and has a reason, newest first.
func (s *Store) NodeLog(ctx context.Context, node int64, limit int) ([]Event, error) {
	events := []Event{}
	err := s.db.SelectContext(
		ctx, &events,
		`SELECT seq, at, kind, COALESCE(run, 0) AS run, node, reason, `+moved+` FROM event
		WHERE node = $1 AND kind LIKE 'node %' AND reason <> '' ORDER BY seq DESC LIMIT $2`,
		node, limit,
	)
	if err != nil {
		return nil, fmt.Errorf("reading the log of node %d: %w", node, err)
	}
	return events, nil
}

// Stretch is one thing that happened to a node and is drawn in its timeline.
type Stretch struct {
	At     time.Time `db:"at"`
	Kind   string    `db:"kind"`
	Run    int64     `db:"run"`
	Reason string    `db:"reason"`
	Is     string    `db:"state"` // what reach, duty or health became
	Seq    int64     `db:"seq"`
}

// mostStretches bounds what is read for one timeline.
const mostStretches = 50_000

// NodeTimeline returns what a node worked on and how its states changed since
// a time, in order; of very much, the newest.
func (s *Store) NodeTimeline(ctx context.Context, node int64, since time.Time) ([]Stretch, error) {
	out := []Stretch{}
	err := s.db.SelectContext(ctx, &out, `SELECT * FROM (
			SELECT seq, at, kind, COALESCE(run, 0) AS run, reason, COALESCE(body->>'reach', body->>'duty',
			body->>'health',
			'') AS state
			FROM event WHERE node = $1 AND at >= $2 AND kind IN ('lease opened', 'lease ended', 'node reach',
			'node duty',
			'node health')
			ORDER BY seq DESC LIMIT $3) t ORDER BY seq`, node, since, mostStretches)
	if err != nil {
		return nil, fmt.Errorf("reading what node %d did: %w", node, err)
	}
	return out, nil
}

// RunNames returns the names of runs by number: job, kind and number.
func (s *Store) RunNames(ctx context.Context, runs []int64) (map[int64]string, error) {
	var rows []struct {
		ID   int64  `db:"id"`
		Name string `db:"name"`
	}
	if err := s.db.SelectContext(
		ctx, &rows,
		`SELECT id, job || ' ' || kind || ' ' || number AS name FROM run WHERE id = ANY($1)`,
		runs,
	); err != nil {
		return nil, fmt.Errorf("reading names of runs: %w", err)
	}
	out := map[int64]string{}
	for _, r := range rows {
		out[r.ID] = r.Name
	}
	return out, nil
}

// NodeVersion is one version of the settings of a node.
type NodeVersion struct {
	Version int64     `db:"version"`
	Actor   string    `db:"actor"`
	Reason  string    `db:"reason"`
	At      time.Time `db:"at"`
}

// NodeVersions returns the newest hundred versions of the settings of a node,
// newest first.
func (s *Store) NodeVersions(ctx context.Context, node int64) ([]NodeVersion, error) {
	versions := []NodeVersion{}
	err := s.db.SelectContext(
		ctx, &versions,
		`SELECT version, actor, reason, at FROM node_settings WHERE node = $1 ORDER BY version DESC LIMIT 100`,
		node,
	)
	if err != nil {
		return nil, fmt.Errorf("reading the settings of node %d: %w", node, err)
	}
	return versions, nil
}

// Result is a frame that has a good picture.
type Result struct {
	Frame          int        `db:"frame"`
	State          string     `db:"state"`
	Node           int64      `db:"node"`
	Launch         int        `db:"launch"`
	Lease          int64      `db:"lease"`
	Hash           string     `db:"hash"`
	Bytes          int64      `db:"bytes"`
	Files          Files      `db:"files"`         // of a frame with passes
	FetchedBytes   int64      `db:"fetched_bytes"` // of a bundle, before the launch; with its first frame
	FetchedSeconds float64    `db:"fetched_seconds"`
	StartupSeconds float64    `db:"startup_seconds"`
	RenderSeconds  float64    `db:"render_seconds"`
	CheckSeconds   float64    `db:"check_seconds"`
	AcceptedAt     time.Time  `db:"accepted_at"`
	DoneAt         *time.Time `db:"done_at"`
	Seq            int64      `db:"seq"` // of the change that told it
}

// Files are the files of a frame as they are kept.
type Files []farm.File

// Scan implements sql.Scanner.
func (f *Files) Scan(value any) error {
	switch v := value.(type) {
	case nil:
		return nil
	case []byte:
		return json.Unmarshal(v, f)
	case string:
		return json.Unmarshal([]byte(v), f)
	}
	return fmt.Errorf("the files of a frame came as %T", value)
}

// Results returns the frames of a run that have a good picture and changed after a
// sequence number, in order.
func (s *Store) Results(ctx context.Context, run, after int64) ([]Result, error) {
	results := []Result{}
	err := s.db.SelectContext(
		ctx, &results,
		`SELECT frame, state, node, launch, lease, hash, bytes, fetched_bytes, fetched_seconds,
		startup_seconds, render_seconds, check_seconds, accepted_at, done_at, files, seq FROM frame
		WHERE run = $1 AND seq > $2 AND state <> 'lost' ORDER BY frame`,
		run, after,
	)
	if err != nil {
		return nil, fmt.Errorf("reading the results of run %d: %w", run, err)
	}
	return results, nil
}

// NewestWith returns the last done frame of a run before another that has a pass, or nil.
func (s *Store) NewestWith(ctx context.Context, run int64, before int, pass string) (*Result, error) {
	found := []Result{}
	err := s.db.SelectContext(
		ctx, &found,
		`SELECT frame, files FROM frame WHERE run = $1 AND frame < $2 AND state = 'done'
		AND files @> jsonb_build_array(jsonb_build_object('pass', $3::text)) ORDER BY frame DESC LIMIT 1`,
		run, before, pass,
	)
	if err != nil {
		return nil, fmt.Errorf("looking for a checkpoint of run %d: %w", run, err)
	}
	if len(found) == 0 {
		return nil, nil
	}
	return &found[0], nil
}

// Timing reports who rendered a frame and how long that took.
type Timing struct {
	Frame         int     `db:"frame"`
	Node          int64   `db:"node"`
	RenderSeconds float64 `db:"render_seconds"`
	Seq           int64   `db:"seq"` // of the change that told it
}

// Timings returns the timings of frames of a run that have a good picture and
// changed after a sequence number, in order.
func (s *Store) Timings(ctx context.Context, run, after int64) ([]Timing, error) {
	timings := []Timing{}
	err := s.db.SelectContext(ctx, &timings, `SELECT frame, node, render_seconds, seq FROM frame
		WHERE run = $1 AND seq > $2 AND state <> 'lost' ORDER BY frame`, run, after)
	if err != nil {
		return nil, fmt.Errorf("reading the timings of run %d: %w", run, err)
	}
	return timings, nil
}

// Audit is who changed what.
type Audit struct {
	Seq     int64     `db:"seq"`
	At      time.Time `db:"at"`
	Actor   string    `db:"actor"`
	Action  string    `db:"action"`
	Subject string    `db:"subject"`
	Before  string    `db:"before"`
	After   string    `db:"after"`
}

// Audits returns who changed what, newest first, at most limit entries older
// than before (0: the newest).
func (s *Store) Audits(ctx context.Context, before int64, limit int) ([]Audit, error) {
	audits := []Audit{}
	err := s.db.SelectContext(ctx, &audits, `SELECT seq, at, actor, action, subject, before, after FROM audit
		WHERE $1::bigint = 0 OR seq < $1 ORDER BY seq DESC LIMIT $2`, before, limit)
	if err != nil {
		return nil, fmt.Errorf("reading the audit record: %w", err)
	}
	return audits, nil
}

// PutThumbnail keeps a frame's small picture; a newer one replaces it.
func (s *Store) PutThumbnail(ctx context.Context, run int64, frame int, jpeg []byte) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO thumbnail (run, frame, jpeg) VALUES ($1, $2, $3)
		ON CONFLICT (run, frame) DO UPDATE SET jpeg = excluded.jpeg`, run, frame, jpeg)
	if err != nil {
		return fmt.Errorf("keeping the thumbnail of frame %d: %w", frame, err)
	}
	return nil
}

// ErrNotFound says that there is no such row.
var ErrNotFound = errors.New("not found")

// Thumbnail returns a frame's small picture as JPEG, or ErrNotFound.
func (s *Store) Thumbnail(ctx context.Context, run int64, frame int) ([]byte, error) {
	var jpeg []byte
	err := s.db.GetContext(ctx, &jpeg, `SELECT jpeg FROM thumbnail WHERE run = $1 AND frame = $2`, run, frame)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, ErrNotFound
	}
	if err != nil {
		return nil, fmt.Errorf("reading the thumbnail of frame %d: %w", frame, err)
	}
	return jpeg, nil
}

// AcceptedFrom returns the node whose picture of a frame was accepted last, or
// ErrNotFound.
func (s *Store) AcceptedFrom(ctx context.Context, run int64, frame int) (node int64, err error) {
	err = s.db.GetContext(ctx, &node, `SELECT node FROM frame WHERE run = $1 AND frame = $2`, run, frame)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, ErrNotFound
	}
	if err != nil {
		return 0, fmt.Errorf("reading whose frame %d is: %w", frame, err)
	}
	return node, nil
}

// Thumbnails hands small pictures of a run to use, in order of frames: all, or so
// many of them from all over its range.
func (s *Store) Thumbnails(ctx context.Context, run int64, most int, use func(frame int, jpeg []byte) error) error {
	rows, err := s.db.QueryContext(ctx, `SELECT t.frame, t.jpeg FROM (
			SELECT frame, row_number() OVER (ORDER BY frame) - 1 AS at, count(*) OVER () AS all_of_them FROM thumbnail
			WHERE run = $1
		) n JOIN thumbnail t ON t.run = $1 AND t.frame = n.frame
		WHERE n.all_of_them <= $2 OR n.at = n.all_of_them - 1 OR n.at * ($2 - 1) / n.all_of_them <> (n.at - 1) * ($2 -
		1) / n.all_of_them OR n.at = 0
		ORDER BY t.frame LIMIT $2`, run, most)
	if err != nil {
		return fmt.Errorf("reading the thumbnails of run %d: %w", run, err)
	}
	defer rows.Close()
	for rows.Next() {
		var frame int
		var jpeg []byte
		if err := rows.Scan(&frame, &jpeg); err != nil {
			return fmt.Errorf("reading the thumbnails of run %d: %w", run, err)
		}
		if err := use(frame, jpeg); err != nil {
			return err
		}
	}
	return rows.Err()
}
