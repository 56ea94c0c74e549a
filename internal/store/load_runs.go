package store

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

const openRuns = `state NOT IN ('done', 'done with gaps', 'failed', 'cancelled')`

func (l *loader) readRuns() error {
	return l.each(func(row *sql.Rows) error {
		r := farm.Run{
			Delivering: map[int]farm.Delivery{}, Trouble: map[int]*farm.Trouble{},
			Leases: map[farm.LeaseID]*farm.Lease{}, Changed: l.state.Seq,
		}
		var spec, terms []byte
		var key, digest, done, parked, redo string
		var started, ended, released, looked *time.Time
		if err := row.Scan(
			&r.ID, &spec, &r.State, &r.Reason, &r.Order, &key, &digest, &r.SubmittedAt, &started, &ended, &done,
			&r.Checkpoint, &parked, &terms, &r.Held, &released, &redo, &r.FoundScene, &r.TakenScene, &r.Stitched,
			&looked,
		); err != nil {
			return err
		}
		if err := json.Unmarshal(spec, &r.Spec); err != nil {
			return err
		}
		r.Terms = r.Spec.Terms
		if terms != nil {
			r.Terms = farm.Terms{}
			if err := json.Unmarshal(terms, &r.Terms); err != nil {
				return err
			}
		}
		var err error
		if r.Done, err = frames.ParseMultirange(done); err != nil {
			return err
		}
		if r.Redo, err = frames.ParseMultirange(redo); err != nil {
			return err
		}
		if r.Parked, err = frames.ParseMultirange(parked); err != nil {
			return err
		}
		r.ReleasedAt, r.LookedAt = orZero(released), orZero(looked)
		if started != nil {
			r.StartedAt = *started
		}
		if ended != nil {
			r.EndedAt = *ended
		}
		l.runs[r.ID] = &keptRun{&r, key, digest}
		l.order = append(l.order, r.ID)
		return nil
	}, `SELECT id, spec, state, reason, queue_order, COALESCE(submit_key, ''), submit_digest, submitted_at,
		started_at, ended_at,
		done::text, done_seq, parked::text, terms, held_for, released_at, redo::text,
		found_scene, taken_scene, stitched, looked_at FROM run ORDER BY id`)
}

func (l *loader) skips() error {
	return l.each(func(row *sql.Rows) error {
		var id farm.RunID
		var skip farm.Skip
		var set string
		err := row.Scan(&id, &skip.Note, &set)
		if err == nil {
			skip.Frames, err = frames.ParseMultirange(set)
		}
		l.runs[id].run.Skipped = append(l.runs[id].run.Skipped, skip)
		return err
	}, `SELECT run, note, frames::text FROM skip WHERE NOT isempty(frames) ORDER BY run, note COLLATE "C"`)
}

func (l *loader) frames() error {
	done := map[farm.RunID][]frames.Span{}
	err := l.each(func(row *sql.Rows) error {
		var id farm.RunID
		var frame int
		var state string
		var d farm.Delivery
		var lost, files []byte
		if err := row.Scan(
			&id, &frame, &state, &d.Lease, &d.Node, &d.Hash, &d.Bytes, &d.Since, &lost, &files, &d.Suspect,
		); err != nil {
			return err
		}
		if err := json.Unmarshal(files, &d.Files); err != nil {
			return err
		}
		run := l.runs[id].run
		switch state {
		case "delivering":
			run.Delivering[frame] = d
		case "done":
			done[id] = append(done[id], frames.Span{First: frame, Last: frame})
			run.SinceCheckpoint++
		}
		var hashes []string
		if err := json.Unmarshal(lost, &hashes); err != nil {
			return err
		}
		if len(hashes) > 0 && state != "done" {
			run.Trouble[frame] = &farm.Trouble{Accepted: hashes}
		}
		return nil
	}, `SELECT f.run, f.frame, f.state, f.lease, f.node, f.hash, f.bytes, f.accepted_at, to_jsonb(f.lost_hashes),
		COALESCE(f.files, 'null'), COALESCE(f.suspect, '')
		FROM run r JOIN frame f ON f.run = r.id
		WHERE f.seq > r.done_seq OR (f.state <> 'done' AND r.`+openRuns+`) ORDER BY f.run, f.frame`)
	for id, spans := range done {
		run := l.runs[id].run
		run.Done = run.Done.Union(frames.Of(spans...))
	}
	if err != nil {
		return err
	}
	return l.each(func(row *sql.Rows) error {
		var id farm.RunID
		var frame int
		var why string
		err := row.Scan(&id, &frame, &why)
		if r := l.runs[id]; err == nil && r != nil {
			r.run.NoteSuspect(frame, why)
		}
		return err
	}, `SELECT run, frame, suspect FROM frame WHERE suspect IS NOT NULL AND state IN ('done', 'redo')`)
}

