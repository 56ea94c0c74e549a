package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"
)

// Happened is one committed change that people may be told of.
type Happened struct {
	Seq     int64     `db:"seq"`
	At      time.Time `db:"at"`
	Kind    string    `db:"kind"`
	Run     int64     `db:"run"`
	Node    int64     `db:"node"`
	Reason  string    `db:"reason"`
	Body    []byte    `db:"body"`
	Project string    `db:"project"`  // of the run
	RunName string    `db:"run_name"` // as people know it
	Snoozed bool      `db:"snoozed"`  // what needs a hand, and somebody has put off
}

// NewNotice is a notice for a channel.
type NewNotice struct {
	Channel string
	Body    json.RawMessage
	Hand    int64 // 0: none
	Due     time.Time
	// Since is from when on nothing must have been said of the same hand.
	Since time.Time
}

// mostRead is how many changes are looked at at once.
const mostRead = 2000

// happenedSQL reads those of the next changes that people may be told of.
const happenedSQL = `SELECT e.seq, e.at, e.kind, COALESCE(e.run, 0) AS run, COALESCE(e.node, 0) AS node, e.reason,
	COALESCE(e.body, '{}') AS body, COALESCE(r.project, '') AS project,
	COALESCE(r.job || '/' || r.kind || '-' || r.number, '') AS run_name,
	COALESCE(h.snoozed_until > $3 AND e.kind = 'hand raised', false) AS snoozed
	FROM event e LEFT JOIN run r ON r.id = e.run
	LEFT JOIN hand h ON e.kind = 'hand raised' AND h.id = (e.body->>'id')::bigint
	WHERE e.seq > $1 AND e.seq <= $2 AND (e.kind = 'hand raised'
		OR e.kind = 'run moved' AND e.body->>'state' IN ('done', 'done with gaps', 'failed')
		OR e.kind = 'audited' AND e.body->>'action' = 'take over')
	ORDER BY e.seq`

// Tell makes notices of the next changes that were committed since the last time: notices
// returns those that follow. It returns whether there may be more. A change is made into
// notices once, whatever ends in between.
func (s *Store) Tell(
	ctx context.Context, now time.Time, notices func([]Happened) ([]NewNotice, error),
) (more bool, err error) {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return false, fmt.Errorf("looking for news: %w", err)
	}
	defer func() { _ = tx.Rollback() }()
	var from, last int64
	if err := tx.GetContext(ctx, &from, `SELECT seq FROM notice_mark FOR UPDATE`); err != nil {
		return false, fmt.Errorf("looking for news: %w", err)
	}
	if err := tx.GetContext(ctx, &last, `SELECT seq FROM leader`); err != nil {
		return false, fmt.Errorf("looking for news: %w", err)
	}
	if last <= from {
		return false, nil
	}
	to := min(last, from+mostRead)
	var news []Happened
	if err := tx.SelectContext(ctx, &news, happenedSQL, from, to, now); err != nil {
		return false, fmt.Errorf("looking for news: %w", err)
	}
	made, err := notices(news)
	if err != nil {
		return false, err
	}
	for _, n := range made {
		if err := addNotice(ctx, tx, n, now); err != nil {
			return false, err
		}
	}
	if _, err := tx.ExecContext(ctx, `UPDATE notice_mark SET seq = $1`, to); err != nil {
		return false, fmt.Errorf("keeping notices: %w", err)
	}
	if err := tx.Commit(); err != nil {
		return false, fmt.Errorf("keeping notices: %w", err)
	}
	return to < last, nil
}

// mostWaiting bounds how many notices wait for a channel; further ones are dropped.
const mostWaiting = 2000

