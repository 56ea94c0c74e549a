package service

import (
	"cmp"
	"context"
	"math"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/forecast"
	"vexillum/internal/core/span"
	"vexillum/internal/service/queue"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// How an estimate is played: the most plays, and the time for them and for those with
// fewer nodes.
const (
	estimatePlays = 12
	estimateTime  = 1000 * time.Millisecond
	ladderTime    = 1200 * time.Millisecond
	hardTime      = 2500 * time.Millisecond // for the first play, on a large farm that is busy
)

// EstimateOne is Estimate of what somebody asks for as one.
func (s *Service) EstimateOne(ctx context.Context, in wire.Submit, by farm.Person) (wire.Estimate, error) {
	asked, err := oneByOne(Asked{Submit: in}, 0)
	if err != nil {
		return wire.Estimate{}, err
	}
	return s.Estimate(ctx, asked, by)
}

// Estimate says when runs would be finished that somebody asks for, what they would take,
// and whether more nodes would help. Nothing is submitted.
func (s *Service) Estimate(ctx context.Context, asked []Asked, by farm.Person) (out wire.Estimate, err error) {
	done, err := s.estimates.take(ctx, by.Name, changeWait)
	if err != nil {
		return out, err
	}
	if done == nil {
		return out, refusal.New(refusal.Conflict, "", "others' estimates are being played; try again in a moment")
	}
	defer done()
	f, err := s.Floor()
	if err != nil {
		return out, err
	}
	for i := range asked {
		asked[i].DryRun = true
	}
	subs, err := s.submissions(ctx, f, asked, by, "", "")
	if err != nil {
		return out, err
	}
	p := preparing{s: s, f: f, looks: map[lookKey]*looked{}, roots: map[string]*rooted{}}
	ready, err := p.all(ctx, subs)
	if err != nil {
		return out, presetsBlamed(err, subs)
	}
	for i, r := range ready {
		subs[i] = r.sub
	}
	seen, err := f.Queue.Estimating(ctx, subs)
	if err != nil {
		return out, presetsBlamed(err, subs)
	}
	return s.played(ctx, seen)
}

// played plays an estimate.
func (s *Service) played(ctx context.Context, seen queue.Estimating) (out wire.Estimate, err error) {
	began := time.Now()
	within := func(limit time.Duration) func() bool {
		return func() bool {
			runtime.Gosched() // the loop that decides goes first where cores are few
			return ctx.Err() == nil && time.Since(began) < limit
		}
	}
	out = wire.Estimate{Known: true, Currency: "EUR", Curve: []wire.EstimatePoint{}, Basis: seen.Runs[0].Basis}
	var ids []farm.RunID
	for _, run := range seen.Runs {
		out.Known = out.Known && run.Known
		if !run.Known {
			out.Basis = run.Basis
		}
		ids = append(ids, run.ID)
	}
	if !out.Known {
		return out, nil
	}
	// With fewer nodes it is played beside the estimate itself, once that has a first answer: on
	// a large farm each play takes a while.
	var climb *climbing
	if len(seen.Runs) == 1 {
		climb = climbFor(seen.Position, seen.Runs[0], within(estimateTime+ladderTime))
		defer climb.stop()
	}
	inTime := within(estimateTime)
	more := func() bool {
		if climb != nil {
			climb.begin()
		}
		return inTime()
	}
	estimates, err := seen.Position.Estimate(ids, 1, estimatePlays, more, within(hardTime))
	if err != nil {
		return out, err
	}
	median, late, nodes := 0.0, 0.0, 0.0
	for _, run := range seen.Runs {
		e := estimates[run.ID]
		if e.Plays == 0 {
			out.Known, out.Basis = false, run.Name+" would not end as things stand: "+run.WhyNever()
			return out, nil
		}
		median, late, nodes = max(median, e.Median), max(late, e.Late), max(nodes, e.Spent.Nodes)
		for id, seconds := range e.Spent.Seconds {
			rate := seen.Rates[id]
			out.MachineHours += seconds / 3600
			out.EnergyKWh += seconds / 3600 * rate.Watts / 1000
			out.Money += seconds / 3600 * rate.PerHour
			out.Currency = cmp.Or(rate.Currency, out.Currency)
		}
	}
	at := func(seconds float64) *time.Time {
		t := seen.Position.At.Add(span.Of(seconds)).Round(time.Second)
		return &t
	}
	out.Median, out.Late, out.Nodes = at(median), at(late), int(math.Round(nodes))
	if climb != nil {
		points := climb.points(estimates[seen.Runs[0].ID].First)
		for _, p := range points {
			out.Curve = append(out.Curve, wire.EstimatePoint(p))
		}
		out.Sentence = forecast.MoreNodes(points, out.MachineHours*3600)
	}
	return out, nil
}

// climbing plays a run with fewer nodes, as many numbers of them as there is time for.
type climbing struct {
	p       *forecast.Position
	run     queue.EstimatedRun
	ladder  []int
	alive   func() bool
	rungs   chan int
	done    chan forecast.Point
	workers sync.WaitGroup
	stopped atomic.Bool
	once    sync.Once
}

// climbFor is how a run is played with fewer nodes; with the most it is the estimate itself.
func climbFor(p *forecast.Position, run queue.EstimatedRun, alive func() bool) *climbing {
	c := &climbing{
		p: p, run: run, alive: alive, ladder: forecast.Ladder(min(run.Able, run.Terms.Ceiling.Most(run.Able))),
	}
	c.rungs, c.done = make(chan int, len(c.ladder)), make(chan forecast.Point, len(c.ladder)+1)
	for _, i := range forecast.InTurn(len(c.ladder)) {
		if i < len(c.ladder)-1 {
			c.rungs <- i
		}
	}
	close(c.rungs)
	return c
}

// begin begins to play, unless that has begun.
func (c *climbing) begin() { c.once.Do(func() { c.workers.Go(c.work) }) }

// work plays what is left to be played.
func (c *climbing) work() {
	alive := func() bool { return !c.stopped.Load() && c.alive() }
	for i := range c.rungs {
		if !alive() {
			continue
		}
		if point, ok := c.p.WithNodes(c.run.ID, c.run.Terms, c.ladder[i], 1, alive); ok {
			c.done <- point
		}
	}
}

// points waits for what can still be played, now by two, and returns all of it in its order,
// with the finish that the estimate has given for the most nodes.
func (c *climbing) points(most float64) (out []forecast.Point) {
	c.begin()
	c.workers.Go(c.work)
	c.workers.Wait()
	close(c.done)
	for point := range c.done {
		out = append(out, point)
	}
	if n := len(c.ladder); n > 0 && most > 0 { // 0: it did not end by that throw of dice
		out = append(out, forecast.Point{Nodes: c.ladder[n-1], Seconds: most})
	}
	slices.SortFunc(out, func(a, b forecast.Point) int { return cmp.Compare(a.Nodes, b.Nodes) })
	return out
}

// stop lets go of what is not played yet.
func (c *climbing) stop() {
	c.stopped.Store(true)
	c.workers.Wait()
}
