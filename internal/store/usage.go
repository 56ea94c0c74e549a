package store

import (
	"context"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"vexillum/internal/core/usage"
)

func usageTable(step time.Duration) partitioned {
	switch step {
	case usage.Minute:
		return usageMinute
	case usage.Quarter:
		return usageQuarter
	}
	return usageFine
}

// AddUsage keeps samples of one step. They are written without waiting for the
// disk: the newest may be lost with the power, no others.
func (s *Store) AddUsage(ctx context.Context, step time.Duration, rows []usage.Row) error {
	if len(rows) == 0 {
		return nil
	}
	n := len(rows)
	nodes, at := make([]int64, n), make([]time.Time, n)
	var values [12][]float64
	groups, devices := make([]*string, n), make([]*string, n)
	for i, r := range rows {
		nodes[i], at[i] = r.Node, r.At
		for j, v := range [12]float64{r.Processor, r.Most, r.Memory, r.MemoryMost, r.Swap, r.DiskFree, r.DiskRead, r.DiskWritten, r.Received, r.Sent, r.Load, r.Temperature} {
			values[j] = append(values[j], v)
		}
		if step == usage.Quarter { // these are not looked at over weeks
			continue
		}
		if len(r.Groups) > 0 {
			groups[i] = realArray(r.Groups)
		}
		if len(r.Devices) > 0 {
			if data, err := json.Marshal(r.Devices); err == nil { // it holds nothing that JSON cannot
				text := string(data)
				devices[i] = &text
			}
		}
	}
	args := []any{nodes, at}
	for _, v := range values {
		args = append(args, v)
	}
	args = append(args, groups, devices)
	return s.relaxed(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO `+usageTable(step).table+`
			SELECT n, at, a, b, c, d, e, f, g, h, i, j, k, l, gs::real[], ds::jsonb
			FROM unnest($1::bigint[], $2::timestamptz[], $3::real[], $4::real[], $5::real[], $6::real[], $7::real[],
			$8::real[], $9::real[], $10::real[],
				$11::real[], $12::real[], $13::real[], $14::real[], $15::text[], $16::text[]) AS r(n, at, a, b, c, d, e,
				f,
				g,
				h, i, j, k, l, gs, ds)`, args...)
		if err != nil {
			return fmt.Errorf("keeping what nodes measure: %w", err)
		}
		return nil
	})
}

// relaxed runs a transaction that does not wait for the disk.
func (s *Store) relaxed(ctx context.Context, do func(tx *sqlx.Tx) error) error {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return fmt.Errorf("beginning to write: %w", err)
	}
	defer func() { _ = tx.Rollback() }() // it is over after a commit
	if _, err := tx.ExecContext(ctx, "SET LOCAL synchronous_commit = off"); err != nil {
		return fmt.Errorf("beginning to write: %w", err)
	}
	if err := do(tx); err != nil {
		return err
	}
	return tx.Commit()
}

func realArray(values []float64) *string {
	var b strings.Builder
	b.WriteByte('{')
	for i, v := range values {
		if i > 0 {
			b.WriteByte(',')
		}
		b.WriteString(strconv.FormatFloat(v, 'g', 4, 32))
	}
	b.WriteByte('}')
	text := b.String()
	return &text
}

type usageRow struct {
	Node        int64     `db:"node"`
	At          time.Time `db:"at"`
	Processor   float64   `db:"processor"`
	Most        float64   `db:"most"`
	Memory      float64   `db:"memory"`
	MemoryMost  float64   `db:"memory_most"`
	Swap        float64   `db:"swap"`
	DiskFree    float64   `db:"disk_free"`
	DiskRead    float64   `db:"disk_read"`
	DiskWritten float64   `db:"disk_written"`
	Received    float64   `db:"received"`
	Sent        float64   `db:"sent"`
	Load        float64   `db:"load"`
	Temperature float64   `db:"temperature"`
	Groups      []byte    `db:"groups"` // as JSON
	Devices     []byte    `db:"devices"`
}

const usageColumns = `node, at, processor, most, memory, memory_most, swap, disk_free, disk_read, disk_written,
	received, sent, load, temperature,
	to_jsonb(groups) AS groups, devices`

func (r usageRow) row(step time.Duration) (usage.Row, error) {
	out := usage.Row{Node: r.Node, At: r.At, Step: step, Sample: usage.Sample{
		Processor: r.Processor, Most: r.Most, Memory: r.Memory, MemoryMost: r.MemoryMost,
		Swap: r.Swap, DiskFree: r.DiskFree, DiskRead: r.DiskRead, DiskWritten: r.DiskWritten,
		Received: r.Received, Sent: r.Sent, Load: r.Load, Temperature: r.Temperature,
	}}
	if r.Groups != nil {
		if err := json.Unmarshal(r.Groups, &out.Groups); err != nil {
			return out, err
		}
	}
	if r.Devices != nil {
		if err := json.Unmarshal(r.Devices, &out.Devices); err != nil {
			return out, err
		}
	}
	return out, nil
}

// Usage returns what a node measured from a time on, in order.
func (s *Store) Usage(ctx context.Context, node int64, step time.Duration, since time.Time) ([]usage.Row, error) {
	return s.usage(
		ctx, step,
		`SELECT `+usageColumns+` FROM `+usageTable(step).table+` WHERE node = $1 AND at >= $2 ORDER BY at`,
		node, since,
	)
}

// UsageSince returns what all nodes measured by the minute from a time on.
func (s *Store) UsageSince(ctx context.Context, since time.Time) ([]usage.Row, error) {
	return s.usage(ctx, usage.Minute, `SELECT `+usageColumns+` FROM usage_minute WHERE at >= $1 ORDER BY at`, since)
}

func (s *Store) usage(ctx context.Context, step time.Duration, query string, args ...any) ([]usage.Row, error) {
	var rows []usageRow
	if err := s.db.SelectContext(ctx, &rows, query, args...); err != nil {
		return nil, fmt.Errorf("reading what nodes measured: %w", err)
	}
	out := make([]usage.Row, 0, len(rows))
	for _, r := range rows {
		row, err := r.row(step)
		if err != nil {
			return nil, fmt.Errorf("reading what nodes measured: %w", err)
		}
		out = append(out, row)
	}
	return out, nil
}
