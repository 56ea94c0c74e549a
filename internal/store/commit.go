package store

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"

	"vexillum/internal/core/farm"
)

// Commit writes Records, numbered on from lead.Seq, in one transaction and one
// round trip. On success it moves lead on. ErrDeposed means that nothing was
// written. With any other error it is not known whether the Records were
// committed: the caller must give up its State and load again.
func (s *Store) Commit(ctx context.Context, lead *Lead, records []farm.Record) error {
	if len(records) == 0 {
		return nil
	}
	next := Lead{Epoch: lead.Epoch, Batch: lead.Batch + 1, Seq: lead.Seq + int64(len(records))}
	batch, err := lines(*lead, next, records)
	if err != nil {
		return fmt.Errorf("writing batch %d: %w", next.Batch, err)
	}
	conn, err := s.writer.Connx(ctx)
	if err != nil {
		return fmt.Errorf("beginning batch %d: %w", next.Batch, err)
	}
	defer conn.Close()
	// Without a BEGIN of its own a pipeline is one transaction: all of it, or
	// nothing.
	err = conn.Raw(func(driver any) error { return driver.(*stdlib.Conn).Conn().SendBatch(ctx, batch).Close() })
	var refused *pgconn.PgError
	if errors.As(err, &refused) && refused.Code == deposedCode {
		return ErrDeposed
	}
	if err != nil {
		return fmt.Errorf("committing batch %d: %w", next.Batch, err)
	}
	*lead = next
	return nil
}

// deposedCode is the SQLSTATE with which the database refuses a batch of a
// service that is no longer the active one.
const deposedCode = "VX001"

// lines returns the statements of a batch, as few as the order of its Records
// allows. The first is the fence.
func lines(from, to Lead, records []farm.Record) (*pgx.Batch, error) {
	batch := &pgx.Batch{}
	batch.Queue(`SELECT fence($1, $2, $3)`, from.Epoch, from.Batch, to.Seq)
	var log events
	p := newPlan()
	seq := from.Seq
	for _, r := range records {
		seq++
		var body []byte
		encoded := func() ([]byte, error) {
			var err error
			if body == nil {
				if body, err = json.Marshal(r); err != nil {
					return nil, fmt.Errorf("encoding %q: %w", r.Kind(), err)
				}
			}
			return body, nil
		}
		if err := p.add(r, seq, encoded); err != nil {
			return nil, err
		}
		if err := log.add(r, seq, encoded); err != nil {
			return nil, err
		}
	}
	for _, g := range p.groups {
		if g.columns != nil {
			query, args := g.columns.statement()
			batch.Queue(query, args...)
			continue
		}
		batch.Queue(kinds[g.kind].statement, g.rows.text())
	}
	query, args := log.statement()
	batch.Queue(query, args...)
	return batch, nil
}

// withSeq adds the sequence number to a Record's JSON object.
func withSeq(body []byte, seq int64) []byte {
	out := append([]byte(`{"seq":`), strconv.FormatInt(seq, 10)...)
	if len(body) > 2 {
		out = append(out, ',')
	}
	return append(out, body[1:]...)
}

// array builds a JSON array from encoded values.
type array struct{ buf bytes.Buffer }

func (a *array) add(value []byte) {
	if a.buf.Len() == 0 {
		a.buf.WriteByte('[')
	} else {
		a.buf.WriteByte(',')
	}
	a.buf.Write(value)
}

func (a *array) text() string { return a.buf.String() + "]" }
