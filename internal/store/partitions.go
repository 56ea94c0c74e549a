package store

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"
	"time"

	"vexillum/internal/core/usage"
)

// Partitioned tables hold what is kept for a while only. Old partitions are
// dropped whole, which costs nothing, however much is in them.

// partitioned is a table with one partition for each stretch of time.
type partitioned struct {
	table    string
	width    time.Duration
	keep     time.Duration
	bound    string // format of the bounds
	unlogged bool
}

var (
	usageFine    = partitioned{"usage_fine", 10 * time.Minute, usage.KeepFine, time.RFC3339, true}
	usageMinute  = partitioned{"usage_minute", 3 * time.Hour, usage.KeepMinute, time.RFC3339, false}
	usageQuarter = partitioned{"usage_quarter", 7 * 24 * time.Hour, usage.KeepQuarter, time.RFC3339, false}
	logPiece     = partitioned{"log_piece", 24 * time.Hour, KeepLogs, time.DateOnly, false}
)

// KeepLogs is how long what renderers and nodes have said is kept.
const KeepLogs = 14 * 24 * time.Hour

const partitionStamp = "20060102150405"

func (p partitioned) name(at time.Time) string { return p.table + "_" + at.Format(partitionStamp) }

// create returns the statement that creates the partition that begins at a time.
func (p partitioned) create(at time.Time, how string) string {
	kind := "TABLE"
	if p.unlogged {
		kind = "UNLOGGED TABLE"
	}
	return fmt.Sprintf(
		"CREATE %s %s %s PARTITION OF %s FOR VALUES FROM ('%s') TO ('%s')", kind, how, p.name(at), p.table,
		at.Format(p.bound), at.Add(p.width).Format(p.bound),
	)
}

// begins reads when a partition begins from its name.
func (p partitioned) begins(name string) (time.Time, bool) {
	at, err := time.Parse(partitionStamp, strings.TrimPrefix(name, p.table+"_"))
	return at, err == nil
}

var allPartitioned = []partitioned{usageFine, usageMinute, usageQuarter, logPiece}

// Partition creates the partitions that are needed next, and drops the oldest days of logs
// while all of them take more than mostLogs bytes.
func (s *Store) Partition(ctx context.Context, now time.Time, mostLogs int64) error {
	for _, p := range allPartitioned {
		if err := s.createPartitions(ctx, p, now.UTC()); err != nil {
			return fmt.Errorf("creating the partitions of %s: %w", p.table, err)
		}
	}
	return s.boundLogs(ctx, now.UTC(), mostLogs)
}

// DropPartitions drops the partitions that have had their time. The caller must be sure of now:
// what is dropped by a clock that is wrong is lost.
func (s *Store) DropPartitions(ctx context.Context, now time.Time) error {
	for _, p := range allPartitioned {
		names, err := s.partitions(ctx, p)
		if err != nil {
			return fmt.Errorf("reading the partitions of %s: %w", p.table, err)
		}
		for _, name := range names {
			if at, ok := p.begins(name); !ok || !at.Add(p.width+p.keep).Before(now.UTC()) {
				continue
			}
			if _, err := s.db.ExecContext(ctx, "DROP TABLE IF EXISTS "+name); err != nil {
				return fmt.Errorf("dropping %s: %w", name, err)
			}
		}
	}
	return nil
}

// NewestSaid returns when the newest line of a log was said, by which a clock can be told that
// is wrong; zero: nothing was said yet.
func (s *Store) NewestSaid(ctx context.Context) (time.Time, error) {
	names, err := s.partitions(ctx, logPiece)
	if err != nil {
		return time.Time{}, fmt.Errorf("reading the partitions of logs: %w", err)
	}
	for _, name := range slices.Backward(names) {
		var newest sql.NullTime
		if err := s.db.GetContext(ctx, &newest, "SELECT max(last_at) FROM "+name); err != nil {
			return time.Time{}, fmt.Errorf("reading the newest log: %w", err)
		}
		if newest.Valid {
			return newest.Time, nil
		}
	}
	return time.Time{}, nil
}

func (s *Store) createPartitions(ctx context.Context, p partitioned, now time.Time) error {
	have := map[string]bool{}
	names, err := s.partitions(ctx, p)
	if err != nil {
		return err
	}
	for _, name := range names {
		have[name] = true
	}
	// One behind: clocks of others may be late, and minutes are told when over.
	for at := now.Truncate(p.width).Add(-p.width); !at.After(now.Add(p.width)); at = at.Add(p.width) {
		name := p.name(at)
		if have[name] {
			continue
		}
		if _, err := s.db.ExecContext(ctx, p.create(at, "IF NOT EXISTS")); err != nil {
			return err
		}
	}
	return nil
}

// partitions returns the names of the partitions of a table, oldest first.
func (s *Store) partitions(ctx context.Context, p partitioned) ([]string, error) {
	var names []string
	err := s.db.SelectContext(ctx, &names, `SELECT c.relname FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid
		WHERE i.inhparent = $1::regclass ORDER BY c.relname`, p.table)
	return names, err
}

func (s *Store) boundLogs(ctx context.Context, now time.Time, most int64) error {
	names, err := s.partitions(ctx, logPiece)
	if err != nil {
		return err
	}
	var total int64
	sizes := map[string]int64{}
	for _, name := range names {
		var size int64
		if err := s.db.GetContext(ctx, &size, `SELECT pg_total_relation_size($1::regclass)`, name); err != nil {
			return fmt.Errorf("measuring the logs: %w", err)
		}
		sizes[name] = size
		total += size
	}
	for _, name := range names {
		at, ok := logPiece.begins(name)
		if total <= most || !ok || !at.Before(now.Truncate(logPiece.width)) { // today stays
			return nil
		}
		if _, err := s.db.ExecContext(ctx, "DROP TABLE IF EXISTS "+name); err != nil {
			return fmt.Errorf("dropping old logs: %w", err)
		}
		total -= sizes[name]
	}
	return nil
}

// Passing are patterns of tables whose rows need no backup: they are soon gone
// anyway, and many.
var Passing = []string{usageFine.table + "*", usageMinute.table + "*", logPiece.table + "*"}
