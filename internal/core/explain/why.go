package explain

import (
	"fmt"
	"time"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
)

// Pair says in one sentence why a node works on a run, or does not, and
// what would clear that.
func (e *Explainer) Pair(run *farm.Run, n *farm.Node, now time.Time) string {
	name := run.Spec.Name()
	if run.State.Closed() {
		return fmt.Sprintf("%s is %s: %s", name, run.State, whyRun(e.s, run))
	}
	held := e.s.LeasesOf(n.ID)
	for _, l := range held {
		if l.Run == run.ID {
			return fmt.Sprintf("%s works on it: %s", n.Name, l.Reason)
		}
	}
	if !n.Ready() {
		return n.Name + " " + e.Node(n, now)
	}
	set, why := e.d.Offer(n, run, nil, now)
	if set.Empty() {
		return why
	}
	if len(held) > 0 {
		other := e.s.Runs[held[0].Run]
		if other.Before(run) {
			return fmt.Sprintf(
				"%s works on %s, which comes first, and has %s of it left", n.Name, other.Spec.Name(),
				english.Plural(held[0].Left.Len(), "frame", ""),
			)
		}
		if _, full := capacity.Room(e.s, e.m, n, run, nil, nil); full != "" {
			return fmt.Sprintf("%s; it is dealt to again when its lease of %s has ended", full, other.Spec.Name())
		}
	}
	next := e.d.Next(deal.Ask{Node: n.ID}, now)
	for _, r := range next.Records {
		if opened, ok := r.(farm.LeaseOpened); ok && opened.Run != run.ID {
			return fmt.Sprintf("%s gets %s first, which comes before it", n.Name, e.s.Runs[opened.Run].Spec.Name())
		}
	}
	if len(next.Records) == 0 {
		return next.Why
	}
	return fmt.Sprintf("%s gets %s as soon as it asks", n.Name, why)
}

// Frame says in one sentence where a frame of a run stands and why.
func (e *Explainer) Frame(run *farm.Run, frame int, now time.Time) string {
	name := fmt.Sprintf("frame %d", frame)
	tried := ""
	if t := run.Trouble[frame]; t != nil && len(t.Attempts) > 0 {
		last := t.Attempts[len(t.Attempts)-1]
		tried = fmt.Sprintf(
			"; it failed on %s (%s), and %d of %d tries are used", e.s.NodeName(last.Node), last.Cause, t.Tried(),
			run.Spec.Tries,
		)
	}
	switch {
	case !run.Spec.Frames.Has(frame):
		return fmt.Sprintf("%s has no %s; its frames are %s", run.Spec.Name(), name, run.Spec.Frames)
	case run.Done.Has(frame):
		return name + " is done"
	case run.GivenUp().Has(frame):
		if note, _ := run.SkippedFor(frame); note != "" {
			return fmt.Sprintf("%s is skipped: %s", name, note)
		}
		return name + " is skipped: somebody has given it up"
	case run.Parked.Has(frame) && tried == "":
		return name + " is parked: somebody has set it aside; retry it to have it rendered"
	case run.Parked.Has(frame):
		return name + " is parked" + tried + "; look at what its renderer said, then retry the run"
	}
	if delivery, ok := run.Delivering[frame]; ok {
		return fmt.Sprintf("%s is rendered, and %s is delivering it", name, e.s.NodeName(delivery.Node))
	}
	for l := range run.OpenLeases {
		if !l.Left.Has(frame) {
			continue
		}
		node := e.s.NodeName(l.Node)
		if seen := e.d.Sight(l); seen.Begun && seen.Frame == frame {
			return fmt.Sprintf("%s is rendering on %s%s", name, node, tried)
		}
		ahead := l.Left.Between(l.Left.First(), frame-1)
		if ahead == 0 {
			return fmt.Sprintf("%s is the next of %s%s", name, node, tried)
		}
		return fmt.Sprintf(
			"%s is dealt to %s, which has %s before it%s", name, node, english.Plural(ahead, "frame", ""), tried,
		)
	}
	if run.Later.Has(frame) && run.State != farm.RunHeld {
		for _, a := range run.Spec.After {
			if other := e.s.Runs[a.Run]; a.Frames && other != nil && !other.Done.Has(frame) {
				return fmt.Sprintf("%s waits for %s of %s", name, name, other.Spec.Name())
			}
		}
	}
	if run.State != farm.RunRendering && run.State != farm.RunQueued {
		return fmt.Sprintf("%s is to do, and the run is %s%s", name, run.State, tried)
	}
	if t := run.Trouble[frame]; t != nil && len(t.Attempts) > 0 {
		if others := e.d.WaitsFor(run, t, now); len(others) > 0 {
			return fmt.Sprintf(
				"%s waits to be dealt%s; it goes to a node that has not tried it, such as %s", name, tried,
				some(others),
			)
		}
		return fmt.Sprintf(
			"%s waits to be dealt%s; no other node that could render it will be there before long, so it may go to "+
				"one where it failed",
			name, tried,
		)
	}
	return fmt.Sprintf("%s waits to be dealt%s: %s", name, tried, whyRun(e.s, run))
}
