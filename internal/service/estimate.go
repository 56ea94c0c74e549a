package service

import (
	"cmp"
	"context"
	"math"
	"slices"
	"sync"
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
	wait := time.NewTimer(changeWait)
	defer wait.Stop()
	select {
	case s.trying <- struct{}{}:
		defer func() { <-s.trying }()
	case <-wait.C:
		return out, refusal.New(refusal.Conflict, "", "others' estimates are being played; try again in a moment")
	case <-ctx.Done():
		return out, ctx.Err()
	}
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
		return out, err
	}
	for i, r := range ready {
		subs[i] = r.sub
	}
	seen, err := f.Queue.Estimating(ctx, subs)
	if err != nil {
		return out, err
	}
	return s.played(ctx, seen)
}

// played plays an estimate.
func (s *Service) played(ctx context.Context, seen queue.Estimating) (out wire.Estimate, err error) {
	began := time.Now()
	within := func(limit time.Duration) func() bool {
		return func() bool { return ctx.Err() == nil && time.Since(began) < limit }
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
	estimates, err := seen.Position.Estimate(ids, 1, estimatePlays, within(estimateTime), within(hardTime))
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
	if len(seen.Runs) == 1 {
		run := seen.Runs[0]
		ladder := forecast.Ladder(min(run.Able, run.Terms.Ceiling.Most(run.Able)))
		began = began.Add(min(time.Since(began), hardTime-ladderTime)) // less where the plays took long
		points := climbed(seen.Position, run, ladder, within(ladderTime))
		for _, p := range points {
			out.Curve = append(out.Curve, wire.EstimatePoint(p))
		}
		out.Sentence = forecast.MoreNodes(points, out.MachineHours*3600)
	}
	return out, nil
}

// climbers is how many rungs of a ladder are played side by side.
const climbers = 2

// climbed plays a run with fewer nodes, as many numbers of them as there is time for, and
// returns the points in their order.
func climbed(
	p *forecast.Position, run queue.EstimatedRun, ladder []int, alive func() bool,
) (out []forecast.Point) {
	rungs := make(chan int)
	points := make(chan forecast.Point, len(ladder))
	var workers sync.WaitGroup
	for range climbers {
		workers.Go(func() {
			for i := range rungs {
				if !alive() {
					continue
				}
				if point, ok := p.WithNodes(run.ID, run.Terms, ladder[i], 1, alive); ok {
					points <- point
				}
			}
		})
	}
	for _, i := range forecast.InTurn(len(ladder)) {
		rungs <- i
	}
	close(rungs)
	workers.Wait()
	close(points)
	for point := range points {
		out = append(out, point)
	}
	slices.SortFunc(out, func(a, b forecast.Point) int { return cmp.Compare(a.Nodes, b.Nodes) })
	return out
}
