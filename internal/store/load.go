package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"time"

	"vexillum/internal/core/fairness"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// How much is read back to learn the pace again at a start: the newest frames of
// each open run; and of the last two runs of each of the newest jobs, frames from
// all over their range: a proof and its final tell how cost goes with settings.
const (
	observationsPerRun = 100
	jobsRemembered     = 200
	observationsPerJob = 120
)

// Observation is a finished frame, and what of its node the lease had.
type Observation struct {
	farm.FrameAccepted
	Share farm.Share
}

// Loaded is a farm as it was committed.
type Loaded struct {
	State *farm.State
	// Observations are finished frames from which the pace can be learned again:
	// first those of runs that have ended, a run after the other, then those of
	// open ones.
	Observations []Observation
	// Received is what projects had received.
	Received []fairness.Received
	// Newest is the frame of each run that was done last.
	Newest map[farm.RunID]Newest
	// Finished is when frames were done since FinishedSince, oldest first.
	Finished      []time.Time
	FinishedSince time.Time
}

// Newest is the frame of a run that was done last.
type Newest struct {
	Frame int
	At    time.Time
}

// Load reads the farm. It must be called after Claim, so that nobody changes
// it any more; seq is the number that Claim told.
func (s *Store) Load(ctx context.Context, seq int64) (Loaded, error) {
	l := loader{ctx: ctx, s: s, state: farm.NewState(), runs: map[farm.RunID]*keptRun{}}
	l.state.Seq = seq
	for _, step := range []struct {
		what string
		do   func() error
	}{
		{"places", l.places}, {"licences", l.licences}, {"projects", l.projects}, {"people", l.people},
		{"keys", l.keys}, {"pools", l.pools}, {"launch settings", l.launchSettings}, {"stays", l.stays}, {"waits", l.waits},
		{"hands", l.hands}, {"channels", l.channels},
		{"recipes", l.recipes}, {"presets", l.presets}, {"rates", l.rates}, {"preflight rule", l.preflightRule}, {"nodes", l.nodes},
		{"tokens", l.tokens}, {"runs", l.readRuns}, {"skips", l.skips}, {"frames", l.frames}, {"attempts", l.attempts}, {"leases", l.leases},
	} {
		if err := step.do(); err != nil {
			return Loaded{}, fmt.Errorf("loading %s: %w", step.what, err)
		}
	}
	l.assemble()
	if err := l.state.Check(); err != nil {
		return Loaded{}, fmt.Errorf("the database contradicts itself: %w", err)
	}
	observations, err := l.observations()
	if err != nil {
		return Loaded{}, fmt.Errorf("loading observations: %w", err)
	}
	finished, since, err := l.finished()
	if err != nil {
		return Loaded{}, fmt.Errorf("loading when frames were finished: %w", err)
	}
	newest, err := l.newest()
	if err != nil {
		return Loaded{}, fmt.Errorf("loading the newest frames: %w", err)
	}
	received, err := s.Received(ctx)
	if err != nil {
		return Loaded{}, err
	}
	return Loaded{
		State: l.state, Observations: observations, Received: received, Newest: newest,
		Finished: finished, FinishedSince: since,
	}, nil
}

type keptRun struct {
	run         *farm.Run
	key, digest string
}

type loader struct {
	ctx   context.Context
	s     *Store
	state *farm.State
	runs  map[farm.RunID]*keptRun
	order []farm.RunID
}

// each runs a query and hands every row to scan.
func (l *loader) each(scan func(row *sql.Rows) error, query string, args ...any) error {
	rows, err := l.s.db.QueryContext(l.ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := scan(rows); err != nil {
			return err
		}
	}
	return rows.Err()
}

func (l *loader) places() error {
	return l.each(func(row *sql.Rows) error {
		var p farm.Place
		var paths []byte
		if err := row.Scan(&p.Name, &paths, &p.Loads); err != nil {
			return err
		}
		l.state.Places[p.Name] = &p
		return json.Unmarshal(paths, &p.Paths)
	}, `SELECT name, paths, loads FROM place`)
}

