package queue

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// Limits of a release in steps.
const (
	mostStep    = 100_000
	mostSeconds = 24 * 3600
)

// SetStay holds a place, a recipe or a pool as a whole, or releases it: at once,
// or in steps.
func (d *Desk) SetStay(ctx context.Context, in wire.Stay, by farm.Person) (out wire.StayDone, err error) {
	err = d.do(ctx, func(t *transaction) error {
		of := farm.FreezeScope{Kind: farm.FreezeKind(in.Kind), Name: in.Name}
		if err := d.checkStay(of, in); err != nil {
			return err
		}
		before, was := t.State.Freezes[of]
		stay := farm.Freeze{
			Held: in.Held, Step: in.Step, Every: in.EverySeconds, Reason: strings.TrimSpace(in.Reason),
			By: by.Name, At: t.Now,
		}
		out = wire.StayDone{DryRun: in.DryRun, Changes: true}
		switch {
		case in.Held && was && before.Held:
			out.Changes, out.Sentence = false, fmt.Sprintf("%s is held already", of)
		case !in.Held && !was:
			out.Changes, out.Sentence = false, fmt.Sprintf("%s is not held", of)
		case in.Held:
			out.Sentence = fmt.Sprintf("%s %s held; %s", of, isOr(in.DryRun), d.holdsUp(t, of))
		case in.Step > 0:
			out.Sentence = fmt.Sprintf(
				"%s %s released, %s at once and as many again every %d s", of, isOr(in.DryRun),
				english.Plural(in.Step, "node", ""),
				in.EverySeconds,
			)
		default:
			out.Sentence = fmt.Sprintf("%s %s released", of, isOr(in.DryRun))
		}
		if !out.Changes || in.DryRun {
			return nil
		}
		action := map[bool]string{true: "hold ", false: "release "}[in.Held] + in.Kind
		t.Append(
			farm.FreezeSet{Of: of, Freeze: stay, At: t.Now},
			farm.Audited{
				Actor: by.Name, Action: action, Subject: in.Name, To: farm.Because(out.Sentence, stay.Reason),
				At: t.Now,
			},
		)
		return nil
	})
	return out, err
}

func isOr(dry bool) string {
	if dry {
		return "would be"
	}
	return "is"
}

func (d *Desk) checkStay(of farm.FreezeScope, in wire.Stay) error {
	known := false
	switch of.Kind {
	case farm.FreezePlace:
		known = d.s.Places[of.Name] != nil
	case farm.FreezeRecipe:
		known = d.recipes.Book()[of.Name] != nil || d.s.Recipes[of.Name] != nil
	case farm.FreezePool:
		known = d.s.Pools[of.Name] != nil
	default:
		return refusal.New(
			refusal.Invalid, "kind", "a place, a recipe or a pool can be held as a whole, not %q", in.Kind,
		)
	}
	switch {
	case !known:
		return refusal.New(refusal.NotFound, "name", "there is no %s %q", in.Kind, in.Name)
	case in.Step < 0 || in.Step > mostStep:
		return refusal.New(refusal.Invalid, "step", "a step is 1 to %d nodes", mostStep)
	case in.Held && in.Step > 0:
		return refusal.New(refusal.Invalid, "step", "only a release goes in steps")
	case in.Step > 0 && (in.EverySeconds < 1 || in.EverySeconds > mostSeconds):
		return refusal.New(refusal.Invalid, "every_seconds", "steps lie 1 s to 24 h apart")
	case len(in.Reason) > 400:
		return refusal.New(refusal.Invalid, "reason", "the reason has more than 400 characters")
	}
	return nil
}

// holdsUp says what a hold means for what is going on.
func (d *Desk) holdsUp(t *transaction, of farm.FreezeScope) string {
	nodes, leases := 0, 0
	for id := range t.State.At(of) {
		nodes++
		for _, l := range t.State.LeasesOf(id) {
			if t.State.Concerns(of, t.State.Nodes[id], t.State.Runs[l.Run]) {
				leases++
			}
		}
	}
	runs := 0
	for _, run := range t.State.Queue() {
		if of.Kind != farm.FreezePool && t.State.Concerns(of, nil, run) && run.State != farm.RunHeld {
			runs++
		}
	}
	text := "nothing is in flight"
	if leases > 0 {
		text = fmt.Sprintf(
			"%s in flight on %s will finish first", english.Plural(leases, "frame", ""),
			english.Plural(nodes, "node", ""),
		)
	}
	if runs > 0 {
		text += fmt.Sprintf(", and %s wait", english.Plural(runs, "run", ""))
		if runs == 1 {
			text += "s"
		}
	}
	return text
}

// Stays returns what is held as a whole or released in steps, in order.
func (d *Desk) Stays(ctx context.Context) ([]wire.Stay, error) {
	out := []wire.Stay{}
	err := d.do(ctx, func(t *transaction) error {
		for of, s := range t.State.Freezes {
			out = append(
				out,
				wire.Stay{
					Kind: string(of.Kind), Name: of.Name, Held: s.Held, Step: s.Step,
					EverySeconds: s.Every, Reason: s.Reason, By: s.By, At: &s.At,
				},
			)
		}
		slices.SortFunc(out, func(a, b wire.Stay) int { return strings.Compare(a.Kind+" "+a.Name, b.Kind+" "+b.Name) })
		return nil
	})
	return out, err
}
