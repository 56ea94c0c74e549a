package store

import "vexillum/internal/core/farm"

// nodeKinds are the Records of machines.
var nodeKinds = map[farm.Kind]kept{
	farm.NodeEnrolled{}.Kind(): {
		statement: `WITH r AS (
			SELECT * FROM jsonb_to_recordset($1::jsonb) AS r(node bigint, name text, kind text, facts jsonb, key_hash
			text,
			at timestamptz)
		), used AS (
			UPDATE enrolment_key k SET uses_left = uses_left - u.n
			FROM (SELECT key_hash, count(*) AS n FROM r GROUP BY 1) u WHERE k.hash = u.key_hash
		)
		INSERT INTO node (id, name, kind, facts, session, reach, reach_since, duty, enrolled_at)
		SELECT node, name, kind, facts, 0, 'silent', at, 'on duty', at FROM r
		ON CONFLICT (id) DO UPDATE SET kind = excluded.kind, facts = excluded.facts, enrolled_at =
		excluded.enrolled_at`,
		touches: of(func(r farm.NodeEnrolled) (writes, reads []row) {
			return []row{node(r.Node)}, []row{named("key", r.KeyHash), anyName}
		}),
		bodiless: always,
	},
	farm.NodeStarted{}.Kind(): {
		statement: `WITH r AS (
			SELECT * FROM jsonb_to_recordset($1::jsonb) AS r(node bigint, session bigint, facts jsonb, kept jsonb, at
			timestamptz)
		), kept AS (
			UPDATE lease l SET session = k.session, ask = 0
			FROM (SELECT r.session, id::bigint FROM r, jsonb_array_elements_text(COALESCE(NULLIF(r.kept, 'null'), '[]'))
			id) k WHERE l.id = k.id
		)
		UPDATE node SET session = r.session, facts = r.facts, reach = 'online', reach_since = r.at FROM r WHERE node.id
		= r.node`,
		touches: of(func(r farm.NodeStarted) (writes, reads []row) {
			writes = []row{node(r.Node)}
			for _, id := range r.Kept {
				writes = append(writes, lease(id))
			}
			return writes, nil
		}),
	},
	farm.NodeReach{}.Kind(): {
		statement: `UPDATE node SET reach = r.reach, reach_since = r.at
		FROM jsonb_to_recordset($1::jsonb) AS r(node bigint, reach text, at timestamptz) WHERE id = r.node`,
		touches: of(func(r farm.NodeReach) (writes, reads []row) {
			return []row{node(r.Node)}, nil
		}),
	},
	farm.NodeDuty{}.Kind(): {
		statement: `UPDATE node SET duty = r.duty, duty_reason = r.reason, duty_since = r.at, duty_now = r.now,
			off_until = r.off_until
		FROM jsonb_to_recordset($1::jsonb) AS r(node bigint, duty text, reason text, at timestamptz, now boolean,
		off_until timestamptz) WHERE id = r.node`,
		touches: of(func(r farm.NodeDuty) (writes, reads []row) {
			return []row{node(r.Node)}, nil
		}),
	},
	farm.NodeHealth{}.Kind(): {
		statement: `UPDATE node SET
			health = CASE WHEN r.device IS NULL THEN r.health ELSE node.health END,
			health_why = CASE WHEN r.device IS NULL THEN r.reason ELSE health_why END,
			health_by = CASE WHEN r.device IS NULL THEN COALESCE(r.by, '') ELSE health_by END,
			health_at = CASE WHEN r.device IS NULL THEN r.at ELSE health_at END,
			trial_at = CASE WHEN r.device IS NULL THEN r.trial_at ELSE node.trial_at END,
			trial_pause = CASE WHEN r.device IS NULL AND (COALESCE(r.pause_seconds, 0) > 0 OR COALESCE(r.by, '') <>
			'triage') THEN COALESCE(r.pause_seconds, 0) ELSE trial_pause END,
			aside = CASE WHEN r.device IS NULL THEN aside ELSE COALESCE(aside, '{}') || jsonb_build_object(r.device,
			jsonb_strip_nulls(jsonb_build_object('why', r.reason, 'at', r.at, 'trial_at', r.trial_at, 'pause_seconds',
			COALESCE(r.pause_seconds, 0), 'back', r.health = 'fine'))) END
		FROM jsonb_to_recordset($1::jsonb) AS r(node bigint, health text, by text, reason text, device text, trial_at
		timestamptz, pause_seconds float8, at timestamptz) WHERE id = r.node`,
		touches: of(func(r farm.NodeHealth) (writes, reads []row) {
			return []row{node(r.Node)}, nil
		}),
	},
	farm.NodeSet{}.Kind(): {
		statement: `WITH r AS (
			SELECT * FROM jsonb_to_recordset($1::jsonb) AS r(node bigint, version bigint, settings jsonb, actor text,
			reason text, at timestamptz)
		), kept AS (
			INSERT INTO node_settings (node, version, settings, actor, reason, at) SELECT node, version, settings,
			actor,
			reason, at FROM r
		)
		UPDATE node SET settings = r.settings, version = r.version FROM r WHERE node.id = r.node`,
		// its rows of pools are looked at when it is read, not when it is written
		touches: of(func(r farm.NodeSet) (writes, reads []row) {
			return []row{node(r.Node)}, nil
		}),
	},
	farm.NodeAnnounced{}.Kind(): {
		statement: `INSERT INTO node (id, name, kind, facts, session, reach, reach_since, duty)
		SELECT node, name, kind, '{}', 0, 'silent', at, 'on duty'
		FROM jsonb_to_recordset($1::jsonb) AS r(node bigint, name text, kind text, at timestamptz)`,
		touches: of(func(r farm.NodeAnnounced) (writes, reads []row) {
			return []row{node(r.Node)}, []row{anyName}
		}),
	},
	farm.NodeRenamed{}.Kind(): {
		statement: `UPDATE node SET name = r.name FROM jsonb_to_recordset($1::jsonb) AS r(node bigint, name text) WHERE
			id = r.node`,
		touches: of(func(r farm.NodeRenamed) (writes, reads []row) {
			return []row{node(r.Node), anyName}, nil
		}),
	},
	farm.NodeRetired{}.Kind(): {
		statement: `WITH r AS (
			SELECT * FROM jsonb_to_recordset($1::jsonb) AS r(node bigint, at timestamptz)
		), shut AS (
			DELETE FROM token t USING r WHERE t.node = r.node
		)
		UPDATE node SET retired_at = r.at FROM r WHERE id = r.node`,
		touches: of(func(r farm.NodeRetired) (writes, reads []row) {
			return []row{node(r.Node), anyName, nodeToken(r.Node)}, nil
		}),
	},
	farm.NodeFound{}.Kind(): {
		statement: `UPDATE node SET facts = jsonb_set(
			CASE WHEN r.speed > 0 THEN jsonb_set(facts, '{speed}', to_jsonb(r.speed)) ELSE facts END,
			'{renderers}', COALESCE(NULLIF(r.renderers, 'null'), '[]'))
		FROM jsonb_to_recordset($1::jsonb) AS r(node bigint, renderers jsonb, speed double precision)
		WHERE node.id = r.node`,
		touches: of(func(r farm.NodeFound) (writes, reads []row) {
			return []row{node(r.Node)}, nil
		}),
	},
}