func (l *loader) licences() error {
	return l.each(func(row *sql.Rows) error {
		var r farm.LicenceSet
		err := row.Scan(&r.Name, &r.Count, &r.Lowered, &r.LoweredUntil)
		l.state.PutLicence(r)
		return err
	}, `SELECT name, count, lowered, lowered_until FROM licence`)
}

func (l *loader) projects() error {
	return l.each(func(row *sql.Rows) error {
		var p farm.Project
		var members []byte
		if err := row.Scan(
			&p.Name, &p.Title, &p.Weight, &p.Scenes, &p.Frames, &p.Names, &p.Bundles, &members, &p.Closed,
		); err != nil {
			return err
		}
		l.state.Projects[p.Name] = &p
		if string(members) == "{}" {
			return nil
		}
		return json.Unmarshal(members, &p.Members)
	}, `SELECT name, title, weight, scenes, frames, names, bundles, members, closed FROM project`)
}

func (l *loader) people() error {
	return l.each(func(row *sql.Rows) error {
		var p farm.Person
		err := row.Scan(&p.Name, &p.Role, &p.PasswordHash, &p.CreatedAt)
		l.state.People[p.Name] = &p
		return err
	}, `SELECT name, role, password_hash, created_at FROM person`)
}

func (l *loader) keys() error {
	return l.each(func(row *sql.Rows) error {
		var k farm.Key
		var pools, returns []byte
		var revoked *time.Time
		err := row.Scan(
			&k.Hash, &k.Label, &k.CreatedBy, &k.CreatedAt, &k.ExpiresAt, &k.UsesLeft, &pools, &returns, &revoked,
		)
		if err != nil {
			return err
		}
		k.RevokedAt = orZero(revoked)
		l.state.Keys[k.Hash] = &k
		if err := json.Unmarshal(returns, &k.Returns); err != nil {
			return err
		}
		return json.Unmarshal(pools, &k.Pools)
	}, `SELECT hash, label, created_by, created_at, expires_at, uses_left, pools, returns, revoked_at FROM
		enrolment_key WHERE expires_at > now() - interval '90 days'`)
}

func (l *loader) nodes() error {
	return l.each(func(row *sql.Rows) error {
		var n farm.Node
		var facts, settings []byte
		var enrolled, retired, since, until, health, trial *time.Time
		var pause float64
		var aside []byte
		if err := row.Scan(
			&n.ID, &n.Name, &n.Kind, &facts, &n.Session, &n.Reach, &n.ReachSince, &n.Duty, &n.DutyReason, &since,
			&n.DutyNow, &until, &n.Health, &n.HealthWhy, &n.HealthBy, &settings, &n.Version, &enrolled, &retired,
			&health, &trial, &pause, &aside,
		); err != nil {
			return err
		}
		n.HealthAt, n.TrialAt, n.TrialPause = orZero(health), orZero(trial), time.Duration(pause*float64(time.Second))
		if aside != nil {
			if err := json.Unmarshal(aside, &n.Aside); err != nil {
				return err
			}
		}
		n.EnrolledAt, n.RetiredAt, n.DutySince, n.OffUntil = orZero(enrolled), orZero(retired), orZero(since), orZero(
			until,
		)
		n.Changed = l.state.Seq
		l.state.PutNode(&n)
		if err := json.Unmarshal(facts, &n.Facts); err != nil {
			return err
		}
		return json.Unmarshal(settings, &n.Settings)
	}, `SELECT id, name, kind, facts, session, reach, reach_since, duty, duty_reason, duty_since, duty_now, off_until,
		health, health_why, health_by, settings, version, enrolled_at, retired_at, health_at, trial_at, trial_pause,
		aside FROM node ORDER BY id`)
}

func orZero(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}

