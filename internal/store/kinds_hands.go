package store

import "vexillum/internal/core/farm"

// handKinds are the Records of what needs a person, of who is told, and of what is held or waited for.
var handKinds = map[farm.Kind]kept{
	farm.HandRaised{}.Kind(): {
		statement: `INSERT INTO hand (id, of, project, run, node, sentence, evidence, count, raised_at, last_at)
		SELECT id, of, COALESCE(project, ''), (of->>'run')::bigint, (of->>'node')::bigint, sentence, evidence,
			count, raised_at, last_at
		FROM jsonb_to_recordset($1::jsonb) AS r(id bigint, of jsonb, project text, sentence text,
			evidence text, count int, raised_at timestamptz, last_at timestamptz)
		ON CONFLICT (id) DO UPDATE SET sentence = excluded.sentence,
			evidence = excluded.evidence, count = excluded.count, last_at = excluded.last_at, ended_at = NULL,
			resolved_by = '', resolved_at = NULL, note = ''`,
		touches: of(func(r farm.HandRaised) (writes, reads []row) {
			return []row{hand(r.ID)}, nil
		}),
	},
	farm.HandEnded{}.Kind(): {
		statement: `UPDATE hand SET ended_at = r.at,
			sentence = CASE WHEN r.sentence <> '' THEN r.sentence ELSE hand.sentence END,
			evidence = CASE WHEN r.sentence <> '' THEN COALESCE(r.evidence, '') ELSE hand.evidence END
		FROM jsonb_to_recordset($1::jsonb) AS r(hand bigint, sentence text, evidence text, at timestamptz)
		WHERE hand.id = r.hand`,
		touches: of(func(r farm.HandEnded) (writes, reads []row) {
			return []row{hand(r.Hand)}, nil
		}),
	},
	farm.HandActed{}.Kind(): {
		statement: `WITH r AS (
			SELECT * FROM jsonb_to_recordset($1::jsonb) AS p(hand bigint, of jsonb, act text, by text,
			until timestamptz, note text, at timestamptz)
		), looked AS (
			UPDATE run SET looked_at = CASE r.act WHEN 'resolve' THEN r.at END FROM r
			WHERE run.id = (r.of->>'run')::bigint AND r.act IN ('resolve', 'reopen')
			AND r.of->>'kind' IN ('parked', 'failed')
		)
		UPDATE hand SET
			taken_by = CASE r.act WHEN 'take' THEN r.by WHEN 'leave' THEN '' ELSE taken_by END,
			taken_at = CASE r.act WHEN 'take' THEN r.at WHEN 'leave' THEN NULL ELSE taken_at END,
			snoozed_by = CASE r.act WHEN 'snooze' THEN r.by WHEN 'wake' THEN '' ELSE snoozed_by END,
			snoozed_until = CASE r.act WHEN 'snooze' THEN r.until WHEN 'wake' THEN NULL ELSE snoozed_until END,
			resolved_by = CASE r.act WHEN 'resolve' THEN r.by WHEN 'reopen' THEN '' ELSE resolved_by END,
			resolved_at = CASE r.act WHEN 'resolve' THEN r.at WHEN 'reopen' THEN NULL ELSE resolved_at END,
			note = CASE r.act WHEN 'resolve' THEN COALESCE(r.note, '') WHEN 'reopen' THEN '' ELSE hand.note END
		FROM r WHERE hand.id = r.hand`,
		touches: of(func(r farm.HandActed) (writes, reads []row) {
			if r.Of.Run != 0 {
				return []row{hand(r.Hand), run(r.Of.Run)}, nil
			}
			return []row{hand(r.Hand)}, nil
		}),
	},
	farm.ChannelSet{}.Kind(): {
		statement: `INSERT INTO channel (name, body) SELECT r->>'name', r - 'at' - 'seq'
		FROM jsonb_array_elements($1::jsonb) AS r ON CONFLICT (name) DO UPDATE SET body = excluded.body`,
		touches: of(func(r farm.ChannelSet) (writes, reads []row) {
			return []row{named("channel", r.Name)}, nil
		}),
		bodiless: func(farm.Record) bool { return true }, // it has a secret
	},
	farm.ChannelDropped{}.Kind(): {
		statement: `DELETE FROM channel c USING jsonb_to_recordset($1::jsonb) AS r(name text) WHERE c.name = r.name`,
		touches: of(func(r farm.ChannelDropped) (writes, reads []row) {
			return []row{named("channel", r.Name)}, nil
		}),
	},
	farm.OnCallSet{}.Kind(): {
		statement: `INSERT INTO on_call (calendar) SELECT calendar
		FROM jsonb_to_recordset($1::jsonb) AS r(calendar text)
		ON CONFLICT (one) DO UPDATE SET calendar = excluded.calendar`,
		touches: of(func(farm.OnCallSet) (writes, reads []row) {
			return []row{named("on call", "")}, nil
		}),
	},
	farm.WaitSet{}.Kind(): {
		statement: `WITH r AS (
			SELECT of->>'kind' AS kind, of->>'name' AS name, COALESCE(of->>'version', '') AS version, wait
			FROM jsonb_to_recordset($1::jsonb) AS r(of jsonb, wait jsonb)
		), over AS (
			DELETE FROM wait w USING r WHERE (w.kind, w.name, w.version) = (r.kind, r.name, r.version) AND
			COALESCE(r.wait, 'null') = 'null'
		)
		INSERT INTO wait (kind, name, version, wait) SELECT kind, name, version, wait FROM r
		WHERE COALESCE(r.wait, 'null') <> 'null'
		ON CONFLICT (kind, name, version) DO UPDATE SET wait = excluded.wait`,
		touches: of(func(r farm.WaitSet) (writes, reads []row) {
			return []row{named("wait", r.Of.String())}, nil
		}),
	},
	farm.FreezeSet{}.Kind(): {
		statement: `WITH r AS (
			SELECT of->>'kind' AS kind, of->>'name' AS name, stay FROM jsonb_to_recordset($1::jsonb) AS r(of jsonb, stay
			jsonb))
		INSERT INTO stay (kind, name, stay) SELECT kind, name, stay FROM r ON CONFLICT (kind, name) DO UPDATE SET stay =
		excluded.stay`,
		touches: of(func(r farm.FreezeSet) (writes, reads []row) {
			return []row{named("stay", r.Of.String())}, nil
		}),
	},
}
