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
		if run.Held == farm.HeldStep {
			return run.Reason + "; render that again, or release this run to go on without it"
		}
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
		case n == 0 && todo == 0 && !run.Later.Empty():
			return laterText(s, run)
		case todo == 0 && !run.Later.Empty():
			return fmt.Sprintf("on %s; %s", english.Plural(n, "node", ""), laterText(s, run))
		case n == 0 && todo > 0:
			return "no node works on it now: " + whyNobody(s, run)
		case todo > 0:
			return fmt.Sprintf(
				"on %s; %s still to deal", english.Plural(n, "node", ""), english.Plural(todo, "frame", ""),
			)
		default:
			return fmt.Sprintf("on %s; all frames are dealt", english.Plural(n, "node", ""))
		}
	case farm.RunWaiting:
		return waits(s, run)
	case farm.RunQueued:
		if run.ToDo.Empty() && !run.Later.Empty() {
			return laterText(s, run)
		}
	case farm.RunGaps:
		return run.ClosingReason(run.State) // frames may have been skipped since
	default:
		return run.Reason
	}
	return whyNobody(s, run)
}

// waits says what a run waits for that may not begin.
func waits(s *farm.State, run *farm.Run) string {
	_, other := s.Gate(run)
	if other == nil {
		return run.Reason
	}
	text := fmt.Sprintf("waits for %s, which is %s", other.Spec.Name(), other.State)
	if other.State == farm.RunRendering && other.Spec.Frames.Len() > 1 {
		text += fmt.Sprintf(": %d of %d frames are done", other.Done.Len(), other.Spec.Frames.Len())
	}
	if more := len(run.Spec.After) - 1; more > 0 {
		text += fmt.Sprintf("; %s in all", english.Plural(more+1, "run", ""))
	}
	return text
}

// laterText says for which frames of other runs the frames of a run wait.
func laterText(s *farm.State, run *farm.Run) string {
	for _, a := range run.Spec.After {
		other := s.Runs[a.Run]
		if other == nil || !a.Frames {
			continue
		}
		if missing := run.Later.Minus(other.Done); !missing.Empty() {
			frame := "frames"
			if missing.Len() == 1 {
				frame = "frame"
			}
			return fmt.Sprintf(
				"waits for %s %s of %s, which is %s",
				frame,
				missing.Brief(),
				other.Spec.Name(),
				other.State,
			)
		}
	}
	return fmt.Sprintf("%s wait for other runs", english.Plural(run.Later.Len(), "frame", ""))
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
			if r, _ := n.Facts.Renderer(run.Spec.Recipe); r.Recipe != "" {
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
		all := "both"
		if len(ready) > 2 {
			all = fmt.Sprintf("all %d", len(ready))
		}
		return fmt.Sprintf(
			"waits its turn: %s nodes ready with %s render what comes before it", all, run.Spec.Recipe,
		)
	}
	return "the next node that asks gets frames of it"
}