func (l *loader) pools() error {
	return l.each(func(row *sql.Rows) error {
		var p farm.Pool
		var projects []byte
		if err := row.Scan(&p.Name, &projects, &p.Alone); err != nil {
			return err
		}
		l.state.Pools[p.Name] = &p
		return json.Unmarshal(projects, &p.Projects)
	}, `SELECT name, projects, alone FROM pool`)
}

func (l *loader) launchSettings() error {
	return l.each(func(row *sql.Rows) error {
		var of farm.LaunchScope
		var env farm.LaunchSettings
		var data []byte
		err := row.Scan(&of.Project, &of.Recipe, &data)
		if err == nil {
			err = json.Unmarshal(data, &env)
		}
		if err == nil && !env.Empty() {
			l.state.LaunchSettings[of] = env
		}
		return err
	}, `SELECT project, recipe, env FROM launch_settings`)
}

func (l *loader) recipes() error {
	return l.each(func(row *sql.Rows) error {
		var r farm.RecipeSet
		var dropped *time.Time
		err := row.Scan(&r.Name, &r.Version, &r.Text, &r.Origin, &r.By, &r.Note, &r.At, &dropped)
		if err == nil {
			err = l.state.PutRecipe(r)
		}
		if err == nil {
			l.state.Recipes[r.Name].DroppedAt = orZero(dropped)
		}
		return err
	}, `SELECT name, version, text, origin, by, note, at, dropped_at FROM recipe JOIN recipe_version USING (name)
	ORDER BY name, version`)
}

func (l *loader) preflightRule() error {
	return l.each(func(row *sql.Rows) error {
		r := &l.state.PreflightRule
		return row.Scan(&r.Held, &r.Night, &r.Zone)
	}, `SELECT held, night, zone FROM preflight_rule`)
}

func (l *loader) rates() error {
	return l.each(func(row *sql.Rows) error {
		var of farm.RateScope
		var rate farm.Rate
		err := row.Scan(&of.Kind, &of.Name, &rate.Watts, &rate.PerHour, &rate.Currency)
		l.state.Rates[of] = rate
		return err
	}, `SELECT kind, name, watts, per_hour, currency FROM rate`)
}

func (l *loader) presets() error {
	err := l.each(func(row *sql.Rows) error {
		var r farm.PresetSet
		var dropped *time.Time
		err := row.Scan(
			&r.Of.Project, &r.Of.Recipe, &r.Of.Name, &r.Version, &r.Text, &r.By, &r.Note, &r.At, &dropped,
		)
		if err == nil {
			err = l.state.PutPreset(r)
		}
		if err == nil {
			l.state.Presets[r.Of].DroppedAt = orZero(dropped)
		}
		return err
	}, `SELECT project, recipe, name, version, text, by, note, at, dropped_at FROM preset
		JOIN preset_version USING (project, recipe, name) ORDER BY project, recipe, name, version`)
	if err != nil {
		return err
	}
	return l.each(func(row *sql.Rows) error {
		var of farm.PresetChoice
		var name string
		err := row.Scan(&of.Person, &of.Project, &of.Recipe, &name)
		l.state.PresetChoices[of] = name
		return err
	}, `SELECT person, project, recipe, name FROM preset_choice`)
}

// channels reads where notices go, and who is on call.
func (l *loader) channels() error {
	err := l.each(func(row *sql.Rows) error {
		var body []byte
		c := &farm.Channel{}
		err := row.Scan(&body)
		if err == nil {
			err = json.Unmarshal(body, c)
		}
		l.state.Channels[c.Name] = c
		return err
	}, `SELECT body FROM channel`)
	if err != nil {
		return err
	}
	return l.each(func(row *sql.Rows) error { return row.Scan(&l.state.OnCall) }, `SELECT calendar FROM on_call`)
}

