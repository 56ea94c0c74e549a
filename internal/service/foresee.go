package service

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/forecast"
	"vexillum/internal/core/span"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/views"
	"vexillum/internal/wire"
)

// How a change is tried: the number of plays without it and with it, and the
// longest time for them. Both throw the same dice, so that what differs is the change.
const (
	changePlays = 12
	changeTime  = 1200 * time.Millisecond
	namedRuns   = 3
	changeWait  = 5 * time.Second // for the plays of others
)

// Foresee plays a change of a run before it is made, and adds to what is told of
// it when the run is finished with it and without it, and which others are
// finished at another time. Where there is no time to play, nothing is added.
func (s *Service) Foresee(
	ctx context.Context, f *floor.Floor, id farm.RunID, in wire.RunChange, by farm.Person, out *wire.RunChanged,
) error {
	done, err := s.estimates.take(ctx, by.Name, changeWait)
	if err != nil || done == nil { // others' are being played, one after the other
		return err
	}
	defer done()
	seen, err := f.Queue.Foresee(ctx, id, in, by)
	if err != nil {
		return err
	}
	play := func(p *forecast.Position) map[farm.RunID]forecast.Finish {
		began := time.Now()
		inTime := func() bool { return ctx.Err() == nil && time.Since(began) < changeTime }
		finishes, err := p.PlayWhile(1, changePlays, inTime, inTime)
		if err != nil {
			s.o.Log.Warn("playing a change", "error", err)
		}
		return finishes
	}
	before, after := play(seen.Before), play(seen.After)
	if was, will := before[id], after[id]; was.Known && will.Known {
		out.Before, out.After = forecastView(was), forecastView(will)
		if moves(was, will, seen.Before.At) != 0 {
			out.Say(fmt.Sprintf(
				"it is ready about %s instead of %s", farm.Moment(will.Median), farm.Moment(was.Median),
			))
		} else {
			out.Say(fmt.Sprintf("it is ready about %s either way", farm.Moment(will.Median)))
		}
	} else if will.Why != "" {
		out.Say("when it is ready is not known: " + will.Why)
	}
	for other, was := range before {
		by := moves(was, after[other], seen.Before.At)
		if other != id && by != 0 {
			out.Others = append(out.Others, wire.RunMoves{Run: int64(other), Name: seen.Names[other], Seconds: by})
		}
	}
	slices.SortFunc(out.Others, func(a, b wire.RunMoves) int {
		return cmp.Or(cmp.Compare(math.Abs(b.Seconds), math.Abs(a.Seconds)), cmp.Compare(a.Run, b.Run))
	})
	hidden, err := hiddenOf(ctx, f, out.Others, by)
	if err != nil {
		return err
	}
	for i, m := range out.Others {
		if hidden[m.Run] {
			out.Others[i].Run, out.Others[i].Name = 0, views.Another
		}
	}
	out.Say(othersTexts(out.Others)...)
	return nil
}

// hiddenOf returns which of runs that move somebody does not see.
func hiddenOf(ctx context.Context, f *floor.Floor, moved []wire.RunMoves, by farm.Person) (map[int64]bool, error) {
	var runs []int64
	for _, m := range moved {
		runs = append(runs, m.Run)
	}
	return f.Views.Hidden(ctx, runs, f.People.Access().Sight(by))
}

// othersTexts say which other runs are finished at another time.
func othersTexts(others []wire.RunMoves) (parts []string) {
	for _, m := range others[:min(len(others), namedRuns)] {
		way := "later"
		if m.Seconds < 0 {
			way = "earlier"
		}
		d := span.Of(math.Abs(m.Seconds)).Round(time.Minute)
		parts = append(parts, fmt.Sprintf("%s is ready %s %s", m.Name, strings.TrimSuffix(d.String(), "0s"), way))
	}
	if more := len(others) - namedRuns; more > 0 {
		parts = append(parts, fmt.Sprintf("%d more are ready at another time", more))
	}
	return parts
}

// moves returns by how many seconds a finish moves: 0 where that is less than a
// minute, or little of the time until then.
func moves(was, will forecast.Finish, now time.Time) float64 {
	if !was.Known || !will.Known {
		return 0
	}
	by := will.Median.Sub(was.Median)
	if by.Abs() < time.Minute || by.Abs() < was.Median.Sub(now)/20 {
		return 0
	}
	return by.Seconds()
}

func forecastView(f forecast.Finish) *wire.Forecast {
	median, late := f.Median.Round(time.Second), f.Late.Round(time.Second)
	return &wire.Forecast{Known: true, Median: &median, Late: &late}
}
