package views

import (
	"cmp"
	"context"
	"math"
	"slices"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/hands"
	"vexillum/internal/wire"
)

// alerts lists what wants a person who sees so much: what costs most first, and what is put
// off last. What somebody has resolved is left out.
func (b *Board) alerts(now time.Time, sight farm.Sight) []wire.NeedHand {
	list := b.handsFor(b.raw(now, sight), sight)
	out := make([]wire.NeedHand, 0, len(list))
	weights, urgency := map[farm.HandOf]float64{}, farm.HandKinds()
	for _, v := range list {
		of := handOf(v)
		h := b.s.Hands[of]
		if h != nil && h.Done() {
			continue
		}
		cost := hands.CostOf(b.s, of, b.frameSeconds)
		weights[of] = cost.Weight(now)
		v.Cost = costView(cost.Rounded())
		v.Count = 1
		if h != nil && h.EndedAt.IsZero() {
			v.ID, v.Since, v.Count, v.TakenBy = int64(h.ID), &h.RaisedAt, h.Count, h.TakenBy
			if h.Snoozed(now) {
				v.SnoozedBy, v.SnoozedUntil = h.SnoozedBy, &h.SnoozedUntil
			}
		}
		out = append(out, v)
	}
	off := func(v wire.NeedHand) int {
		if v.SnoozedUntil != nil {
			return 1
		}
		return 0
	}
	slices.SortStableFunc(out, func(a, b wire.NeedHand) int {
		return cmp.Or(
			cmp.Compare(off(a), off(b)), cmp.Compare(weights[handOf(b)], weights[handOf(a)]),
			cmp.Compare(slices.Index(urgency, a.Kind), slices.Index(urgency, b.Kind)),
			cmp.Compare(a.Node, b.Node), cmp.Compare(b.Run, a.Run), cmp.Compare(subjectText(a), subjectText(b)),
		)
	})
	return out
}

// raw lists what wants a person, in no order.
func (b *Board) raw(now time.Time, sight farm.Sight) (out []wire.NeedHand) {
	for _, some := range [][]wire.NeedHand{
		b.parked(sight), b.stuck(now), b.sidelined(now), b.waiting(now, sight), b.frozen(), b.undelivered(), b.risks(now),
		b.scouted(), b.silent(), b.unfit(sight), b.budgets(now, sight),
	} {
		out = append(out, some...)
	}
	return out
}

func subjectText(h wire.NeedHand) string {
	if h.Subject == nil {
		return ""
	}
	return h.Subject.Kind + " " + h.Subject.Name
}

// handOf says what something that needs a hand is about.
func handOf(v wire.NeedHand) farm.HandOf {
	of := farm.HandOf{Kind: v.Kind, Run: farm.RunID(v.Run), Node: farm.NodeID(v.Node)}
	if v.Subject != nil {
		of.Subject, of.Name = v.Subject.Kind, v.Subject.Name
	}
	return of
}

func costView(c hands.Cost) wire.HandCost {
	v := wire.HandCost{Frames: c.Frames, Minutes: math.Round(c.Seconds/6) / 10, Text: c.Text()}
	if !c.Due.IsZero() {
		v.Due = &c.Due
	}
	return v
}

// frameSeconds is how long a node of speed 1 takes for a frame of a run; 0 where nothing is
// known of that.
func (b *Board) frameSeconds(run *farm.Run) float64 {
	cost, _ := b.m.Cost(run)
	return cost.Mean
}

// Hands returns what needs a hand, what costs most first.
func (b *Board) Hands(ctx context.Context, sight farm.Sight) (out []wire.NeedHand, err error) {
	err = b.do(ctx, func(t *transaction) error {
		out = b.alerts(t.Now, sight)
		return nil
	})
	return out, err
}

// Alerts returns all that wants a person just now, for what is kept of it.
func (b *Board) Alerts(
	ctx context.Context,
	use func(s *farm.State, alerts []hands.Alert, now time.Time) []farm.Record,
) error {
	return b.do(ctx, func(t *transaction) error {
		var alerts []hands.Alert
		for _, v := range b.raw(t.Now, farm.Sight{}) {
			a := hands.Alert{Of: handOf(v), Sentence: v.Sentence, Evidence: v.Evidence}
			if run := b.s.Runs[a.Of.Run]; run != nil {
				a.Project = run.Spec.Project
			}
			if a.Of.Subject == "project" {
				a.Project = a.Of.Name
			}
			alerts = append(alerts, a)
		}
		t.Append(use(t.State, alerts, t.Now)...)
		return nil
	})
}

// Saying returns what is said now of what needs a hand, by its number: the sentence and what
// speaks for it.
func (b *Board) Saying(ctx context.Context) (map[int64][2]string, error) {
	out := map[int64][2]string{}
	err := b.do(ctx, func(t *transaction) error {
		for _, v := range b.raw(t.Now, farm.Sight{}) {
			if h := b.s.Hands[handOf(v)]; h != nil && h.EndedAt.IsZero() {
				out[int64(h.ID)] = [2]string{v.Sentence, v.Evidence}
			}
		}
		return nil
	})
	return out, err
}

// Veiled takes out of sentences the names of runs that somebody does not see.
func (b *Board) Veiled(ctx context.Context, sight farm.Sight, sentences ...*string) error {
	if sight.All() {
		return nil
	}
	return b.do(ctx, func(*transaction) error {
		for _, text := range sentences {
			*text = b.veiled(*text, sight)
		}
		return nil
	})
}
