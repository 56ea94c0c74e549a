package service

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/queue"
	"vexillum/internal/wire"
)

// How runs are asked about by themselves.
const (
	preflightRound  = 5 * time.Second
	preflightAgain  = 5 * time.Minute // after one in which nodes failed: somebody may have mended them
	preflightsAtOne = 50              // runs in a round
	preflightMissed = time.Hour       // an evening that a service finds when it starts
)

// preflightByItself asks nodes about runs that somebody holds, and in the evening about all
// that are open, and lets the views tell what they answer.
func (s *Service) preflightByItself(ctx context.Context, f *floor.Floor) {
	p := &preflights{s: s, f: f, known: map[farm.RunID]asked{}, looked: s.o.Now().Add(-preflightMissed)}
	every := time.NewTicker(preflightRound)
	defer every.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-every.C:
		}
		if err := p.round(ctx); err != nil && ctx.Err() == nil {
			s.o.Log.Debug("asking nodes about runs", "error", err)
		}
	}
}

// preflights remembers what was asked by itself, as long as the service is active.
type preflights struct {
	s      *Service
	f      *floor.Floor
	known  map[farm.RunID]asked
	looked time.Time // up to when evenings were looked for
	night  time.Time // the last evening
}

// asked is what nodes have answered about a run.
type asked struct {
	told   wire.RunPreflight
	failed []string // nodes
}

// again reports whether nodes are to be asked again: those that failed, once somebody may
// have mended them, and all of them in the evening.
func (p *preflights) again(a asked, now time.Time) bool {
	return a.told.At.Before(p.night) || len(a.failed) > 0 && now.Sub(a.told.At) >= preflightAgain
}

// round asks about what is to be asked about now.
func (p *preflights) round(ctx context.Context) error {
	rule, err := p.f.Setup.PreflightRule(ctx)
	if err != nil {
		return err
	}
	now := p.s.o.Now()
	if (farm.PreflightRule{Held: rule.Held, Night: rule.Night, Zone: rule.Zone}).NightWithin(p.looked, now) {
		p.night = now
	}
	p.looked = now
	known := map[farm.RunID]bool{}
	for id, a := range p.known {
		known[id] = p.again(a, now)
	}
	runs, gone, err := p.f.Queue.ToPreflight(ctx, queue.PreflightAsk{
		Held: rule.Held, All: now.Sub(p.night) < preflightMissed, Known: known, Most: preflightsAtOne,
	})
	if err != nil {
		return err
	}
	for _, id := range gone {
		delete(p.known, id)
		if err := p.f.Views.Preflown(ctx, id, nil); err != nil {
			return err
		}
	}
	same := map[string]asked{} // runs that ask the same of nodes are asked about once
	for _, run := range runs {
		key := sameOfNodes(run.Spec)
		answer, known := same[key]
		if !known {
			before := p.known[run.ID]
			if before.told.At.Before(p.night) {
				before = asked{}
			}
			if answer, err = p.ask(ctx, run.Spec, before); err != nil {
				return err
			}
		}
		p.known[run.ID], same[key] = answer, answer
		if err := p.f.Views.Preflown(ctx, run.ID, &answer.told); err != nil {
			return err
		}
	}
	return nil
}

// sameOfNodes is the same for runs that ask the same of nodes.
func sameOfNodes(spec farm.Spec) string {
	return fmt.Sprintf(
		"%q %q %d %q %q %q %q %q %+v", spec.Project, spec.Recipe, spec.RecipeVersion, spec.Scene, spec.SceneSHA,
		spec.Bundle, spec.With, spec.Needs, spec.Takes,
	)
}

// ask asks about a run: all nodes, or only those that have failed before.
func (p *preflights) ask(ctx context.Context, spec farm.Spec, before asked) (out asked, err error) {
	candidates, err := p.f.Fleet.Candidates(ctx, spec, before.failed)
	if err != nil {
		return out, err
	}
	ready := candidates[:0]
	for _, c := range candidates { // of others it is told already why they do not render
		if c.Ready {
			ready = append(ready, c)
		}
	}
	rows, err := p.s.askAll(ctx, ready, spec, false)
	if err != nil {
		return out, err
	}
	out.told.At = p.s.o.Now()
	if len(before.failed) > 0 {
		out.told.Passing = before.told.Passing
	}
	for _, row := range rows {
		if row.Passes {
			out.told.Passing++
			continue
		}
		out.failed = append(out.failed, row.Name)
		out.told.Sentence = cmp.Or(out.told.Sentence, whyFails(row))
	}
	if out.told.Failing = len(out.failed); out.told.Failing > 1 {
		out.told.Sentence += " " + strings.Join(out.failed[1:min(4, len(out.failed))], ", ")
		if more := len(out.failed) - 4; more > 0 {
			out.told.Sentence += fmt.Sprintf(" and %d more", more)
		}
		out.told.Sentence += english.PluralWord(len(out.failed)-1, " fails too.", " fail too.")
	}
	return out, nil
}

// whyFails says why a node does not pass, and what to do.
func whyFails(row wire.PreflightNode) string {
	for _, a := range row.Answers {
		if !a.Passes {
			text := fmt.Sprintf("%s, %s: %s.", row.Name, a.Question, strings.TrimSuffix(a.Says, "."))
			if a.Remedy != "" {
				text += fmt.Sprintf(" To mend it: %s.", strings.TrimSuffix(a.Remedy, "."))
			}
			return text
		}
	}
	return ""
}
