package explain

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
)

// Run says in one sentence why a run stands where it stands.
func (e *Explainer) Run(run *farm.Run, now time.Time) string {
	if run.Deals() && capacity.FrozenWith(e.s, nil, run) == "" {
		for _, n := range e.s.Roomy() { // one with nothing to do says what is in the way
			if !n.Ready() || !e.s.Idle(n.ID) || !capacity.Fits(e.s, n, run) {
				continue
			}
			if set, why := e.d.Offer(n, run, nil, now); set.Empty() && capacity.FreezeReason(e.s, n, run, now) == "" {
				if at := run.Working(); at > 0 {
					return fmt.Sprintf("on %s; %s", english.Plural(at, "node", ""), why)
				}
				return why
			}
			break
		}
	}
	return whyRun(e.s, run)
}

func whyRun(s *farm.State, run *farm.Run) string {
	if s.Missing[run.Spec.Recipe] && (run.State == farm.RunQueued || run.State == farm.RunRendering) {
		return capacity.MissingText(run)
	}
	if run.State == farm.RunRendering || run.State == farm.RunQueued {
		if held := capacity.FrozenWith(s, nil, run); held != "" {
			if n := run.Working(); n > 0 {
				return fmt.Sprintf("%s; %s in flight will finish first", held, english.Plural(n, "frame", ""))
			}
			return held + "; release it to go on"
		}
	}
	switch run.State {
	case farm.RunHeld:
		if n := run.Working(); n > 0 {
			return fmt.Sprintf("%s; %s in flight will finish first", run.Reason, english.Plural(n, "frame", ""))
		}
		if run.StartedAt.IsZero() && strings.HasPrefix(run.Reason, "held by ") {
			return run.Reason + "; release it to start"
		}
		if run.StartedAt.IsZero() {
			return "release it to start"
		}
		return run.Reason + "; release it to go on"
	case farm.RunRendering:
		n := run.Working()
		switch todo := run.ToDo.Len(); {
		case n == 0 && todo > 0:
			return "no node works on it now: " + whyNobody(s, run)
		case todo > 0:
			return fmt.Sprintf(
				"on %s; %s still to deal", english.Plural(n, "node", ""), english.Plural(todo, "frame", ""),
			)
		default:
			return fmt.Sprintf("on %s; all frames are dealt", english.Plural(n, "node", ""))
		}
	case farm.RunQueued:
	default:
		return run.Reason
	}
	return whyNobody(s, run)
}

// whyNobody says why nobody has begun with what is to be dealt of a run.
func whyNobody(s *farm.State, run *farm.Run) string {
	var able, ready, busy []string
	obstacle := ""
	for _, id := range slices.Sorted(maps.Keys(s.Nodes)) {
		n := s.Nodes[id]
		if !n.RetiredAt.IsZero() {
			continue
		}
		if !capacity.Fits(s, n, run) {
			if _, has := n.Facts.Renderer(run.Spec.Recipe); has {
				obstacle = capacity.Unfit(s, n, run)
			}
			continue
		}
		able = append(able, n.Name)
		if n.Ready() {
			ready = append(ready, n.Name)
			if !s.Idle(n.ID) {
				busy = append(busy, n.Name)
			}
		}
	}
	switch {
	case len(able) == 0:
		return capacity.Nowhere(run, obstacle)
	case len(ready) == 0:
		return fmt.Sprintf("no node that has %s is ready (%s)", run.Spec.Recipe, some(able))
	case len(busy) == len(ready):
		if len(ready) == 1 {
			return fmt.Sprintf(
				"waits its turn: %s, the only node ready with %s, renders what comes before it", ready[0],
				run.Spec.Recipe,
			)
		}
		return fmt.Sprintf(
			"waits its turn: all %d nodes ready with %s render what comes before it", len(ready), run.Spec.Recipe,
		)
	}
	return "the next node that asks gets frames of it"
}
