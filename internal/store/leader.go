package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"
)

// Lead is the right to commit. It ends when another service claims it.
type Lead struct {
	Epoch int64
	Batch int64
	Seq   int64 // of the last Record committed
}

// Leader is who has the right to commit, as the database reports it.
type Leader struct {
	Epoch   int64
	Batch   int64
	Beat    string // sign of life; it means something only by changing
	Holder  string // name of the service; empty when it has been given back
	Address string // where it is reached; empty when not known
	Socket  string // machine and port that it listens on, which only one living process can; empty when not known
}

// Released reports whether the right was given back, so that nobody needs to
// be waited for.
func (l Leader) Released() bool { return l.Holder == "" }

// ErrDeposed says that another service has become the active one.
var ErrDeposed = errors.New("another service has taken over this database; this one must not commit any more")

// ErrNoLeader says that the database has no tables yet.
var ErrNoLeader = errors.New("the database is new")

// Leader reads who is active. It works on every form of the database, so that
// a service can stand by before it may migrate.
func (s *Store) Leader(ctx context.Context) (Leader, error) {
	var l Leader
	var there bool
	if err := s.leader.QueryRowContext(ctx, `SELECT to_regclass('leader') IS NOT NULL`).Scan(&there); err != nil {
		return l, fmt.Errorf("reading who is active: %w", err)
	}
	if !there {
		return l, ErrNoLeader
	}
	err := s.leader.QueryRowContext(ctx, `SELECT epoch, batch, beat::text, holder,
		COALESCE(to_jsonb(leader)->>'address', ''), COALESCE(to_jsonb(leader)->>'socket', '') FROM leader`).
		Scan(&l.Epoch, &l.Batch, &l.Beat, &l.Holder, &l.Address, &l.Socket)
	if errors.Is(err, sql.ErrNoRows) {
		return l, ErrNoLeader
	}
	if err != nil {
		return l, fmt.Errorf("reading who is active: %w", err)
	}
	return l, nil
}

// Claim makes this process the active service, if the leader is still exactly
// as it was seen: one that gave a sign of life since keeps the right, and
// ErrDeposed is returned.
func (s *Store) Claim(ctx context.Context, seen Leader, holder string) (Lead, error) {
	var l Lead
	// A batch may hang half sent, and hold the leader's row for ever. Nobody
	// has a right to write who is not active, so all writers are sent away.
	s.writer.SetMaxIdleConns(0)
	s.writer.SetMaxIdleConns(2)
	_, err := s.leader.ExecContext(ctx, `SELECT pg_terminate_backend(a.pid) FROM pg_stat_activity a, leader
		WHERE epoch = $1 AND batch = $2 AND beat::text = $3 AND application_name = $4 AND datname =
		current_database()`, seen.Epoch, seen.Batch, seen.Beat, writerName)
	if err != nil {
		return Lead{}, fmt.Errorf("sending the last service's writers away: %w", err)
	}
	err = s.leader.QueryRowContext(ctx,
		`UPDATE leader SET epoch = epoch + 1, batch = 0, beat = clock_timestamp(), holder = $4
		WHERE epoch = $1 AND batch = $2 AND beat::text = $3 RETURNING epoch, batch,
		seq`, seen.Epoch, seen.Batch, seen.Beat, holder).
		Scan(&l.Epoch, &l.Batch, &l.Seq)
	if errors.Is(err, sql.ErrNoRows) {
		return Lead{}, ErrDeposed
	}
	if err != nil {
		return Lead{}, fmt.Errorf("claiming the database: %w", err)
	}
	return l, nil
}

// Announce says where the active service is reached and why it is active.
func (s *Store) Announce(ctx context.Context, epoch int64, address, socket, reason string) error {
	return s.asLeader(
		ctx, "announcing the active service",
		`UPDATE leader SET address = $2, socket = $3, reason = $4, since = now() WHERE epoch = $1`,
		epoch, address, socket, reason,
	)
}

// leastOutage is the shortest time without an active service that is kept as an outage.
const leastOutage = 2 * time.Second

// NoteOutage keeps that no service was active since a beat, see [Leader.Beat], until now. Gaps
// shorter than two seconds are not kept.
func (s *Store) NoteOutage(ctx context.Context, epoch int64, since, why string) error {
	_, err := s.leader.ExecContext(
		ctx, `INSERT INTO outage (epoch, began, ended, why)
			SELECT $1, $2::timestamptz, clock_timestamp(), $3
			WHERE clock_timestamp() - $2::timestamptz >= make_interval(secs => $4) ON CONFLICT DO NOTHING`,
		epoch, since, why, leastOutage.Seconds(),
	)
	if err != nil {
		return fmt.Errorf("keeping an outage: %w", err)
	}
	return nil
}

