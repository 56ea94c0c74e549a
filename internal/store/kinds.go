package store

import "vexillum/internal/core/farm"

// kept says how a kind of Record is kept.
type kept struct {
	// statement writes Records of a rare kind. It takes one JSON array of them, so
	// that many of a kind cost one statement.
	statement string
	// columns gathers Records of a frequent kind instead.
	columns func() columns
	// touches returns the rows that a Record writes, and those that it needs to be
	// there as they are; nil where it stands by itself.
	touches func(farm.Record) (writes, reads []row)
	// bodiless says of which the contents are left out of the log: secrets, and what
	// stands in a table of its own word for word; nil: of none.
	bodiless func(farm.Record) bool
}

// kinds is the table of all kinds of Records.
var kinds = map[farm.Kind]kept{
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
	farm.RunSet{}.Kind(): {
		statement: `UPDATE run SET terms = r.terms FROM jsonb_to_recordset($1::jsonb) AS r(run bigint, terms jsonb)
			WHERE id = r.run`,
		touches: of(func(r farm.RunSet) (writes, reads []row) {
			return []row{run(r.Run)}, nil
		}),
	},
	farm.RunSubmitted{}.Kind(): {
		statement: `INSERT INTO run (id, job, project, kind, number, spec, state, reason, queue_order, submit_key,
			submit_digest, submitted_at)
		SELECT run, spec->>'job', spec->>'project', spec->>'kind', (spec->>'number')::int, spec, state, reason, "order",
		NULLIF(key, ''), COALESCE(digest, ''), at
		FROM jsonb_to_recordset($1::jsonb) AS r(run bigint, spec jsonb, state text, reason text, "order" bigint, key
		text, digest text, at timestamptz)`,
		touches: of(func(r farm.RunSubmitted) (writes, reads []row) {
			return []row{run(r.Run)}, []row{named("project", r.Spec.Project)}
		}),
	},
	farm.RunMoved{}.Kind(): {
		statement: `UPDATE run SET state = r.state, reason = r.reason, held_for = COALESCE(r.held, ''),
			found_scene = CASE WHEN r.held = 'changed' THEN COALESCE(r.scene, '')
			WHEN COALESCE(r.scene, '') <> '' THEN '' ELSE found_scene END,
			taken_scene = CASE WHEN COALESCE(r.held, '') <> 'changed' AND COALESCE(r.scene, '') <> '' THEN r.scene
			ELSE taken_scene END,
			released_at = CASE WHEN run.state = 'held' AND r.state IN ('queued', 'rendering') THEN r.at ELSE released_at
			END,
			started_at = CASE WHEN r.state = 'rendering' THEN COALESCE(started_at, r.at) ELSE started_at END,
			ended_at = CASE WHEN r.state IN ('done', 'done with gaps', 'failed', 'cancelled') THEN r.at END
		FROM jsonb_to_recordset($1::jsonb) AS r(run bigint, state text, held text, reason text, scene text, at
		timestamptz) WHERE id = r.run`,
		touches: of(func(r farm.RunMoved) (writes, reads []row) {
			return []row{run(r.Run)}, nil
		}),
	},
	farm.RunKept{}.Kind(): {
		statement: `UPDATE run SET done = r.done::int4multirange, done_seq = r.seq
		FROM jsonb_to_recordset($1::jsonb) AS r(run bigint, done text, seq bigint) WHERE id = r.run`,
		touches: of(func(r farm.RunKept) (writes, reads []row) {
			return []row{run(r.Run)}, nil
		}),
		bodiless: always,
	},
	farm.LeaseOpened{}.Kind(): {
		columns: func() columns { return &leasesOpened{} },
		touches: of(func(r farm.LeaseOpened) (writes, reads []row) {
			return []row{lease(r.Lease)}, []row{run(r.Run), node(r.Node), leasesOf(r.Run)}
		}),
		bodiless: func(r farm.Record) bool { // what moves from node to node is told apart
			opened := r.(farm.LeaseOpened)
			return !opened.Race && opened.From == 0
		},
	},
	farm.LeaseExtended{}.Kind(): {
		statement: `UPDATE lease SET given = given + frame_set(r.frames), trimmed = trimmed - frame_set(r.frames), ask =
			r.ask, reason = r.reason
		FROM jsonb_to_recordset($1::jsonb) AS r(lease bigint, ask bigint, frames text, reason text) WHERE id = r.lease`,
		touches: of(func(r farm.LeaseExtended) (writes, reads []row) {
			return []row{lease(r.Lease)}, []row{leasesOf(r.Run)}
		}),
	},
	farm.LeaseTrimmed{}.Kind(): {
		statement: `UPDATE lease SET trimmed = trimmed + frame_set(r.frames)
		FROM jsonb_to_recordset($1::jsonb) AS r(lease bigint, frames text) WHERE id = r.lease`,
		touches: of(func(r farm.LeaseTrimmed) (writes, reads []row) {
			return []row{lease(r.Lease)}, []row{leasesOf(r.Run)}
		}),
	},
	farm.LeaseEnded{}.Kind(): {
		columns: func() columns { return &leasesEnded{} },
		touches: of(func(r farm.LeaseEnded) (writes, reads []row) {
			return []row{lease(r.Lease)}, []row{leasesOf(r.Run)}
		}),
		bodiless: always,
	},
	farm.FrameAccepted{}.Kind(): {
		columns: func() columns { return &framesAccepted{} },
		touches: of(func(r farm.FrameAccepted) (writes, reads []row) {
			return []row{frame(r.Run, r.Frame)}, []row{run(r.Run), framesOf(r.Run)}
		}),
	},
	farm.FrameDone{}.Kind(): {
		columns: func() columns { return &framesDone{} },
		touches: of(func(r farm.FrameDone) (writes, reads []row) {
			return []row{frame(r.Run, r.Frame)}, []row{framesOf(r.Run)}
		}),
	},
	// No lease that once held the frame has it back.
	farm.DeliveryLost{}.Kind(): {
		statement: `WITH r AS (
			SELECT run, frame, hash, seq FROM jsonb_to_recordset($1::jsonb) AS p(run bigint, frame int, hash text, seq
			bigint)
		), gone AS (
			UPDATE lease l SET trimmed = trimmed + c.frames
			FROM (SELECT run, range_agg(int4range(frame, frame, '[]')) AS frames FROM r GROUP BY run) c WHERE l.run =
			c.run
			AND l.ended_at IS NULL
		)
		UPDATE frame f SET state = 'lost', lost_hashes = lost_hashes || r.hash, seq = r.seq FROM r WHERE f.run = r.run
		AND f.frame = r.frame`,
		touches: of(func(r farm.DeliveryLost) (writes, reads []row) {
			return []row{frame(r.Run, r.Frame), leasesOf(r.Run)}, []row{framesOf(r.Run)}
		}),
	},
	farm.FrameFailed{}.Kind(): {
		statement: `WITH r AS (
			SELECT * FROM jsonb_to_recordset($1::jsonb) AS p(seq bigint, run bigint, frame int, lease bigint, launch
			int,
			node bigint,
				cause text, message text, counts boolean, recounts jsonb, blame jsonb, at timestamptz)
		), recounted AS (
			UPDATE attempt a SET counts = c.counts
			FROM (SELECT r.run, r.frame, c.* FROM r, jsonb_to_recordset(COALESCE(r.recounts, '[]')) AS c(lease bigint,
			launch int, counts boolean)) c
			WHERE a.run = c.run AND a.frame = c.frame AND a.lease = c.lease AND a.launch = c.launch
		), gone AS (
			UPDATE lease l SET trimmed = trimmed + c.frames
			FROM (SELECT lease, range_agg(int4range(frame, frame, '[]')) AS frames FROM r GROUP BY lease) c WHERE l.id =
			c.lease
		)
		INSERT INTO attempt (seq, run, frame, lease, launch, node, cause, message, counts, blame, sure, at)
		SELECT seq, run, frame, lease, launch, node, cause, message, counts, COALESCE(blame->>'kind', ''),
		COALESCE((blame->>'sure')::float8, 0), at FROM r`,
		touches: of(func(r farm.FrameFailed) (writes, reads []row) {
			if len(r.Recounts) > 0 {
				return []row{lease(r.Lease), attempts(r.Run)}, []row{run(r.Run), leasesOf(r.Run)}
			}
			return []row{lease(r.Lease)}, []row{run(r.Run), attempts(r.Run), leasesOf(r.Run)}
		}),
	},
	farm.FrameParked{}.Kind(): {
		statement: `UPDATE run SET parked = parked + r.frames, looked_at = NULL
		FROM (SELECT run, range_agg(int4range(frame, frame, '[]')) AS frames
			FROM jsonb_to_recordset($1::jsonb) AS p(run bigint, frame int) GROUP BY run) r WHERE id = r.run`,
		touches: of(func(r farm.FrameParked) (writes, reads []row) {
			return []row{frame(r.Run, r.Frame), run(r.Run)}, nil
		}),
	},
	farm.FramesRetried{}.Kind(): {
		statement: `WITH r AS (
			SELECT run, frame_set(frames) AS frames FROM jsonb_to_recordset($1::jsonb) AS p(run bigint, frames text)
		), forgiven AS (
			UPDATE attempt a SET forgiven = true FROM r WHERE a.run = r.run AND r.frames @> a.frame
		), again AS (
			UPDATE skip s SET frames = s.frames - r.frames FROM r WHERE s.run = r.run
		)
		UPDATE run SET parked = parked - r.frames FROM r WHERE id = r.run`,
		touches: of(func(r farm.FramesRetried) (writes, reads []row) {
			return []row{run(r.Run), attempts(r.Run)}, nil
		}),
	},
	farm.FramesSkipped{}.Kind(): {
		statement: `WITH r AS (
			SELECT run, frame_set(frames) AS frames, note FROM jsonb_to_recordset($1::jsonb) AS p(run bigint, frames text,
			note text)
		), otherwise AS (
			UPDATE skip s SET frames = s.frames - r.frames FROM r WHERE s.run = r.run AND s.note <> r.note
		), given_up AS (
			INSERT INTO skip (run, note, frames) SELECT run, note, frames FROM r
			ON CONFLICT (run, note) DO UPDATE SET frames = skip.frames + excluded.frames
		)
		UPDATE run SET parked = parked + r.frames FROM r WHERE id = r.run`,
		touches: of(func(r farm.FramesSkipped) (writes, reads []row) {
			return []row{run(r.Run)}, nil
		}),
	},
	farm.SuspectAccepted{}.Kind(): {
		statement: `WITH r AS (
			SELECT run, frame_set(frames) AS frames FROM jsonb_to_recordset($1::jsonb) AS p(run bigint, frames text)
		)
		UPDATE frame f SET suspect = NULL FROM r WHERE f.run = r.run AND r.frames @> f.frame`,
		touches: of(func(r farm.SuspectAccepted) (writes, reads []row) {
			return []row{framesOf(r.Run)}, []row{run(r.Run)}
		}),
	},
	// The rows stay, as the pictures do; they tell nothing of what is done.
	farm.FramesRedone{}.Kind(): {
		statement: `WITH r AS (
			SELECT run, frame_set(frames) AS frames FROM jsonb_to_recordset($1::jsonb) AS p(run bigint, frames text)
		), again AS (
			UPDATE frame f SET state = 'redo', lost_hashes = '{}' FROM r WHERE f.run = r.run AND r.frames @> f.frame
		), forgiven AS (
			UPDATE attempt a SET forgiven = true FROM r WHERE a.run = r.run AND r.frames @> a.frame
		), gone AS (
			UPDATE lease l SET given = given - r.frames FROM r WHERE l.run = r.run
		)
		UPDATE run SET done = done - r.frames, redo = redo + r.frames, stitched = false FROM r WHERE id = r.run`,
		// and all that is known of its frames and leases
		touches: of(func(r farm.FramesRedone) (writes, reads []row) {
			return []row{run(r.Run), leasesOf(r.Run), framesOf(r.Run), attempts(r.Run)}, nil
		}),
	},
	farm.PoolSet{}.Kind(): {
		statement: `INSERT INTO pool (name, projects, alone)
		SELECT name, COALESCE(NULLIF(projects, 'null'), '[]'), COALESCE(alone, false)
		FROM jsonb_to_recordset($1::jsonb) AS r(name text, projects jsonb, alone boolean)
		ON CONFLICT (name) DO UPDATE SET projects = excluded.projects, alone = excluded.alone`,
		touches: of(func(r farm.PoolSet) (writes, reads []row) {
			return []row{named("pool", r.Name)}, nil
		}),
	},
	farm.PoolDropped{}.Kind(): {
		statement: `DELETE FROM pool p USING jsonb_to_recordset($1::jsonb) AS r(name text) WHERE p.name = r.name`,
		touches: of(func(r farm.PoolDropped) (writes, reads []row) {
			return []row{named("pool", r.Name)}, nil
		}),
	},
	farm.LaunchSettingsSet{}.Kind(): {
		statement: `WITH r AS (
			SELECT of->>'project' AS project, of->>'recipe' AS recipe, env FROM jsonb_to_recordset($1::jsonb) AS r(of
			jsonb, env jsonb))
		INSERT INTO launch_settings (project, recipe, env) SELECT project, recipe, env FROM r
		ON CONFLICT (project, recipe) DO UPDATE SET env = excluded.env`,
		touches: of(func(r farm.LaunchSettingsSet) (writes, reads []row) {
			return []row{named("launch settings", r.Of.String()), named("launch settings of", r.Of.Project)}, nil
		}),
	},
	farm.RecipeSet{}.Kind(): {
		statement: `WITH r AS (
			SELECT * FROM jsonb_to_recordset($1::jsonb) AS r(name text, version int, text text, origin text, by text,
			note text, at timestamptz)
		), kept AS (
			INSERT INTO recipe_version (name, version, text, origin, by, note, at)
			SELECT name, version, text, origin, by, note, at FROM r
		)
		INSERT INTO recipe (name) SELECT DISTINCT name FROM r ON CONFLICT (name) DO UPDATE SET dropped_at = NULL`,
		touches: of(func(r farm.RecipeSet) (writes, reads []row) {
			return []row{named("recipe", r.Name)}, nil
		}),
		bodiless: always,
	},
	farm.RecipeDropped{}.Kind(): {
		statement: `UPDATE recipe SET dropped_at = r.at FROM jsonb_to_recordset($1::jsonb) AS r(name text, at
		timestamptz) WHERE recipe.name = r.name`,
		touches: of(func(r farm.RecipeDropped) (writes, reads []row) {
			return []row{named("recipe", r.Name)}, nil
		}),
	},
	farm.PresetSet{}.Kind(): {
		statement: `WITH r AS (
			SELECT of->>'project' AS project, of->>'recipe' AS recipe, of->>'name' AS name, version, text, by, note, at
			FROM jsonb_to_recordset($1::jsonb) AS r(of jsonb, version int, text text, by text, note text, at timestamptz)
		), kept AS (
			INSERT INTO preset_version (project, recipe, name, version, text, by, note, at)
			SELECT project, recipe, name, version, text, by, note, at FROM r
		)
		INSERT INTO preset (project, recipe, name) SELECT DISTINCT project, recipe, name FROM r
		ON CONFLICT (project, recipe, name) DO UPDATE SET dropped_at = NULL`,
		touches: of(func(r farm.PresetSet) (writes, reads []row) {
			return []row{named("preset", r.Of.String())}, nil
		}),
		bodiless: always,
	},
	farm.PresetDropped{}.Kind(): {
		statement: `UPDATE preset p SET dropped_at = r.at FROM jsonb_to_recordset($1::jsonb) AS r(of jsonb, at
		timestamptz) WHERE p.project = r.of->>'project' AND p.recipe = r.of->>'recipe' AND p.name = r.of->>'name'`,
		touches: of(func(r farm.PresetDropped) (writes, reads []row) {
			return []row{named("preset", r.Of.String())}, nil
		}),
	},
	farm.PresetChosen{}.Kind(): {
		statement: `WITH r AS (
			SELECT "for"->>'person' AS person, "for"->>'project' AS project, "for"->>'recipe' AS recipe, name
			FROM jsonb_to_recordset($1::jsonb) AS r("for" jsonb, name text)
		), gone AS (
			DELETE FROM preset_choice c USING r WHERE r.name = '' AND (c.person, c.project, c.recipe) =
			(r.person, r.project, r.recipe)
		)
		INSERT INTO preset_choice (person, project, recipe, name) SELECT person, project, recipe, name FROM r
		WHERE name <> '' ON CONFLICT (person, project, recipe) DO UPDATE SET name = excluded.name`,
		touches: of(func(r farm.PresetChosen) (writes, reads []row) {
			return []row{named("preset choice", r.For.Person+"\n"+r.For.Project+"\n"+r.For.Recipe)}, nil
		}),
	},
	farm.RateSet{}.Kind(): {
		statement: `WITH r AS (
			SELECT of->>'kind' AS kind, COALESCE(of->>'name', '') AS name,
				COALESCE((rate->>'watts')::float8, 0) AS watts, COALESCE((rate->>'per_hour')::float8, 0) AS per_hour,
				COALESCE(rate->>'currency', '') AS currency, rate = '{}' AS gone
			FROM jsonb_to_recordset($1::jsonb) AS r(of jsonb, rate jsonb)
		), dropped AS (
			DELETE FROM rate USING r WHERE r.gone AND (rate.kind, rate.name) = (r.kind, r.name)
		)
		INSERT INTO rate (kind, name, watts, per_hour, currency)
		SELECT kind, name, watts, per_hour, currency FROM r WHERE NOT gone
		ON CONFLICT (kind, name) DO UPDATE SET watts = excluded.watts, per_hour = excluded.per_hour, currency =
		excluded.currency`,
		touches: of(func(r farm.RateSet) (writes, reads []row) {
			return []row{named("rate", r.Of.String())}, nil
		}),
	},
	farm.PreflightRuleSet{}.Kind(): {
		statement: `INSERT INTO preflight_rule (held, night, zone)
		SELECT COALESCE((rule->>'held')::boolean, false), COALESCE(rule->>'night', ''), COALESCE(rule->>'zone', '')
		FROM jsonb_to_recordset($1::jsonb) AS r(rule jsonb)
		ON CONFLICT (one) DO UPDATE SET held = excluded.held, night = excluded.night, zone = excluded.zone`,
		touches: of(func(farm.PreflightRuleSet) (writes, reads []row) {
			return []row{named("preflight rule", "")}, nil
		}),
	},
	farm.RunStitched{}.Kind(): {
		statement: `UPDATE run SET stitched = true FROM jsonb_to_recordset($1::jsonb) AS r(run bigint) WHERE run.id = r.run`,
		touches: of(func(r farm.RunStitched) (writes, reads []row) {
			return []row{run(r.Run)}, nil
		}),
	},
	farm.NodeFound{}.Kind(): {
		statement: `UPDATE node SET facts = jsonb_set(facts, '{renderers}', COALESCE(NULLIF(r.renderers, 'null'), '[]'))
		FROM jsonb_to_recordset($1::jsonb) AS r(node bigint, renderers jsonb) WHERE node.id = r.node`,
		touches: of(func(r farm.NodeFound) (writes, reads []row) {
			return []row{node(r.Node)}, nil
		}),
	},
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
	farm.KeyRevoked{}.Kind(): {
		statement: `UPDATE enrolment_key k SET revoked_at = r.at FROM jsonb_to_recordset($1::jsonb) AS r(hash text, at
			timestamptz) WHERE k.hash = r.hash`,
		touches: of(func(r farm.KeyRevoked) (writes, reads []row) {
			return []row{named("key", r.Hash)}, nil
		}),
	},
	farm.PlaceSet{}.Kind(): {
		statement: `INSERT INTO place (name, paths, loads)
		SELECT name, paths, COALESCE(loads, 0) FROM jsonb_to_recordset($1::jsonb) AS r(name text, paths jsonb, loads
		int)
		ON CONFLICT (name) DO UPDATE SET paths = excluded.paths, loads = excluded.loads`,
		touches: of(func(r farm.PlaceSet) (writes, reads []row) {
			return []row{named("place", r.Name)}, nil
		}),
	},
	farm.LicenceSet{}.Kind(): {
		statement: `WITH r AS (
			SELECT * FROM jsonb_to_recordset($1::jsonb) AS r(name text, count int, lowered int, lowered_until
			timestamptz)
		), gone AS (
			DELETE FROM licence l USING r WHERE l.name = r.name AND r.count < 0
		)
		INSERT INTO licence (name, count, lowered, lowered_until) SELECT name, count, lowered, lowered_until FROM r
		WHERE count >= 0
		ON CONFLICT (name) DO UPDATE SET count = excluded.count, lowered = excluded.lowered, lowered_until =
		excluded.lowered_until`,
		touches: of(func(r farm.LicenceSet) (writes, reads []row) {
			return []row{named("licence", r.Name)}, nil
		}),
	},
	farm.ProjectSet{}.Kind(): {
		statement: `INSERT INTO project (name, title, weight, scenes, frames, names, bundles, members, closed, budget_hours)
		SELECT name, title, weight, scenes, frames, COALESCE(names, ''), COALESCE(bundles, false),
		COALESCE(members, '{}'), COALESCE(closed, false), COALESCE(budget_hours, 0)
		FROM jsonb_to_recordset($1::jsonb) AS r(name text, title text, weight float8, scenes text, frames text,
		names text, bundles boolean, members jsonb, closed boolean, budget_hours float8)
		ON CONFLICT (name) DO UPDATE SET title = excluded.title, weight = excluded.weight, scenes = excluded.scenes,
		frames = excluded.frames, names = excluded.names, bundles = excluded.bundles, members = excluded.members,
		closed = excluded.closed, budget_hours = excluded.budget_hours`,
		touches: of(func(r farm.ProjectSet) (writes, reads []row) {
			return []row{
					named("project", r.Name),
				}, []row{
					named("place", r.Scenes), named("place", r.Frames), anyProject,
				}
		}),
	},
	farm.PlaceDropped{}.Kind(): {
		statement: `WITH r AS (
			SELECT name FROM jsonb_to_recordset($1::jsonb) AS r(name text)
		), released AS (
			DELETE FROM stay s USING r WHERE s.kind = 'place' AND s.name = r.name
		)
		DELETE FROM place p USING r WHERE p.name = r.name`,
		// projects that used it have gone or changed before
		touches: of(func(r farm.PlaceDropped) (writes, reads []row) {
			return []row{
				named("place", r.Name), named("stay", farm.FreezeScope{Kind: farm.FreezePlace, Name: r.Name}.String()),
				anyProject,
			}, nil
		}),
	},
	farm.ProjectDropped{}.Kind(): {
		statement: `WITH r AS (
			SELECT name FROM jsonb_to_recordset($1::jsonb) AS r(name text)
		), settings AS (
			DELETE FROM launch_settings l USING r WHERE l.project = r.name
		)
		DELETE FROM project p USING r WHERE p.name = r.name`,
		touches: of(func(r farm.ProjectDropped) (writes, reads []row) {
			return []row{named("project", r.Name), named("launch settings of", r.Name)}, []row{anyProject}
		}),
	},
	farm.PersonSet{}.Kind(): {
		statement: `INSERT INTO person (name, role, password_hash, created_at)
		SELECT name, role, password_hash, at
		FROM jsonb_to_recordset($1::jsonb) AS r(name text, role text, password_hash text, at timestamptz)
		ON CONFLICT (name) DO UPDATE SET role = excluded.role, password_hash = excluded.password_hash`,
		touches: of(func(r farm.PersonSet) (writes, reads []row) {
			return []row{named("person", r.Name)}, nil
		}),
		bodiless: always,
	},
	farm.PersonRemoved{}.Kind(): {
		statement: `WITH r AS (
			SELECT name FROM jsonb_to_recordset($1::jsonb) AS r(name text)
		), ended AS (
			DELETE FROM token t USING r WHERE t.person = r.name
		), parted AS (
			UPDATE project p SET members = p.members - ARRAY(SELECT name FROM r)
			WHERE p.members ?| ARRAY(SELECT name FROM r)
		)
		DELETE FROM person p USING r WHERE p.name = r.name`,
		// those that were issued before need the person
		touches: of(func(r farm.PersonRemoved) (writes, reads []row) {
			return []row{named("person", r.Name), anyProject}, nil
		}),
	},
	farm.TokenIssued{}.Kind(): {
		statement: `INSERT INTO token (hash, kind, person, node, label, created_at, expires_at)
		SELECT hash, kind, NULLIF(person, ''), NULLIF(node, 0), label, at, expires_at
		FROM jsonb_to_recordset($1::jsonb) AS r(hash text, kind text, person text, node bigint, label text, at
		timestamptz, expires_at timestamptz)`,
		touches: of(func(r farm.TokenIssued) (writes, reads []row) {
			return []row{named("token", r.Hash)}, []row{named("person", r.Person), node(r.Node), nodeToken(r.Node)}
		}),
		bodiless: always,
	},
	farm.TokenRevoked{}.Kind(): {
		statement: `DELETE FROM token USING jsonb_to_recordset($1::jsonb) AS r(hash text) WHERE token.hash = r.hash`,
		touches: of(func(r farm.TokenRevoked) (writes, reads []row) {
			return []row{named("token", r.Hash)}, nil
		}),
		bodiless: always,
	},
	farm.KeyIssued{}.Kind(): {
		statement: `INSERT INTO enrolment_key (hash, label, created_by, created_at, expires_at, uses_left, pools,
			returns)
		SELECT hash, label, created_by, at, expires_at, uses, COALESCE(NULLIF(pools, 'null'), '[]'),
		COALESCE(NULLIF(returns, 'null'), '[]')
		FROM jsonb_to_recordset($1::jsonb) AS r(hash text, label text, created_by text, at timestamptz, expires_at
		timestamptz, uses int, pools jsonb, returns jsonb)`,
		touches: of(func(r farm.KeyIssued) (writes, reads []row) {
			return []row{named("key", r.Hash)}, nil
		}),
		bodiless: always,
	},
	farm.Audited{}.Kind(): {
		statement: `INSERT INTO audit (seq, at, actor, action, subject, before, after)
		SELECT seq, at, actor, action, subject, "from", "to"
		FROM jsonb_to_recordset($1::jsonb) AS r(seq bigint, at timestamptz, actor text, action text, subject text,
		"from" text, "to" text)`,
	},
}

func always(farm.Record) bool { return true }

// of makes what looks at one kind of Record look at any.
func of[T farm.Record](touches func(T) (writes, reads []row)) func(farm.Record) (writes, reads []row) {
	return func(r farm.Record) (writes, reads []row) { return touches(r.(T)) }
}

func run(id farm.RunID) row { return row{table: "run", id: int64(id)} }

func node(id farm.NodeID) row { return row{table: "node", id: int64(id)} }

func nodeToken(id farm.NodeID) row { return row{table: "node token", id: int64(id)} }

func lease(id farm.LeaseID) row { return row{table: "lease", id: int64(id)} }

func frame(id farm.RunID, f int) row { return row{table: "frame", id: int64(id), frame: f} }

func attempts(id farm.RunID) row { return row{table: "attempt", id: int64(id)} }

func framesOf(id farm.RunID) row { return row{table: "frames of run", id: int64(id)} }

func leasesOf(id farm.RunID) row { return row{table: "leases of run", id: int64(id)} }

func hand(id farm.HandID) row { return row{table: "hand", id: int64(id)} }

func named(table, name string) row { return row{table: table, name: name} }
