package store

import (
	"bytes"
	"compress/gzip"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jmoiron/sqlx"
)

// LogPiece is some lines that a node process or a renderer has said.
type LogPiece struct {
	Day     time.Time // when it came
	Node    int64
	Lease   int64 // 0: the node process itself
	Seq     int64 // grows along the log; one that is there already is not kept twice
	Run     int64 // 0: none
	FirstAt time.Time
	LastAt  time.Time
	Lines   int
	Text    []byte
}

// mostPiece bounds what one piece may unpack to.
const mostPiece = 8 << 20

// noPartition is the code of PostgreSQL's error for a row that no partition takes: a check
// violation.
const noPartition = "23514"

// AddLogs keeps pieces of logs, without waiting for the disk.
func (s *Store) AddLogs(ctx context.Context, pieces []LogPiece) error {
	var days, first, last []time.Time
	var nodes, leases, seqs, runs, lines []int64
	var texts [][]byte
	for _, p := range pieces {
		var packed bytes.Buffer
		z := gzip.NewWriter(&packed)
		if _, err := z.Write(p.Text); err != nil {
			return fmt.Errorf("packing a log: %w", err)
		}
		if err := z.Close(); err != nil {
			return fmt.Errorf("packing a log: %w", err)
		}
		day := p.Day.UTC().Truncate(24 * time.Hour)
		days, first, last = append(days, day), append(first, p.FirstAt), append(last, p.LastAt)
		nodes, leases, seqs, runs = append(nodes, p.Node), append(leases, p.Lease), append(seqs, p.Seq), append(
			runs, p.Run,
		)
		lines, texts = append(lines, int64(p.Lines)), append(texts, packed.Bytes())
	}
	add := func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(
			ctx,
			`INSERT INTO log_piece (day, node, lease, seq, run, first_at, last_at, lines, text)
			SELECT * FROM unnest($1::date[], $2::bigint[], $3::bigint[], $4::bigint[], $5::bigint[], $6::timestamptz[],
			$7::timestamptz[], $8::int[], $9::bytea[])
			ON CONFLICT DO NOTHING`,
			days, nodes, leases, seqs, runs, first, last, lines, texts,
		)
		if err != nil {
			return fmt.Errorf("keeping logs: %w", err)
		}
		return nil
	}
	err := s.relaxed(ctx, add)
	var none *pgconn.PgError
	if errors.As(err, &none) && none.Code == noPartition { // the clock was set
		for _, day := range days {
			if err := s.createPartitions(ctx, logPiece, day); err != nil {
				return fmt.Errorf("creating the partitions of logs: %w", err)
			}
		}
		err = s.relaxed(ctx, add)
	}
	return err
}

// LogQuery says which pieces of logs are wanted. What is 0 does not matter.
type LogQuery struct {
	Node, Lease, Run int64
	NodeItself       bool      // what the node process itself has said, and no renderers
	Before           time.Time // zero: up to now
}

// Logs calls each for pieces from the newest to the oldest until it returns
// false.
func (s *Store) Logs(ctx context.Context, q LogQuery, each func(LogPiece) (more bool)) error {
	before := q.Before
	if before.IsZero() {
		before = time.Now().Add(24 * time.Hour)
	}
	rows, err := s.db.QueryxContext(ctx, `SELECT node, lease, seq, run, first_at, last_at, lines, text FROM log_piece
		WHERE ($1::bigint = 0 OR node = $1) AND ($2::bigint = 0 OR lease = $2) AND ($3::bigint = 0 OR run = $3) AND (NOT
		$4 OR lease = 0) AND first_at < $5
		ORDER BY first_at DESC, seq DESC LIMIT 20000`, q.Node, q.Lease, q.Run, q.NodeItself, before)
	if err != nil {
		return fmt.Errorf("reading logs: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		var p LogPiece
		var packed []byte
		if err := rows.Scan(&p.Node, &p.Lease, &p.Seq, &p.Run, &p.FirstAt, &p.LastAt, &p.Lines, &packed); err != nil {
			return fmt.Errorf("reading logs: %w", err)
		}
		if p.Text, err = unpack(packed); err != nil {
			return fmt.Errorf("unpacking a log of node %d: %w", p.Node, err)
		}
		if !each(p) {
			return nil
		}
	}
	return rows.Err()
}

func unpack(packed []byte) ([]byte, error) {
	z, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return nil, err
	}
	text, err := io.ReadAll(io.LimitReader(z, mostPiece+1))
	if err == nil && len(text) > mostPiece {
		err = errors.New("it is longer than a piece may be")
	}
	return text, err
}

// RunsOfLeases returns, of these leases, the run of each that the node was given.
func (s *Store) RunsOfLeases(ctx context.Context, node int64, leases []int64) (map[int64]int64, error) {
	var rows []struct {
		ID  int64 `db:"id"`
		Run int64 `db:"run"`
	}
	err := s.db.SelectContext(ctx, &rows, `SELECT id, run FROM lease WHERE node = $1 AND id = ANY($2)`, node, leases)
	if err != nil {
		return nil, fmt.Errorf("looking whose leases these are: %w", err)
	}
	out := make(map[int64]int64, len(rows))
	for _, r := range rows {
		out[r.ID] = r.Run
	}
	return out, nil
}

// LeaseOfFrame returns the lease that tried a frame last, and when what came of
// it was told; 0 if nobody has.
func (s *Store) LeaseOfFrame(ctx context.Context, run int64, frame int) (lease int64, at time.Time, err error) {
	err = s.db.QueryRowxContext(ctx, `SELECT lease, at FROM (
		SELECT lease, accepted_at AS at FROM frame WHERE run = $1 AND frame = $2 UNION ALL SELECT lease, at FROM attempt
		WHERE run = $1 AND frame = $2) t
		ORDER BY at DESC LIMIT 1`, run, frame).Scan(&lease, &at)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, at, nil
	}
	if err != nil {
		return 0, at, fmt.Errorf("looking who rendered frame %d: %w", frame, err)
	}
	return lease, at, nil
}