func (l *loader) attempts() error {
	return l.each(func(row *sql.Rows) error {
		var id farm.RunID
		var frame int
		var a farm.Attempt
		if err := row.Scan(
			&id, &frame, &a.Lease, &a.Launch, &a.Node, &a.Cause, &a.Message, &a.Counts, &a.Blame.Kind,
			&a.Blame.Sure, &a.At,
		); err != nil {
			return err
		}
		run := l.runs[id].run
		run.NoteShort(frame, a.Cause, l.state.Nodes[a.Node])
		if run.Done.Has(frame) {
			return nil
		}
		if run.Trouble[frame] == nil {
			run.Trouble[frame] = &farm.Trouble{}
		}
		run.Trouble[frame].Attempts = append(run.Trouble[frame].Attempts, a)
		return nil
	}, `SELECT a.run, a.frame, a.lease, a.launch, a.node, a.cause, a.message, a.counts, a.blame, a.sure, a.at
		FROM attempt a JOIN run r ON r.id = a.run WHERE NOT a.forgiven ORDER BY a.seq`)
}

func (l *loader) leases() error {
	err := l.each(func(row *sql.Rows) error {
		var lease farm.Lease
		var given, trimmed string
		var ended *time.Time
		var share []byte
		if err := row.Scan(
			&lease.ID, &lease.Node, &lease.Run, &lease.Session, &lease.Ask, &given, &trimmed, &lease.Reason,
			&lease.OpenedAt, &ended, &share, &lease.Race,
		); err != nil {
			return err
		}
		if err := json.Unmarshal(share, &lease.Share); err != nil {
			return fmt.Errorf("reading the share of lease %d: %w", lease.ID, err)
		}
		var err error
		if lease.Given, err = frames.ParseMultirange(given); err != nil {
			return err
		}
		back, err := frames.ParseMultirange(trimmed)
		if err != nil {
			return err
		}
		run := l.runs[lease.Run].run
		if ended != nil {
			lease.EndedAt = *ended
		} else {
			lease.Left = lease.Given.Minus(back).Minus(resolved(run))
		}
		run.Leases[lease.ID] = &lease
		return nil
	}, `SELECT l.id, l.node, l.run, l.session, l.ask, l.given::text, l.trimmed::text, l.reason, l.opened_at,
		l.ended_at, COALESCE(l.share, '{}'), l.race
		FROM lease l JOIN run r ON r.id = l.run WHERE r.`+openRuns+` ORDER BY l.id`)
	if err != nil {
		return err
	}
	return l.s.db.GetContext(l.ctx, &l.state.LastLease, `SELECT COALESCE(max(id), 0) FROM lease`)
}

// resolved returns the frames of a run that no lease has to bring any more.
// Those that failed, or whose delivery was lost, are on the lease as trimmed.
func resolved(run *farm.Run) frames.Set {
	var spans []frames.Span
	for f := range run.Delivering {
		spans = append(spans, frames.Span{First: f, Last: f})
	}
	return frames.Of(spans...).Union(run.Done).Union(run.Parked)
}

// assemble works out what is to do in each open run: everything that is
// nowhere else.
func (l *loader) assemble() {
	for _, id := range l.order {
		kept := l.runs[id]
		run := kept.run
		run.Redo = run.Redo.Minus(run.Done)
		l.state.PutRun(run, kept.key, kept.digest)
		if !run.State.Closed() {
			elsewhere := run.Done.Union(run.Parked).Union(run.Dealt())
			for f := range run.Delivering {
				elsewhere = elsewhere.Union(frames.One(f))
			}
			run.ToDo = run.Spec.Frames.Minus(elsewhere)
		}
	}
	for _, id := range l.order {
		l.state.Await(l.runs[id].run)
	}
}
