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

// statements says for each rare kind of Record how a row of it is written. Each
// takes one JSON array of Records, so that many of a kind cost one statement.
var statements = map[string]string{
	"place set": `INSERT INTO place (name, paths, loads)
		SELECT name, paths, COALESCE(loads, 0) FROM jsonb_to_recordset($1::jsonb) AS r(name text, paths jsonb, loads int)
		ON CONFLICT (name) DO UPDATE SET paths = excluded.paths, loads = excluded.loads`,

	"licence set": `WITH r AS (
			SELECT * FROM jsonb_to_recordset($1::jsonb) AS r(name text, count int, lowered int, lowered_until timestamptz)
		), gone AS (
			DELETE FROM licence l USING r WHERE l.name = r.name AND r.count < 0
		)
		INSERT INTO licence (name, count, lowered, lowered_until) SELECT name, count, lowered, lowered_until FROM r WHERE count >= 0
		ON CONFLICT (name) DO UPDATE SET count = excluded.count, lowered = excluded.lowered, lowered_until = excluded.lowered_until`,

	"run set": `UPDATE run SET terms = r.terms FROM jsonb_to_recordset($1::jsonb) AS r(run bigint, terms jsonb) WHERE id = r.run`,

	"project set": `INSERT INTO project (name, title, weight, scenes, frames)
		SELECT name, title, weight, scenes, frames
		FROM jsonb_to_recordset($1::jsonb) AS r(name text, title text, weight float8, scenes text, frames text)
		ON CONFLICT (name) DO UPDATE SET title = excluded.title, weight = excluded.weight, scenes = excluded.scenes, frames = excluded.frames`,

	"place dropped": `WITH r AS (
			SELECT name FROM jsonb_to_recordset($1::jsonb) AS r(name text)
		), released AS (
			DELETE FROM stay s USING r WHERE s.kind = 'place' AND s.name = r.name
		)
		DELETE FROM place p USING r WHERE p.name = r.name`,

	"project dropped": `WITH r AS (
			SELECT name FROM jsonb_to_recordset($1::jsonb) AS r(name text)
		), settings AS (
			DELETE FROM launch_settings l USING r WHERE l.project = r.name
		)
		DELETE FROM project p USING r WHERE p.name = r.name`,

	"person set": `INSERT INTO person (name, role, password_hash, created_at)
		SELECT name, role, password_hash, at
		FROM jsonb_to_recordset($1::jsonb) AS r(name text, role text, password_hash text, at timestamptz)
		ON CONFLICT (name) DO UPDATE SET role = excluded.role, password_hash = excluded.password_hash`,

	"person removed": `WITH r AS (
			SELECT name FROM jsonb_to_recordset($1::jsonb) AS r(name text)
		), ended AS (
			DELETE FROM token t USING r WHERE t.person = r.name
		)
		DELETE FROM person p USING r WHERE p.name = r.name`,

	"token issued": `INSERT INTO token (hash, kind, person, node, label, created_at, expires_at)
		SELECT hash, kind, NULLIF(person, ''), NULLIF(node, 0), label, at, expires_at
		FROM jsonb_to_recordset($1::jsonb) AS r(hash text, kind text, person text, node bigint, label text, at timestamptz, expires_at timestamptz)`,

	"token revoked": `DELETE FROM token USING jsonb_to_recordset($1::jsonb) AS r(hash text) WHERE token.hash = r.hash`,

	"key issued": `INSERT INTO enrolment_key (hash, label, created_by, created_at, expires_at, uses_left, pools, returns)
		SELECT hash, label, created_by, at, expires_at, uses, COALESCE(NULLIF(pools, 'null'), '[]'), COALESCE(NULLIF(returns, 'null'), '[]')
		FROM jsonb_to_recordset($1::jsonb) AS r(hash text, label text, created_by text, at timestamptz, expires_at timestamptz, uses int, pools jsonb, returns jsonb)`,

	"key revoked": `UPDATE enrolment_key k SET revoked_at = r.at FROM jsonb_to_recordset($1::jsonb) AS r(hash text, at timestamptz) WHERE k.hash = r.hash`,

	"pool set": `INSERT INTO pool (name, projects)
		SELECT name, COALESCE(NULLIF(projects, 'null'), '[]') FROM jsonb_to_recordset($1::jsonb) AS r(name text, projects jsonb)
		ON CONFLICT (name) DO UPDATE SET projects = excluded.projects`,

	"stay set": `WITH r AS (
			SELECT of->>'kind' AS kind, of->>'name' AS name, stay FROM jsonb_to_recordset($1::jsonb) AS r(of jsonb, stay jsonb))
		INSERT INTO stay (kind, name, stay) SELECT kind, name, stay FROM r ON CONFLICT (kind, name) DO UPDATE SET stay = excluded.stay`,

	"launch settings set": `WITH r AS (
			SELECT of->>'project' AS project, of->>'recipe' AS recipe, env FROM jsonb_to_recordset($1::jsonb) AS r(of jsonb, env jsonb))
		INSERT INTO launch_settings (project, recipe, env) SELECT project, recipe, env FROM r
		ON CONFLICT (project, recipe) DO UPDATE SET env = excluded.env`,

	"pool dropped": `DELETE FROM pool p USING jsonb_to_recordset($1::jsonb) AS r(name text) WHERE p.name = r.name`,

	"node announced": `INSERT INTO node (id, name, kind, facts, session, reach, reach_since, duty)
		SELECT node, name, kind, '{}', 0, 'silent', at, 'on duty'
		FROM jsonb_to_recordset($1::jsonb) AS r(node bigint, name text, kind text, at timestamptz)`,

	"node set": `WITH r AS (
			SELECT * FROM jsonb_to_recordset($1::jsonb) AS r(node bigint, version bigint, settings jsonb, actor text, reason text, at timestamptz)
		), kept AS (
			INSERT INTO node_settings (node, version, settings, actor, reason, at) SELECT node, version, settings, actor, reason, at FROM r
		)
		UPDATE node SET settings = r.settings, version = r.version FROM r WHERE node.id = r.node`,

	"node health": `UPDATE node SET health = r.health, health_why = r.reason, health_by = COALESCE(r.by, '')
		FROM jsonb_to_recordset($1::jsonb) AS r(node bigint, health text, by text, reason text) WHERE id = r.node`,

	"node renamed": `UPDATE node SET name = r.name FROM jsonb_to_recordset($1::jsonb) AS r(node bigint, name text) WHERE id = r.node`,

	"node retired": `WITH r AS (
			SELECT * FROM jsonb_to_recordset($1::jsonb) AS r(node bigint, at timestamptz)
		), shut AS (
			DELETE FROM token t USING r WHERE t.node = r.node
		)
		UPDATE node SET retired_at = r.at FROM r WHERE id = r.node`,

	"node enrolled": `WITH r AS (
			SELECT * FROM jsonb_to_recordset($1::jsonb) AS r(node bigint, name text, kind text, facts jsonb, key_hash text, at timestamptz)
		), used AS (
			UPDATE enrolment_key k SET uses_left = uses_left - u.n
			FROM (SELECT key_hash, count(*) AS n FROM r GROUP BY 1) u WHERE k.hash = u.key_hash
		)
		INSERT INTO node (id, name, kind, facts, session, reach, reach_since, duty, enrolled_at)
		SELECT node, name, kind, facts, 0, 'silent', at, 'on duty', at FROM r
		ON CONFLICT (id) DO UPDATE SET kind = excluded.kind, facts = excluded.facts, enrolled_at = excluded.enrolled_at`,

	"node started": `WITH r AS (
			SELECT * FROM jsonb_to_recordset($1::jsonb) AS r(node bigint, session bigint, facts jsonb, kept jsonb, at timestamptz)
		), kept AS (
			UPDATE lease l SET session = k.session, ask = 0
			FROM (SELECT r.session, id::bigint FROM r, jsonb_array_elements_text(COALESCE(NULLIF(r.kept, 'null'), '[]')) id) k WHERE l.id = k.id
		)
		UPDATE node SET session = r.session, facts = r.facts, reach = 'online', reach_since = r.at FROM r WHERE node.id = r.node`,

	"node reach": `UPDATE node SET reach = r.reach, reach_since = r.at
		FROM jsonb_to_recordset($1::jsonb) AS r(node bigint, reach text, at timestamptz) WHERE id = r.node`,

	"node duty": `UPDATE node SET duty = r.duty, duty_reason = r.reason, duty_since = r.at, duty_now = r.now, off_until = r.off_until
		FROM jsonb_to_recordset($1::jsonb) AS r(node bigint, duty text, reason text, at timestamptz, now boolean, off_until timestamptz) WHERE id = r.node`,

	"run submitted": `INSERT INTO run (id, job, project, kind, number, spec, state, reason, queue_order, submit_key, submit_digest, submitted_at)
		SELECT run, spec->>'job', spec->>'project', spec->>'kind', (spec->>'number')::int, spec, state, reason, "order", NULLIF(key, ''), COALESCE(digest, ''), at
		FROM jsonb_to_recordset($1::jsonb) AS r(run bigint, spec jsonb, state text, reason text, "order" bigint, key text, digest text, at timestamptz)`,

	"run moved": `UPDATE run SET state = r.state, reason = r.reason, held_for = COALESCE(r.held, ''),
			released_at = CASE WHEN run.state = 'held' AND r.state IN ('queued', 'rendering') THEN r.at ELSE released_at END,
			started_at = CASE WHEN r.state = 'rendering' THEN COALESCE(started_at, r.at) ELSE started_at END,
			ended_at = CASE WHEN r.state IN ('done', 'done with gaps', 'failed', 'cancelled') THEN r.at END
		FROM jsonb_to_recordset($1::jsonb) AS r(run bigint, state text, held text, reason text, at timestamptz) WHERE id = r.run`,

	"run kept": `UPDATE run SET done = r.done::int4multirange, done_seq = r.seq
		FROM jsonb_to_recordset($1::jsonb) AS r(run bigint, done text, seq bigint) WHERE id = r.run`,

	"lease extended": `UPDATE lease SET given = given + frame_set(r.frames), trimmed = trimmed - frame_set(r.frames), ask = r.ask, reason = r.reason
		FROM jsonb_to_recordset($1::jsonb) AS r(lease bigint, ask bigint, frames text, reason text) WHERE id = r.lease`,

	"lease trimmed": `UPDATE lease SET trimmed = trimmed + frame_set(r.frames)
		FROM jsonb_to_recordset($1::jsonb) AS r(lease bigint, frames text) WHERE id = r.lease`,

	// No lease that once held the frame has it back.
	"delivery lost": `WITH r AS (
			SELECT run, frame, hash, seq FROM jsonb_to_recordset($1::jsonb) AS p(run bigint, frame int, hash text, seq bigint)
		), gone AS (
			UPDATE lease l SET trimmed = trimmed + c.frames
			FROM (SELECT run, range_agg(int4range(frame, frame, '[]')) AS frames FROM r GROUP BY run) c WHERE l.run = c.run AND l.ended_at IS NULL
		)
		UPDATE frame f SET state = 'lost', lost_hashes = lost_hashes || r.hash, seq = r.seq FROM r WHERE f.run = r.run AND f.frame = r.frame`,

	"frame failed": `WITH r AS (
			SELECT * FROM jsonb_to_recordset($1::jsonb) AS p(seq bigint, run bigint, frame int, lease bigint, launch int, node bigint,
				cause text, message text, counts boolean, at timestamptz)
		), gone AS (
			UPDATE lease l SET trimmed = trimmed + c.frames
			FROM (SELECT lease, range_agg(int4range(frame, frame, '[]')) AS frames FROM r GROUP BY lease) c WHERE l.id = c.lease
		)
		INSERT INTO attempt (seq, run, frame, lease, launch, node, cause, message, counts, at)
		SELECT seq, run, frame, lease, launch, node, cause, message, counts, at FROM r`,

	"frame parked": `UPDATE run SET parked = parked + r.frames
		FROM (SELECT run, range_agg(int4range(frame, frame, '[]')) AS frames
			FROM jsonb_to_recordset($1::jsonb) AS p(run bigint, frame int) GROUP BY run) r WHERE id = r.run`,

	"frames retried": `WITH r AS (
			SELECT run, frame_set(frames) AS frames FROM jsonb_to_recordset($1::jsonb) AS p(run bigint, frames text)
		), forgiven AS (
			UPDATE attempt a SET forgiven = true FROM r WHERE a.run = r.run AND r.frames @> a.frame
		)
		UPDATE run SET parked = parked - r.frames FROM r WHERE id = r.run`,

	// The rows stay, as the pictures do; they tell nothing of what is done.
	"frames redone": `WITH r AS (
			SELECT run, frame_set(frames) AS frames FROM jsonb_to_recordset($1::jsonb) AS p(run bigint, frames text)
		), again AS (
			UPDATE frame f SET state = 'redo', lost_hashes = '{}' FROM r WHERE f.run = r.run AND r.frames @> f.frame
		), forgiven AS (
			UPDATE attempt a SET forgiven = true FROM r WHERE a.run = r.run AND r.frames @> a.frame
		), gone AS (
			UPDATE lease l SET given = given - r.frames FROM r WHERE l.run = r.run
		)
		UPDATE run SET done = done - r.frames, redo = redo + r.frames FROM r WHERE id = r.run`,

	"audited": `INSERT INTO audit (seq, at, actor, action, subject, before, after)
		SELECT seq, at, actor, action, subject, "from", "to"
		FROM jsonb_to_recordset($1::jsonb) AS r(seq bigint, at timestamptz, actor text, action text, subject text, "from" text, "to" text)`,
}

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
		query, ok := statements[g.kind]
		if !ok {
			return nil, fmt.Errorf("no statement for %q", g.kind)
		}
		batch.Queue(query, g.rows.text())
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