// hands reads what needs a person, and what did until a while ago.
func (l *loader) hands() error {
	err := l.each(func(row *sql.Rows) error {
		var h farm.Hand
		var of []byte
		var ended, taken, snoozed, resolved *time.Time
		err := row.Scan(
			&h.ID,
			&of,
			&h.Project,
			&h.Extent,
			&h.Sentence,
			&h.Evidence,
			&h.Count,
			&h.RaisedAt,
			&h.LastAt,
			&ended,
			&h.TakenBy,
			&taken,
			&h.SnoozedBy,
			&snoozed,
			&h.ResolvedBy,
			&resolved,
			&h.Note,
		)
		if err == nil {
			err = json.Unmarshal(of, &h.Of)
		}
		h.EndedAt, h.TakenAt, h.SnoozedUntil, h.ResolvedAt = orZero(
			ended,
		), orZero(
			taken,
		), orZero(
			snoozed,
		), orZero(
			resolved,
		)
		l.state.Hands[h.Of] = &h
		return err
	}, `SELECT id, of, project, extent, sentence, evidence, count, raised_at, last_at, ended_at, taken_by, taken_at,
		snoozed_by, snoozed_until, resolved_by, resolved_at, note FROM hand
		WHERE ended_at IS NULL OR ended_at > (SELECT max(last_at) FROM hand) - interval '1 hour' ORDER BY id`)
	if err != nil {
		return err
	}
	return l.each(func(row *sql.Rows) error {
		return row.Scan(&l.state.LastHand)
	}, `SELECT COALESCE(max(id), 0) FROM hand`)
}

func (l *loader) waits() error {
	return l.each(func(row *sql.Rows) error {
		var of farm.Surrounding
		var data []byte
		w := &farm.Wait{}
		err := row.Scan(&of.Kind, &of.Name, &of.Version, &data)
		if err == nil {
			err = json.Unmarshal(data, w)
		}
		l.state.Waits[of] = w
		return err
	}, `SELECT kind, name, version, wait FROM wait`)
}

func (l *loader) stays() error {
	return l.each(func(row *sql.Rows) error {
		var r farm.FreezeSet
		var data []byte
		err := row.Scan(&r.Of.Kind, &r.Of.Name, &data)
		if err == nil {
			err = json.Unmarshal(data, &r.Freeze)
		}
		if err == nil && (r.Freeze.Held || r.Freeze.Step > 0) {
			l.state.Freezes[r.Of] = r.Freeze
		}
		return err
	}, `SELECT kind, name, stay FROM stay`)
}

func (l *loader) tokens() error {
	return l.each(func(row *sql.Rows) error {
		var t farm.TokenIssued
		if err := row.Scan(&t.Hash, &t.Of, &t.Person, &t.Node, &t.Label, &t.At, &t.ExpiresAt); err != nil {
			return err
		}
		l.state.PutToken(t)
		return nil
	}, `SELECT hash, kind, COALESCE(person, ''), COALESCE(node, 0), label, created_at, expires_at FROM token
		WHERE expires_at IS NULL OR expires_at > now()`)
}

func (l *loader) readRuns() error {
	return l.each(func(row *sql.Rows) error {
		r := farm.Run{
			Delivering: map[int]farm.Delivery{}, Trouble: map[int]*farm.Trouble{},
			Leases: map[farm.LeaseID]*farm.Lease{}, Changed: l.state.Seq,
		}
		var spec, terms []byte
		var key, digest, done, parked, redo string
		var started, ended, released *time.Time
		if err := row.Scan(
			&r.ID, &spec, &r.State, &r.Reason, &r.Order, &key, &digest, &r.SubmittedAt, &started, &ended, &done,
			&r.Checkpoint, &parked, &terms, &r.Held, &released, &redo, &r.FoundScene, &r.TakenScene, &r.Stitched,
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
		r.ReleasedAt = orZero(released)
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
		found_scene, taken_scene, stitched FROM run ORDER BY id`)
}

const openRuns = `state NOT IN ('done', 'done with gaps', 'failed', 'cancelled')`

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

// mostEvents bounds how far back a start looks for frames that were done.
const mostEvents = 20_000

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
