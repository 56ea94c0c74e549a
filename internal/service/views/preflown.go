package views

import (
	"context"
	"fmt"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/farm"
	"vexillum/internal/wire"
)

// Preflown takes what nodes have answered about a run that were asked by themselves; nil: what
// they said counts no more.
func (b *Board) Preflown(ctx context.Context, id farm.RunID, told *wire.RunPreflight) error {
	return b.do(ctx, func(*transaction) error {
		if told == nil {
			delete(b.preflown, id)
		} else {
			b.preflown[id] = *told
		}
		b.dirty.run(id)
		return nil
	})
}

// unfit reports runs that nodes would not render, as a preflight has found: those that fail on
// the same nodes by the same cause as one.
func (b *Board) unfit(sight farm.Sight) (out []wire.NeedHand) {
	at, others := map[string]int{}, map[string]int{}
	for _, run := range b.s.Queue() {
		told, known := b.preflown[run.ID]
		if !known || told.Failing == 0 || !sight.Sees(run.Spec.Project) {
			continue
		}
		if _, before := at[told.Sentence]; before {
			others[told.Sentence]++
			continue
		}
		at[told.Sentence] = len(out)
		v := wire.NeedHand{Kind: farm.HandPreflight, Run: int64(run.ID), Action: "look", Evidence: told.Sentence}
		name := run.Spec.Name()
		if all := told.Failing + told.Passing; told.Passing == 0 {
			v.Sentence = fmt.Sprintf("No node would render %s: %s the preflight.", name, allFail(all))
		} else {
			v.Sentence = fmt.Sprintf(
				"%d of %s would not render %s.", told.Failing, english.Plural(all, "node", ""), name,
			)
		}
		out = append(out, v)
	}
	for sentence, n := range others {
		out[at[sentence]].Sentence += fmt.Sprintf(
			" %s the same.", english.Plural(n, "other run has", "other runs have"),
		)
	}
	return out
}

func allFail(n int) string {
	if n == 1 {
		return "the only one that could fails"
	}
	return fmt.Sprintf("all %d fail", n)
}
