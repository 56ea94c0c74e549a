package deal

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
	"vexillum/internal/core/span"
)

// fits reports whether a run can use a node, whatever the time is.
func fits(s *farm.State, n *farm.Node, run *farm.Run) bool { return s.Fits(n, run) }

// Fits reports whether a run can use a node, whatever the time is: it has the
// renderer, fulfils the needs, is large enough and in no pool that is closed
// to the project.
func Fits(s *farm.State, n *farm.Node, run *farm.Run) bool { return fits(s, n, run) }

// Able returns how many nodes that are online a run could use.
func Able(s *farm.State, run *farm.Run) (count int) {
	for _, n := range s.Nodes {
		if n.Reach == farm.Online && n.RetiredAt.IsZero() && fits(s, n, run) {
			count++
		}
	}
	return count
}

// unfit says why a run cannot use a node that does not fit it.
func unfit(s *farm.State, n *farm.Node, run *farm.Run) string {
	name := run.Spec.Name()
	if s.Missing[run.Spec.Recipe] {
		return missingText(run)
	}
	if _, ok := n.Facts.Renderer(run.Spec.Recipe); !ok {
		return fmt.Sprintf("%s needs %s, which %s does not have", name, run.Spec.Recipe, n.Name)
	}
	if missing := run.Needs().Missing(n.KnownTraits()); missing != "" {
		return fmt.Sprintf("%s needs %s, which %s does not fulfil", name, missing, n.Name)
	}
	if why := n.TooSmall(run); why != "" {
		return why
	}
	if err := n.CanRunAs(s.LaunchSettingsFor(run.Spec.Project, run.Spec.Recipe)); err != nil {
		return err.Error()
	}
	return fmt.Sprintf("%s cannot have %s: %v", name, n.Name, s.Admits(n, run.Spec.Project))
}

// p90Factor is by how much more than its mean a frame is reckoned to take, so that
// nine of ten take less: the 90 % quantile of a lognormal distribution with
// the spread that was seen, and of one of a third where too little was seen.
func p90Factor(cost pace.Estimate) float64 {
	spread := cost.Spread
	if cost.Count < 5 {
		spread = max(spread, 1.0/3)
	}
	const quantile = 1.2816 // of the normal distribution at 90 %
	return math.Exp(quantile*spread - spread*spread/2)
}

// framesBeforeOffDuty returns how many frames of a set a node may begin so that nine
// times of ten they are done before its duty hours end, and why it is none. An
// empty set stands for frames of the run that cost as much as its mean.
func framesBeforeOffDuty(
	m *pace.Model, n *farm.Node, run *farm.Run, set frames.Set, now time.Time,
) (most int, why string) {
	if n.Settings.Hours == nil {
		return math.MaxInt, ""
	}
	on, until := n.Settings.Hours.At(now)
	if !on {
		return 0, n.Name + " is outside its duty hours"
	}
	if until.IsZero() {
		return math.MaxInt, ""
	}
	left := until.Sub(now)
	cost, known := m.Cost(run)
	if !known || cost.Mean <= 0 {
		return 0, fmt.Sprintf(
			"it is not yet known how long frames of %s take, and the duty hours of %s end in %s", run.Spec.Name(),
			n.Name, round(left),
		)
	}
	startup, _ := m.StartupOn(run, n.ID)
	frame := cost.Mean / speed(m, n, run) * p90Factor(cost)
	inTime := (left.Seconds() - startup.Mean) / frame
	if !set.Empty() {
		curve := m.Curve(run)
		frame = curve.Cost(set.First()) / speed(m, n, run) * p90Factor(cost)
		count, _ := curve.Within(set, (left.Seconds()-startup.Mean)*speed(m, n, run)/p90Factor(cost))
		inTime = float64(count)
	}
	if inTime < 1 {
		one := span.Of(startup.Mean + frame)
		return 0, fmt.Sprintf(
			"a frame of %s may take %s, and the duty hours of %s end in %s", run.Spec.Name(), round(one), n.Name,
			round(left),
		)
	}
	return int(min(inTime, 1e9)), ""
}

// round writes a time span for a sentence.
func round(d time.Duration) string {
	if d < 2*time.Minute {
		return d.Round(time.Second).String()
	}
	d = d.Round(time.Minute)
	if d < time.Hour {
		return fmt.Sprintf("%dm", int(d.Minutes()))
	}
	return fmt.Sprintf("%dh%02dm", int(d.Hours()), int(d.Minutes())%60)
}

// Duty returns the Records that let desk nodes come on duty and go off it at
// the times of their hours. A node that a person holds stays held.
func Duty(s *farm.State, now time.Time) []farm.Record {
	var out []farm.Record
	for _, n := range s.Nodes {
		if n.Duty != farm.OnDuty && n.Duty != farm.OffDuty || !n.RetiredAt.IsZero() {
			continue
		}
		duty, why := DutyAt(n, now)
		if duty == n.Duty {
			continue
		}
		r := farm.NodeDuty{Node: n.ID, Duty: duty, Now: duty == farm.OffDuty, Reason: why, At: now}
		if duty == farm.OffDuty && now.Before(n.OffUntil) {
			r.OffUntil = &n.OffUntil
		}
		out = append(out, r)
	}
	slices.SortFunc(out, func(a, b farm.Record) int { return cmp.Compare(a.About().Node, b.About().Node) })
	return out
}

// DutyAt returns whether a node that nobody holds is on duty at a time, and
// why it is not.
func DutyAt(n *farm.Node, now time.Time) (farm.Duty, string) {
	if now.Before(n.OffUntil) {
		return farm.OffDuty, n.DutyReason
	}
	if n.Settings.Hours == nil {
		return farm.OnDuty, ""
	}
	switch on, until := n.Settings.Hours.At(now); {
	case on:
		return farm.OnDuty, ""
	case until.IsZero():
		return farm.OffDuty, "its duty hours name no time in the next two weeks"
	default:
		return farm.OffDuty, "its duty hours begin again " + farm.Moment(until)
	}
}
