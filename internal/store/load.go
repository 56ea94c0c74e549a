package store

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"vexillum/internal/core/fairness"
	"vexillum/internal/core/farm"
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
		{"keys", l.keys}, {"pools", l.pools}, {"launch settings", l.launchSettings}, {"stays", l.stays},
		{"waits", l.waits},
		{"hands", l.hands}, {"channels", l.channels},
		{"recipes", l.recipes}, {"presets", l.presets}, {"rates", l.rates}, {"preflight rule", l.preflightRule},
		{"nodes", l.nodes},
		{"tokens", l.tokens}, {"runs", l.readRuns}, {"skips", l.skips}, {"frames", l.frames}, {"attempts", l.attempts},
		{"leases", l.leases}, {"what was spent", l.spent},
	} {
		if err := step.do(); err != nil {
			return Loaded{}, fmt.Errorf("loading %s: %w", step.what, err)
		}
	}
	l.assemble()
	if err := l.state.Check(); err != nil {
		return Loaded{}, fmt.Errorf("the database contradicts itself: %w", err)
	}
	if err := l.recall(); err != nil {
		return Loaded{}, fmt.Errorf("loading what failed lately: %w", err)
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