// Outage is a time in which no service was active.
type Outage struct {
	Began time.Time `db:"began"`
	Ended time.Time `db:"ended"`
	Why   string    `db:"why"`
}

// Outages returns the outages that overlap a time span, the oldest first, at most limit.
func (s *Store) Outages(ctx context.Context, from, to time.Time, limit int) ([]Outage, error) {
	out := []Outage{}
	err := s.db.SelectContext(
		ctx, &out, `SELECT began, ended, why FROM outage WHERE ended >= $1 AND began <= $2 ORDER BY began LIMIT $3`,
		from, to, limit,
	)
	if err != nil {
		return nil, fmt.Errorf("reading outages: %w", err)
	}
	return out, nil
}

// Beat reports that the active service lives. It returns ErrDeposed if it is no
// longer the active one.
func (s *Store) Beat(ctx context.Context, epoch int64) error {
	return s.asLeader(ctx, "writing the beat", `UPDATE leader SET beat = clock_timestamp() WHERE epoch = $1`, epoch)
}

// Release gives the right to commit back, so that another service need not
// wait until this one counts as dead.
func (s *Store) Release(ctx context.Context, epoch int64) error {
	return s.asLeader(
		ctx, "giving the database back",
		`UPDATE leader SET holder = '', batch = batch + 1, beat = clock_timestamp() WHERE epoch = $1`,
		epoch,
	)
}

func (s *Store) asLeader(ctx context.Context, doing, query string, args ...any) error {
	res, err := s.leader.ExecContext(ctx, query, args...)
	if err != nil {
		return fmt.Errorf("%s: %w", doing, err)
	}
	if n, err := res.RowsAffected(); err == nil && n == 0 {
		return ErrDeposed
	}
	return nil
}

// Member is a service that shares the database.
type Member struct {
	Name    string
	Address string
	Version string
	Seen    time.Time
}

// Appear reports that a service is there, active or standing by.
func (s *Store) Appear(ctx context.Context, name, address, version string) error {
	_, err := s.leader.ExecContext(ctx, `INSERT INTO member (name, address, version, seen) VALUES ($1, $2, $3, now())
		ON CONFLICT (name) DO UPDATE SET address = excluded.address, version = excluded.version, seen =
		now()`, name, address, version)
	if err != nil {
		return fmt.Errorf("telling that this service is there: %w", err)
	}
	return nil
}

// Members returns the services that were there within the given time.
func (s *Store) Members(ctx context.Context, within time.Duration) ([]Member, error) {
	rows, err := s.leader.QueryContext(
		ctx,
		`SELECT name, address, version, seen FROM member WHERE seen > now() - make_interval(secs => $1) ORDER BY name`,
		within.Seconds(),
	)
	if err != nil {
		return nil, fmt.Errorf("reading which services are there: %w", err)
	}
	defer rows.Close()
	var out []Member
	for rows.Next() {
		var m Member
		if err := rows.Scan(&m.Name, &m.Address, &m.Version, &m.Seen); err != nil {
			return nil, fmt.Errorf("reading which services are there: %w", err)
		}
		out = append(out, m)
	}
	return out, rows.Err()
}

// Life returns which life of which farm the database holds.
func (s *Store) Life(ctx context.Context) (string, error) {
	var life string
	if err := s.db.GetContext(ctx, &life, `SELECT life FROM farm`); err != nil {
		return "", fmt.Errorf("reading which farm this is: %w", err)
	}
	return life, nil
}

// Restored makes the database another life of its farm after it was read from
// a backup: nobody is active, and what nodes hold of the life before is not
// taken for its own. It brings the database to the newest form and returns how
// many runs it holds.
func (s *Store) Restored(ctx context.Context) (runs int, err error) {
	if err := s.Migrate(ctx); err != nil {
		return 0, err
	}
	for _, query := range []string{`UPDATE farm SET life = gen_random_uuid()::text`, `UPDATE leader SET holder = '',
		socket = '', epoch = epoch + 1, batch = 0`, `DELETE FROM member`} {
		if _, err := s.db.ExecContext(ctx, query); err != nil {
			return 0, fmt.Errorf("beginning another life of the farm: %w", err)
		}
	}
	if err := s.db.GetContext(ctx, &runs, `SELECT count(*) FROM run`); err != nil {
		return 0, fmt.Errorf("counting the runs: %w", err)
	}
	return runs, nil
}
