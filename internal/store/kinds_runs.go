package store

import "vexillum/internal/core/farm"

// runKinds are the Records of runs, leases and frames.
var runKinds = map[farm.Kind]kept{
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
	farm.RunStitched{}.Kind(): {
		statement: `UPDATE run SET stitched = true FROM jsonb_to_recordset($1::jsonb) AS r(run bigint) WHERE run.id = r.run`,
		touches: of(func(r farm.RunStitched) (writes, reads []row) {
			return []row{run(r.Run)}, nil
		}),
	},
}
