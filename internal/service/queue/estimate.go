package queue

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/forecast"
	"vexillum/internal/core/pace"
	"vexillum/internal/service/refusal"
)

// Estimating is the live farm with runs that are not submitted yet, as plays of it need it.
type Estimating struct {
	Position *forecast.Position
	Runs     []EstimatedRun
	Rates    map[farm.NodeID]farm.Rate
	Names    map[farm.RunID]string // of the runs in the queue
}

// EstimatedRun is one of those runs.
type EstimatedRun struct {
	ID    farm.RunID // that it would have
	Name  string
	Terms farm.Terms
	Able  int    // nodes that are online and could take it
	Known bool   // something is known of what its frames cost
	Basis string // on what that rests, as a sentence
}

// WhyNever says why a run would not end.
func (r EstimatedRun) WhyNever() string {
	if r.Able == 0 {
		return "no node that is online can take it"
	}
	return "it waits for others, or for nodes that do not come; or the farm is so busy that there was no time to play it"
}

// mostEstimated bounds the runs that an estimate is about.
const mostEstimated = 200

// Estimating returns the farm as it would be with checked submissions. Held ones count as
// if somebody had released them.
func (d *Desk) Estimating(ctx context.Context, subs []Submission) (out Estimating, err error) {
	if len(subs) > mostEstimated {
		return out, refusal.New(
			refusal.Invalid, "", "%d runs are asked about, and at most %d are estimated together; ask about some of them",
			len(subs), mostEstimated,
		)
	}
	for i := range subs {
		subs[i].Held = false
	}
	ready, err := d.rehearse(ctx, subs)
	if err != nil {
		return out, err
	}
	err = d.do(ctx, func(t *transaction) error {
		if !ready.holds(t, subs) {
			if ready, err = t.prepareAll(subs); err != nil {
				return err
			}
		}
		var further []*farm.Run
		for i := range ready.records {
			run := ready.run(i)
			further = append(further, run)
			basis, known := t.basis(run)
			out.Runs = append(out.Runs, EstimatedRun{
				ID: run.ID, Name: run.Spec.Name(), Terms: run.Terms, Able: capacity.Able(t.State, run), Known: known,
				Basis: basis,
			})
		}
		out.Position = forecast.TakeWith(
			t.State, d.m, d.e.Sight, d.dealer.Queue().Usage(), t.Now, further,
		)
		for _, run := range further { // others will have their numbers
			d.m.Forget(run.ID)
			d.dealer.Forget(run.ID)
		}
		out.Rates, out.Names = map[farm.NodeID]farm.Rate{}, map[farm.RunID]string{}
		for _, n := range t.State.NodeList() {
			if n.RetiredAt.IsZero() {
				out.Rates[n.ID] = t.State.RateOf(n)
			}
		}
		for _, run := range t.State.Queue() {
			out.Names[run.ID] = run.Spec.Name()
		}
		return nil
	})
	return out, err
}

// basis says on what rests what frames of a run are expected to cost.
func (t *transaction) basis(run *farm.Run) (sentence string, known bool) {
	var last *farm.Run
	var open []*farm.Run
	for other := range t.State.Before(run.Spec) {
		switch {
		case other.Done.Empty():
		case !other.State.Closed():
			open = append(open, other)
		case last == nil || other.EndedAt.After(last.EndedAt):
			last = other
		}
	}
	// Of those under way the one that says most: the most alike, and of those the farthest.
	slices.SortStableFunc(open, func(a, b *farm.Run) int {
		_, ofA := t.d.m.Scale(run.Spec, a.Spec)
		_, ofB := t.d.m.Scale(run.Spec, b.Spec)
		return cmp.Or(cmp.Compare(ofA, ofB), cmp.Compare(b.Done.Len(), a.Done.Len()))
	})
	for _, other := range open {
		if t.d.m.Adopt(run, other) {
			return t.goesBy(run, other), true
		}
	}
	switch t.d.m.BasisOf(run) {
	case pace.BasisJob, pace.BasisRun:
	case pace.BasisRecipe:
		return fmt.Sprintf(
			"No frame of this job is rendered yet: it goes by what frames of %s mostly cost, by their pixels. A proof tells "+
				"more.",
			run.Spec.Recipe,
		), true
	default:
		return fmt.Sprintf(
			"Nothing that %s rendered is known yet, so nothing can be said; a proof tells more.", run.Spec.Recipe,
		), false
	}
	if last == nil {
		return "It goes by an earlier run of the job.", true
	}
	return t.goesBy(run, last), true
}

// goesBy says by which run of its job an estimate goes.
func (t *transaction) goesBy(run, last *farm.Run) string {
	text := fmt.Sprintf(
		"It goes by %s, of which %s rendered",
		last.Spec.Name(),
		english.Plural(last.Done.Len(), "frame is", "frames are"),
	)
	if factor, doubt := t.d.m.Scale(run.Spec, last.Spec); cmp.Compare(factor, 1) != 0 {
		if spread := 100 * (math.Exp(doubt) - 1); spread < 100 {
			text += fmt.Sprintf(
				"; a frame here should take %s times as long, give or take %.0f %%",
				short(factor),
				spread,
			)
		} else {
			text += fmt.Sprintf(
				"; a frame here may take about %s times as long, which is little more than a guess", short(factor),
			)
		}
	}
	return text + "."
}

// short writes a number with two figures that count.
func short(x float64) string {
	switch {
	case x >= 10:
		return fmt.Sprintf("%.0f", x)
	case x >= 1:
		return fmt.Sprintf("%.1f", x)
	}
	return fmt.Sprintf("%.2f", x)
}
