package explain

import (
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/span"
)

// Node says in one sentence why a node does what it does.
func (e *Explainer) Node(n *farm.Node, now time.Time) string {
	s := e.s
	if leases := s.LeasesOf(n.ID); len(leases) > 0 {
		l := leases[0]
		if l.Left.Empty() {
			return "finishes its part of " + s.Runs[l.Run].Spec.Name()
		}
		beside := ""
		if len(leases) > 1 {
			beside = fmt.Sprintf(", and %s beside it", english.Plural(len(leases)-1, "lease", ""))
		}
		return fmt.Sprintf("renders %s; it has frames %s left%s", s.Runs[l.Run].Spec.Name(), l.Left, beside)
	}
	switch {
	case !n.RetiredAt.IsZero():
		return "has retired"
	case n.EnrolledAt.IsZero():
		return "is announced, and has not enrolled yet; make a key with vexillum key new and join from the machine"
	case n.Session == 0:
		return "has enrolled, but its node process has not started yet; start it with vexillum join"
	case n.Reach == farm.Away:
		return "is away: its node process was stopped; start it again with vexillum join"
	case n.Reach == farm.Silent:
		return "has not been heard from; check that the machine and its node process are up"
	case n.Health == farm.Sidelined:
		return join("is sidelined", n.HealthWhy) + Trial(n, now) + "; release it to give it work"
	case n.Duty == farm.Held:
		return join("is held", n.DutyReason) + "; release it to give it work"
	case n.Duty == farm.Draining:
		return join("is draining and gets no new work", n.DutyReason) + "; release it to give it work"
	case n.Duty == farm.OffDuty:
		return join("is off duty", n.DutyReason)
	}
	next := e.d.Next(deal.Ask{Node: n.ID}, now)
	switch {
	case len(next.Records) > 0 || next.Cut != nil:
		return "is ready and gets frames as soon as it asks"
	case len(n.Facts.Renderers) == 0:
		return "is ready, but none of the recipes finds its renderer there; install one, then run: vexillum nodes probe " +
			n.Name
	}
	if why := e.idle(n, now); why != "" {
		return "is ready, but " + why
	}
	return "is ready, but " + next.Why
}

// idle returns what keeps an idle node from the first run that it could render; if it can render
// none of those that wait, what it lacks for the first; "" where nothing waits.
func (e *Explainer) idle(n *farm.Node, now time.Time) string {
	lacks, waiting := "", 0
	for run := range e.d.Queue().InTurn(now) {
		if !run.Deals() || run.ToDo.Empty() {
			continue
		}
		waiting++
		if !capacity.Fits(e.s, n, run) {
			if lacks == "" {
				lacks = capacity.Unfit(e.s, n, run)
			}
			continue
		}
		set, why := e.d.Offer(n, run, nil, now)
		if !set.Empty() {
			return ""
		}
		return why
	}
	if waiting > 1 {
		return fmt.Sprintf("it can render none of the %d runs that wait; for example: %s", waiting, lacks)
	}
	return lacks
}

func join(what, why string) string {
	switch {
	case why == "":
		return what
	case strings.HasPrefix("is "+why, what): // "held by nadia"
		return "is " + why
	}
	return what + ": " + why
}

// Trial says when a node that is sidelined shows whether it is well again, as the end of a
// sentence; "" where it does not by itself.
func Trial(n *farm.Node, now time.Time) string {
	switch {
	case n.Health != farm.Sidelined || n.TrialAt.IsZero():
		return ""
	case now.Before(n.TrialAt):
		return "; it is tried again in " + span.Text(n.TrialAt.Sub(now))
	}
	return "; it is tried again as soon as something is to do that it can render"
}
