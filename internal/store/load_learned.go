package store

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"vexillum/internal/core/farm"
)

// mostEvents bounds how far back a start looks for frames that were done or have failed.
const mostEvents = 20_000

func (l *loader) observations() (out []Observation, err error) {
	scan := func(row *sql.Rows) error {
		var o Observation
		var share []byte
		if err := row.Scan(
			&o.Run, &o.Frame, &o.Node, &o.Lease, &o.StartupSeconds, &o.RenderSeconds, &o.MemoryBytes, &o.Fetched.Bytes,
			&o.Fetched.Seconds, &share,
		); err != nil {
			return err
		}
		out = append(out, o)
		return json.Unmarshal(share, &out[len(out)-1].Share)
	}
	const what = `SELECT f.run, f.frame, f.node, f.lease, f.startup_seconds, f.render_seconds, f.memory_bytes,
		f.fetched_bytes, f.fetched_seconds, COALESCE(l.share, '{}') `
	err = l.each(scan, what+`FROM (
			SELECT id, done FROM (SELECT id, done, ended_at,
				row_number() OVER (PARTITION BY project, job ORDER BY ended_at DESC) AS newest FROM run
				WHERE NOT (`+openRuns+`) AND NOT isempty(done)) r
			WHERE newest <= 2 ORDER BY ended_at DESC LIMIT 2 * $1) r
		CROSS JOIN generate_series(0, $2 - 1) AS part
		CROSS JOIN LATERAL (SELECT lower(done) + (upper(done) - lower(done))::bigint * part / $2 AS first, lower(done) +
		(upper(done) - lower(done))::bigint * (part + 1) / $2 AS next) bin
		CROSS JOIN LATERAL (SELECT * FROM frame WHERE run = r.id AND frame >= bin.first AND frame < bin.next AND state =
		'done' ORDER BY frame LIMIT 1) f
		JOIN lease l ON l.id = f.lease
		ORDER BY f.run, f.seq`, jobsRemembered, observationsPerJob)
	if err != nil {
		return nil, err
	}
	err = l.each(
		scan,
		what+`FROM run r CROSS JOIN LATERAL (SELECT * FROM frame WHERE frame.run = r.id ORDER BY seq DESC LIMIT $1) f
		JOIN lease l ON l.id = f.lease WHERE r.`+openRuns+` ORDER BY f.seq`,
		observationsPerRun,
	)
	return out, err
}

func (l *loader) finished() (at []time.Time, since time.Time, err error) {
	err = l.each(func(row *sql.Rows) error {
		var t time.Time
		var done bool
		if err := row.Scan(&t, &done); err != nil {
			return err
		}
		if since.IsZero() {
			since = t
		}
		if done {
			at = append(at, t)
		}
		return nil
	}, `SELECT at, kind = 'frame done' FROM (SELECT seq, at, kind FROM event ORDER BY seq DESC LIMIT $1) e WHERE at >
		now() - interval '1 hour' ORDER BY seq`, mostEvents)
	return at, since, err
}

func (l *loader) newest() (map[farm.RunID]Newest, error) {
	out := map[farm.RunID]Newest{}
	err := l.each(func(row *sql.Rows) error {
		var id farm.RunID
		var n Newest
		err := row.Scan(&id, &n.Frame, &n.At)
		out[id] = n
		return err
	}, `SELECT r.id, f.frame, f.done_at FROM run r CROSS JOIN LATERAL
		(SELECT frame, done_at FROM frame WHERE frame.run = r.id AND done_at IS NOT NULL ORDER BY seq DESC LIMIT 1) f`)
	return out, err
}

// recalled reads Records that say something about who may be to blame, as the log keeps them.
var recalled = map[farm.Kind]func(body []byte) (farm.Record, error){
	farm.FrameFailed{}.Kind():   logged[farm.FrameFailed],
	farm.FrameDone{}.Kind():     logged[farm.FrameDone],
	farm.FramesRetried{}.Kind(): logged[farm.FramesRetried],
	farm.RunMoved{}.Kind():      logged[farm.RunMoved],
	farm.NodeHealth{}.Kind():    logged[farm.NodeHealth],
}

func logged[R farm.Record](body []byte) (farm.Record, error) {
	var r R
	err := json.Unmarshal(body, &r)
	return r, err
}

// recall lets the farm remember what the last events say about who may be to blame.
func (l *loader) recall() error {
	return l.each(func(row *sql.Rows) error {
		var kind farm.Kind
		var body []byte
		if err := row.Scan(&kind, &body); err != nil {
			return err
		}
		r, err := recalled[kind](body)
		if err != nil {
			return fmt.Errorf("reading what is told of %q: %w", kind, err)
		}
		l.state.Recall(r)
		return nil
	}, `SELECT kind, body FROM (SELECT seq, kind, body FROM event ORDER BY seq DESC LIMIT $1) e
		WHERE kind = ANY($2) AND body IS NOT NULL ORDER BY seq`, mostEvents, slices.Collect(maps.Keys(recalled)))
}

// spent adds up what the leases of projects took up that have ended.
func (l *loader) spent() error {
	return l.each(func(row *sql.Rows) error {
		var run farm.RunID
		var node farm.NodeID
		var share []byte
		var of farm.Share
		var seconds float64
		if err := row.Scan(&run, &node, &share, &seconds); err != nil {
			return err
		}
		if share != nil { // else it had the whole node
			if err := json.Unmarshal(share, &of); err != nil {
				return err
			}
		}
		if r := l.runs[run]; r != nil {
			l.state.PutSpent(r.run.Spec.Project, node, of, seconds)
		}
		return nil
	}, `SELECT run, node, share, sum(greatest(0, extract(epoch FROM ended_at - opened_at)))::float8 FROM lease
		WHERE ended_at IS NOT NULL GROUP BY run, node, share`)
}
