package views

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"vexillum/internal/core/fairness"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/forecast"
	"vexillum/internal/drillfile"
	"vexillum/internal/wire"
)

// Position returns the live farm as plays of what comes next need it.
func (b *Board) Position(ctx context.Context) (p *forecast.Position, err error) {
	err = b.do(ctx, func(t *transaction) error {
		p = forecast.Take(t.State, b.m, b.e.Sight, b.dealer.Queue().Usage(), t.Now)
		return nil
	})
	return p, err
}

// Foretell takes what plays of a position have told, and reports whether there are runs by now
// of which frames have told something and nothing is forecast yet.
func (b *Board) Foretell(
	ctx context.Context, at time.Time, finishes map[farm.RunID]forecast.Finish,
) (lacking bool, err error) {
	err = b.do(ctx, func(*transaction) error {
		b.foretold, b.foretoldAt = finishes, at
		for id := range finishes {
			b.dirty.run(id)
		}
		for _, run := range b.s.Queue() {
			finish, played := finishes[run.ID]
			if (!played || finish.Why == forecast.NoFrame) && b.m.Curve(run).Known() &&
				(run.State == farm.RunQueued || run.State == farm.RunRendering) {
				lacking = true
			}
		}
		return nil
	})
	return lacking, err
}

// Received returns what projects have received lately.
func (b *Board) Received(ctx context.Context) (out []fairness.Received, err error) {
	err = b.do(ctx, func(*transaction) error { out = b.dealer.Queue().Usage(); return nil })
	return out, err
}

// foretoldGood is how long the forecast of the last plays is shown.
const foretoldGood = 10 * time.Minute

// Forecast returns when a run will be finished, as plays of what comes next have
// told last, or why that is not known.
func (b *Board) Forecast(run *farm.Run, now time.Time) wire.Forecast {
	finish, played := b.foretold[run.ID]
	switch {
	case run.State.Closed():
		return wire.Forecast{Known: true, Median: instant(run.EndedAt), Late: instant(run.EndedAt)}
	case run.State == farm.RunHeld:
		return wire.Forecast{Why: "the run is held"}
	case run.State == farm.RunWaiting && !played:
		return wire.Forecast{Why: "the run waits for another, of which the end is not known"}
	case played && finish.Never:
		return wire.Forecast{Why: finish.Why}
	case !b.m.Curve(run).Known() && run.Done.Empty():
		return wire.Forecast{Why: forecast.NoFrame}
	case !played || now.Sub(b.foretoldAt) > foretoldGood || finish.Why == forecast.NoFrame: // of the moment before
		return wire.Forecast{Why: "it is being worked out"}
	case !finish.Known:
		return wire.Forecast{Why: cmp.Or(finish.Why, "no node renders it at the moment")}
	}
	median, late := later(finish.Median, now).Round(time.Second), later(finish.Late, now).Round(time.Second)
	return wire.Forecast{Known: true, Median: instant(median), Late: instant(late)}
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// atRisk reports whether a run is forecast to miss the time when it is due, or
// has missed it.
func (b *Board) atRisk(run *farm.Run, finish wire.Forecast, now time.Time) bool {
	due := run.Terms.Due
	if due.IsZero() || run.State.Closed() {
		return false
	}
	return now.After(due) || finish.Known && finish.Late.After(due) || !finish.Known && b.early(run, now).After(due)
}

// early is before when a run is hardly ready that has told nothing yet; zero
// where nothing is known.
func (b *Board) early(run *farm.Run, now time.Time) time.Time {
	if run.State != farm.RunRendering && run.State != farm.RunQueued || now.Sub(b.foretoldAt) > foretoldGood {
		return time.Time{}
	}
	return b.foretold[run.ID].Early
}

// risks reports runs that are forecast to miss the time when they are due.
func (b *Board) risks(now time.Time) (out []wire.NeedHand) {
	for _, run := range b.s.Queue() {
		if run.Terms.Due.IsZero() {
			continue
		}
		finish := b.Forecast(run, now)
		if !b.atRisk(run, finish, now) {
			continue
		}
		due := run.Terms.Due
		v := wire.NeedHand{
			Kind: farm.HandAtRisk, Run: int64(run.ID), Action: "look",
			Sentence: fmt.Sprintf("%s is at risk: it is due %s.", run.Spec.Name(), farm.Moment(due)),
		}
		switch {
		case now.After(due):
			v.Sentence = fmt.Sprintf("%s was due %s and is not ready.", run.Spec.Name(), farm.Moment(due))
			v.Evidence = "See what it waits for, or move the time."
		case !finish.Known:
			v.Evidence = fmt.Sprintf(
				"Nothing of it is rendered yet; going by how long frames of %s usually take, it will hardly be "+
					"ready before %s.",
				run.Spec.Recipe, farm.Moment(b.early(run, now)),
			)
		case finish.Median.After(due):
			v.Evidence = fmt.Sprintf(
				"As things stand it will be ready %s, %s late; more nodes, a higher priority or a later time "+
					"would help.",
				farm.Moment(*finish.Median), finish.Median.Sub(due).Round(time.Minute),
			)
		default:
			v.Evidence = fmt.Sprintf(
				"It will probably be ready in time; one time in ten it will not be ready before %s.",
				farm.Moment(*finish.Late),
			)
		}
		out = append(out, v)
	}
	return out
}

// scouted reports runs whose scouts wait to be looked at.
func (b *Board) scouted() (out []wire.NeedHand) {
	for _, run := range b.s.Queue() {
		if run.State == farm.RunHeld && run.Spec.Wait && !run.Terms.Scouted && !run.StartedAt.IsZero() {
			out = append(out, wire.NeedHand{
				Kind: farm.HandScouts, Run: int64(run.ID), Action: "look",
				Sentence: fmt.Sprintf("The scouts of %s are waiting for your yes.", run.Spec.Name()),
				Evidence: fmt.Sprintf("Frames %s are rendered; release the run and the rest follows.", run.Spec.Scouts),
			})
		}
	}
	return out
}

// Drill describes the live farm for a play on paper.
func (b *Board) Drill(ctx context.Context) (out drillfile.File, err error) {
	err = b.do(ctx, func(t *transaction) error {
		out = drillfile.FromFarm(t.State, b.m, t.Now)
		return nil
	})
	return out, err
}
