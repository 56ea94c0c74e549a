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
	"vexillum/internal/core/span"
	"vexillum/internal/core/triage"
)

// Run says in one sentence why a run stands where it stands.
func (e *Explainer) Run(run *farm.Run, now time.Time) string {
	if run.Deals() && capacity.FrozenWith(e.s, nil, run) == "" {
		for _, n := range e.s.Roomy() { // one with nothing to do says what is in the way
			if !n.Ready() || !e.s.Idle(n.ID) || !capacity.Fits(e.s, n, run) {
				continue
			}
			if set, why := e.d.Offer(n, run, nil, now); set.Empty() && capacity.FreezeReason(e.s, n, run, now) == "" {
				why += failedText(e.s, run)
				if at := run.Working(); at > 0 {
					return fmt.Sprintf("on %s; %s", english.Plural(at, "node", ""), why)
				}
				return why
			}
			break
		}
	}
	why := whyRun(e.s, run)
	if run.State == farm.RunRendering && run.ToDo.Empty() && run.Later.Empty() {
		if last := e.longest(run); last != "" {
			why += "; " + last
		}
	}
	return why
}

// longest describes the lease of a run that is expected to end last: its frame in flight with the
// time spent and expected, or the frames left and their time.
func (e *Explainer) longest(run *farm.Run) string {
	var of *farm.Lease
	most, spent, frame := 0.0, 0.0, 0.0
	curve := e.m.Curve(run)
	for l := range run.OpenLeases {
		n := e.s.Nodes[l.Node]
		if n == nil || l.Left.Empty() {
			continue
		}
		speed := e.m.SpeedFor(n, run) * capacity.Part(n, run)
		left, seen := curve.Work(l.Left)/max(speed, minSpeed), e.d.Sight(l)
		inFlight := 0.0
		if seen.Begun {
			inFlight = curve.Cost(seen.Frame) / max(speed, minSpeed)
			left = left - inFlight + max(0, inFlight-seen.Seconds)
		}
		late := 0.0
		if seen.Begun {
			late = max(0, seen.Seconds-inFlight)
		}
		if of == nil || left+late > most {
			of, most, spent, frame = l, left+late, seen.Seconds, inFlight
		}
	}
	if of == nil {
		return ""
	}
	seen, node := e.d.Sight(of), e.s.NodeName(of.Node)
	known := curve.Known()
	switch {
	case !seen.Begun:
		return fmt.Sprintf("%s has %s left and has not begun the next", node, english.Plural(of.Left.Len(), "frame", ""))
	case !known:
		return fmt.Sprintf("%s has rendered frame %d for %s", node, seen.Frame, seconds(spent))
	case spent > slowFrame*frame:
		return fmt.Sprintf(
			"%s has rendered frame %d for %s, and %s was expected; compare the node with: vexillum trouble --node %s",
			node, seen.Frame, seconds(spent), seconds(frame), node,
		)
	}
	return fmt.Sprintf(
		"%s ends last, with %s left: about %s at %s a frame", node, english.Plural(of.Left.Len(), "frame", ""),
		seconds(most), seconds(frame),
	)
}

const (
	minSpeed  = 1e-6 // so that nothing is divided by 0
	slowFrame = 1.5  // times what was expected, from which on a frame is called slow
)

func seconds(s float64) string { return span.Text(time.Duration(s * float64(time.Second))) }

// failedText describes the last failure of the frames to do of a run, with what to do, as the end
// of a sentence; "" unless all of them failed before.
func failedText(s *farm.State, run *farm.Run) string {
	if run.ToDo.Len() > len(run.Trouble) {
		return ""
	}
	var last *farm.Attempt
	for f := range run.ToDo.All() {
		t := run.Trouble[f]
		if t == nil || len(t.Attempts) == 0 {
			return ""
		}
		if a := &t.Attempts[len(t.Attempts)-1]; last == nil || a.At.After(last.At) {
			last = a
		}
	}
	if last == nil {
		return ""
	}
	text := fmt.Sprintf(", which failed before, last on %s with %s", s.NodeName(last.Node), last.Cause)
	if remedy := triage.RemedyFor(last.Cause, []*farm.Run{run}); remedy != "" {
		text += ": " + remedy
	}
	return text
}

// parkedText describes the frames of a run that need a person, with the last failure and what to
// do; "" for none.
func parkedText(s *farm.State, run *farm.Run) string {
	open := run.NeedsHand()
	if open.Empty() {
		return ""
	}
	text := fmt.Sprintf("%s %s parked", triage.FramesText(open), english.PluralWord(open.Len(), "is", "are"))
	if t := run.Trouble[open.First()]; t != nil && len(t.Attempts) > 0 {
		last := t.Attempts[len(t.Attempts)-1]
		text += fmt.Sprintf(
			" after failing %s, last on %s (%s)", triage.Times(len(t.Attempts)), s.NodeName(last.Node), last.Cause,
		)
	}
	return text + "; once mended: vexillum retry " + run.Spec.Name()
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
		if parked := parkedText(s, run); parked != "" {
			return run.Reason + "; " + parked
		}
		if run.Held == farm.HeldFailing || run.Held == farm.HeldChanged {
			return run.Reason + "; once mended: vexillum mended " + run.Spec.Name()
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
			return "no node works on it now: " + whyNobody(s, run) + failedText(s, run)
		case n == 0 && todo == 0 && !run.NeedsHand().Empty():
			return parkedText(s, run)
		case todo > 0:
			return fmt.Sprintf(
				"on %s; %s still to deal%s", english.Plural(n, "node", ""), english.Plural(todo, "frame", ""),
				failedText(s, run),
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
	case farm.RunGaps, farm.RunFailed:
		if parked := parkedText(s, run); parked != "" {
			return parked
		}
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

// outOfWork describes an idle node that a person or the farm keeps from work, and what lets it
// work again.
func outOfWork(n *farm.Node) string {
	switch {
	case n.Health == farm.Sidelined:
		return fmt.Sprintf("%s is idle, but %s; to use it: vexillum nodes release %s", n.Name,
			join("sidelined", n.HealthWhy), n.Name)
	case n.Duty == farm.Held || n.Duty == farm.Draining:
		return fmt.Sprintf("%s is idle, but %s; to use it: vexillum nodes release %s", n.Name,
			join(string(n.Duty), n.DutyReason), n.Name)
	case n.Duty == farm.OffDuty:
		return join(n.Name+" is idle, but off duty", n.DutyReason)
	}
	return ""
}

// whyNobody says why nobody has begun with what is to be dealt of a run.
func whyNobody(s *farm.State, run *farm.Run) string {
	var able, ready, busy []string
	aside := ""
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
		if !n.Ready() && n.Reach == farm.Online && s.Idle(n.ID) && aside == "" {
			aside = outOfWork(n)
		}
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
		if aside != "" {
			return "no node is ready for it: " + aside
		}
		return fmt.Sprintf("no node that has %s is ready (%s)", run.Spec.Recipe, some(able))
	case len(busy) == len(ready):
		if aside != "" {
			aside = "; " + aside
		}
		if len(ready) == 1 {
			return fmt.Sprintf(
				"waits its turn: %s, the only node ready with %s, renders what comes before it%s", ready[0],
				run.Spec.Recipe, aside,
			)
		}
		all := "both"
		if len(ready) > 2 {
			all = fmt.Sprintf("all %d", len(ready))
		}
		return fmt.Sprintf(
			"waits its turn: %s nodes ready with %s render what comes before it%s", all, run.Spec.Recipe, aside,
		)
	}
	return "the next node that asks gets frames of it"
}
