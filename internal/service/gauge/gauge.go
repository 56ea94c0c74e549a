// Package gauge keeps what machines measure of themselves: it gathers samples,
// rolls them up by the minute and the quarter of an hour, and writes them down
// many at once.
//
// It knows neither what nodes work on nor how samples travel.
package gauge

import (
	"context"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"vexillum/internal/core/usage"
)

// Store keeps samples.
type Store interface {
	AddUsage(ctx context.Context, step time.Duration, rows []usage.Row) error
	UsageSince(ctx context.Context, since time.Time) ([]usage.Row, error)
	Partition(ctx context.Context, now time.Time, mostLogs int64) error
	DropPartitions(ctx context.Context, now time.Time) error
	NewestSaid(ctx context.Context) (time.Time, error)
}

// Gauge gathers samples. Use New, then Run.
type Gauge struct {
	store    Store
	log      *slog.Logger
	now      func() time.Time
	uptime   func() time.Duration // of this process, which no clock changes
	mostLogs int64
	clock    steady
	sure     atomic.Bool // the clock may be trusted, as of the last look

	mu      sync.Mutex
	roller  usage.Roller
	pending map[time.Duration][]usage.Row
	dropped int
}

const (
	flushEvery = 5 * time.Second
	tidyEvery  = time.Minute
	dbTimeout  = 30 * time.Second

	// mostPending bounds the rows of a step that wait for the database; beyond
	// it the oldest are dropped.
	mostPending = 50_000
)

// New returns a Gauge. mostLogs is how many bytes logs may take up in the
// database, whose partitions are kept along with those of samples.
func New(store Store, log *slog.Logger, now func() time.Time, mostLogs int64) *Gauge {
	began := time.Now()
	return &Gauge{
		store: store, log: log, now: now, mostLogs: mostLogs, pending: map[time.Duration][]usage.Row{},
		uptime: func() time.Duration { return time.Since(began) },
	}
}

// Take takes a sample that a node has just sent.
func (g *Gauge) Take(node int64, s usage.Sample) {
	at := g.now()
	g.mu.Lock()
	defer g.mu.Unlock()
	g.put(usage.Row{Node: node, At: at, Step: usage.Fine, Sample: s})
	for _, row := range g.roller.Add(node, at, s) {
		g.put(row)
	}
}

// ClockIsSteady reports whether the service's clock has shown its time for long enough to remove
// anything by it.
func (g *Gauge) ClockIsSteady() bool { return g.sure.Load() }

func (g *Gauge) put(row usage.Row) {
	rows := g.pending[row.Step]
	if len(rows) >= mostPending {
		rows = rows[1:]
		g.dropped++
	}
	g.pending[row.Step] = append(rows, row)
}

// Run writes samples down until the context ends, and then what is left.
func (g *Gauge) Run(ctx context.Context) {
	g.tidy(ctx)
	g.recall(ctx)
	flush, tidy := time.NewTicker(flushEvery), time.NewTicker(tidyEvery)
	defer flush.Stop()
	defer tidy.Stop()
	for {
		select {
		case <-ctx.Done():
			last, cancel := context.WithTimeout(context.WithoutCancel(ctx), flushEvery)
			defer cancel()
			g.flush(last)
			return
		case <-flush.C:
			g.flush(ctx)
		case <-tidy.C:
			g.tidy(ctx)
		}
	}
}

// recall reads the minutes of the quarter that is open, so that it misses
// nothing of what came before a restart.
func (g *Gauge) recall(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, dbTimeout)
	defer cancel()
	rows, err := g.store.UsageSince(ctx, g.now().Truncate(usage.Quarter))
	if err != nil {
		g.log.Warn("what nodes measured before is not reckoned with", "error", err)
		return
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, row := range rows {
		g.roller.Recall(row)
	}
}

// tidy creates the partitions that come next, and drops old ones where the clock can be
// trusted.
func (g *Gauge) tidy(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, dbTimeout)
	defer cancel()
	now := g.now()
	var newest time.Time
	var err error
	if g.clock.first() { // before anything is written by this clock
		newest, err = g.store.NewestSaid(ctx)
	}
	if err == nil {
		err = g.store.Partition(ctx, now, g.mostLogs)
	}
	if err == nil {
		g.sure.Store(g.clock.trusted(now, g.uptime(), newest))
	}
	if err == nil && g.sure.Load() {
		err = g.store.DropPartitions(ctx, now)
	}
	if err != nil && ctx.Err() == nil {
		g.log.Warn("the partitions of samples and logs", "error", err)
	}
}

func (g *Gauge) flush(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, dbTimeout)
	defer cancel()
	g.mu.Lock()
	for _, row := range g.roller.Close(g.now()) {
		g.put(row)
	}
	pending := g.pending
	g.pending = map[time.Duration][]usage.Row{}
	dropped := g.dropped
	g.dropped = 0
	g.mu.Unlock()
	if dropped > 0 {
		g.log.Warn("samples were dropped, as the database does not take them", "samples", dropped)
	}
	for step, rows := range pending {
		if err := g.store.AddUsage(ctx, step, rows); err != nil {
			if ctx.Err() == nil {
				g.log.Warn("samples wait", "error", err)
			}
			g.mu.Lock()
			newer := g.pending[step]
			g.pending[step] = nil
			for _, row := range append(rows, newer...) {
				g.put(row)
			}
			g.mu.Unlock()
		}
	}
}