// addNotice lets a notice wait for its channel, unless the same was said a moment ago.
func addNotice(ctx context.Context, tx interface {
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
}, n NewNotice, now time.Time) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO notice (channel, body, hand, made_at, due, next_at, state, answer)
		SELECT $1, $2, NULLIF($3::bigint, 0), $4, $5, $5, CASE WHEN w.n < $6 THEN 'waiting' ELSE 'dropped' END,
			CASE WHEN w.n < $6 THEN '' ELSE 'too many wait for this channel' END
		FROM (SELECT count(*) AS n FROM notice WHERE channel = $1 AND state = 'waiting') w
		WHERE $3::bigint = 0 OR NOT EXISTS (SELECT FROM notice WHERE hand = $3 AND channel = $1 AND made_at > $7)`,
		n.Channel, []byte(n.Body), n.Hand, now, n.Due, mostWaiting, n.Since,
	)
	if err != nil {
		return fmt.Errorf("keeping a notice for %s: %w", n.Channel, err)
	}
	return nil
}

// AddNotice lets one notice wait for its channel.
func (s *Store) AddNotice(ctx context.Context, n NewNotice, now time.Time) error {
	return addNotice(ctx, s.db, n, now)
}

// Notice is a notice on its way to a channel, or what became of it.
type Notice struct {
	ID      int64      `db:"id"`
	Channel string     `db:"channel"`
	Body    []byte     `db:"body"`
	MadeAt  time.Time  `db:"made_at"`
	Due     time.Time  `db:"due"`
	State   string     `db:"state"` // waiting, delivered, given up or dropped
	Message string     `db:"message"`
	Tries   int        `db:"tries"`
	NextAt  time.Time  `db:"next_at"`
	Answer  string     `db:"answer"`
	EndedAt *time.Time `db:"ended_at"`
}

const noticeColumns = `id, channel, body, made_at, due, state, message, tries, next_at, answer, ended_at`

// DueChannels returns the channels for which something is to be sent now.
func (s *Store) DueChannels(ctx context.Context, now time.Time) (names []string, err error) {
	err = s.db.SelectContext(
		ctx,
		&names,
		`SELECT DISTINCT channel FROM notice WHERE state = 'waiting' AND next_at <= $1 ORDER BY channel`,
		now,
	)
	if err != nil {
		return nil, fmt.Errorf("looking what is to be sent: %w", err)
	}
	return names, nil
}

// NextMessage returns the notices that the next message to a channel tells, and the name of
// that message: those of one that was tried before, or else as many as together says of how
// many wait. It is none where nothing is due.
func (s *Store) NextMessage(
	ctx context.Context, channel string, now time.Time, fresh string, together func(waiting int) int,
) (message string, notices []Notice, err error) {
	doing := func(err error) error { return fmt.Errorf("looking what is to be sent to %s: %w", channel, err) }
	err = s.db.GetContext(
		ctx,
		&message,
		`SELECT message FROM notice WHERE channel = $1 AND state = 'waiting' AND message <> '' AND next_at <= $2
		ORDER BY id LIMIT 1`,
		channel,
		now,
	)
	if errors.Is(err, sql.ErrNoRows) {
		var waiting int
		if err := s.db.GetContext(ctx, &waiting, `SELECT count(*) FROM notice WHERE channel = $1 AND state = 'waiting'
			AND message = '' AND next_at <= $2`, channel, now); err != nil {
			return "", nil, doing(err)
		}
		if waiting == 0 {
			return "", nil, nil
		}
		message = fresh
		if _, err := s.db.ExecContext(ctx, `UPDATE notice SET message = $3 WHERE id IN (SELECT id FROM notice
			WHERE channel = $1 AND state = 'waiting' AND message = '' AND next_at <= $2 ORDER BY id LIMIT $4)`,
			channel, now, message, together(waiting)); err != nil {
			return "", nil, doing(err)
		}
	} else if err != nil {
		return "", nil, doing(err)
	}
	err = s.db.SelectContext(
		ctx, &notices, `SELECT `+noticeColumns+` FROM notice WHERE message = $1 AND channel = $2 AND state = 'waiting'
		ORDER BY id`, message, channel,
	)
	if err != nil {
		return "", nil, doing(err)
	}
	return message, notices, nil
}

// Sent notes what became of a try to send a message: next is when it is tried again where it
// still waits.
func (s *Store) Sent(ctx context.Context, message, state, answer string, next, now time.Time) error {
	_, err := s.db.ExecContext(ctx, `UPDATE notice SET tries = tries + 1, state = $2, answer = $3, next_at = $4,
		ended_at = CASE WHEN $2 = 'waiting' THEN NULL ELSE $5::timestamptz END
		WHERE message = $1 AND state = 'waiting'`,
		message, state, answer, next, now)
	if err != nil {
		return fmt.Errorf("noting what became of a message: %w", err)
	}
	return nil
}

// SendAgain lets a notice that has ended wait once more, as a message of its own. It returns
// false where there is none.
func (s *Store) SendAgain(ctx context.Context, id int64, now time.Time) (bool, error) {
	done, err := s.db.ExecContext(
		ctx,
		`UPDATE notice SET state = 'waiting', message = '', tries = 0, due = $2, next_at = $2,
		answer = '', ended_at = NULL WHERE id = $1 AND state <> 'waiting'`,
		id,
		now,
	)
	if err != nil {
		return false, fmt.Errorf("sending notice %d again: %w", id, err)
	}
	n, err := done.RowsAffected()
	return n > 0, err
}

// Notice returns a notice; nil where there is none.
func (s *Store) Notice(ctx context.Context, id int64) (*Notice, error) {
	var n Notice
	err := s.db.GetContext(ctx, &n, `SELECT `+noticeColumns+` FROM notice WHERE id = $1`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading notice %d: %w", id, err)
	}
	return &n, nil
}

// Notices returns notices of channels, newest first, at most limit before a number (0: the
// newest).
func (s *Store) Notices(ctx context.Context, channels []string, before int64, limit int) ([]Notice, error) {
	out := []Notice{}
	err := s.db.SelectContext(ctx, &out, `SELECT `+noticeColumns+` FROM notice
		WHERE channel = ANY($1) AND ($2::bigint = 0 OR id < $2) ORDER BY id DESC LIMIT $3`, channels, before, limit)
	if err != nil {
		return nil, fmt.Errorf("reading notices: %w", err)
	}
	return out, nil
}

// Newest returns the small picture of the frame of a run that was done last, as JPEG; nothing
// where it has none.
func (s *Store) Newest(ctx context.Context, run int64) (jpeg []byte, err error) {
	err = s.db.GetContext(ctx, &jpeg, `SELECT t.jpeg FROM thumbnail t JOIN frame f USING (run, frame) WHERE t.run = $1
		ORDER BY f.seq DESC LIMIT 1`, run)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading the newest picture of run %d: %w", run, err)
	}
	return jpeg, nil
}

// DropNotices forgets notices that ended before a time, and those that wait for channels that
// are no more.
func (s *Store) DropNotices(ctx context.Context, before time.Time, channels []string) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM notice WHERE ended_at < $1 OR state = 'dropped' AND made_at < $1 OR
		state = 'waiting' AND NOT channel = ANY(COALESCE($2::text[], '{}'))`, before, channels)
	if err != nil {
		return fmt.Errorf("forgetting old notices: %w", err)
	}
	return nil
}
