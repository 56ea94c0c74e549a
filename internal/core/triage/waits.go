package triage

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"vexillum/internal/core/blame"
	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
)

// waits returns the Record that lets all wait that needs what the newest mishap is blamed
// on: a place, a licence, a version of a renderer. They wait longer where that has just
// tried whether it is back.
func (j *judgement) waits(l *farm.Lease, now time.Time) []farm.Record {
	last, sure := j.surrounding(len(j.mishaps) - 1)
	of, surrounds := farm.SurroundingOf(last)
	if !surrounds || sure < sureSurrounding {
		return nil
	}
	m := j.mishaps[len(j.mishaps)-1]
	if w := j.s.Waits[of]; w != nil && len(w.Only) == 0 {
		if w.Scout != l.ID && l.OpenedAt.Before(w.Until) {
			return nil // it began before
		}
		return []farm.Record{farm.WaitSet{
			Of: of, Wait: longer(w, now), At: now,
			Reason: fmt.Sprintf("%s is not back: frame %d failed, too (%s)", of, m.Frame, m.Cause),
		}}
	}
	nodes, runs, tries := map[farm.NodeID]bool{}, map[farm.RunID]bool{}, 0
	for _, o := range j.mishaps {
		if slices.Contains(o.Suspects, last) {
			nodes[o.Node], runs[o.Run] = true, true
			tries++
		}
	}
	if of.Kind == farm.SurroundingRenderer && len(runs) < 2 && j.passed[last] > 0 {
		return nil // it has rendered others: that is for its run to answer for
	}
	if of.Kind == farm.SurroundingLicence && tries < surroundingLeast && capacity.LicencesUsed(j.s, of.Name, l.ID) > 0 {
		return nil // others have one: the farm reckons with fewer
	}
	if plain := m.Cause == CausePlaceGone || m.Cause == CauseNoLicence; !plain &&
		(tries < surroundingLeast || len(nodes) < min(surroundingNodes, j.able(j.s.Runs[l.Run]))) {
		return nil
	}
	reason := fmt.Sprintf(
		"%s failed on %s (%s): %s that %s is to blame (%s)", triesText(tries), j.names(nodes), m.Cause,
		blame.Sure(sure), of, Percent(sure),
	)
	records := []farm.Record{farm.WaitSet{
		Of: of, Reason: reason, At: now,
		Wait: &farm.Wait{
			Since: now, Until: now.Add(firstWait), Pause: firstWait.Seconds(), Cause: m.Cause, Reason: reason,
		},
	}}
	return append(records, j.unparked(is(of), fmt.Sprintf("%s is to blame, and not they", of), now)...)
}

// inVain lets what is waited for rest for longer where a frame tried it and failed for
// something else: nothing was learned, and that must not go on for ever.
func (j *judgement) inVain(l *farm.Lease, now time.Time) (records []farm.Record) {
	for _, of := range j.s.WaitsOf(j.s.Nodes[l.Node], j.s.Runs[l.Run]) {
		w := j.s.Waits[of]
		if w.Scout != l.ID {
			continue
		}
		m := j.mishaps[len(j.mishaps)-1]
		records = append(records, farm.WaitSet{
			Of: of, Wait: longer(w, now), At: now,
			Reason: fmt.Sprintf("whether %s is back is not known: frame %d failed by %s", of, m.Frame, m.Cause),
		})
	}
	return records
}

// longer is a wait after a frame has tried in vain.
func longer(w *farm.Wait, now time.Time) *farm.Wait {
	next := *w
	next.Tries++
	next.Pause = min(2*w.Pause, max(w.Pause, lastWait.Seconds()))
	next.Until = now.Add(time.Duration(next.Pause * float64(time.Second)))
	return &next
}

// Unneeded returns what is waited for though no open run needs it any more, in order.
func Unneeded(s *farm.State) []farm.Surrounding {
	if len(s.Waits) == 0 {
		return nil
	}
	needed := map[farm.Surrounding]bool{}
	for _, run := range s.Queue() {
		for _, of := range s.WaitsOf(nil, run) {
			needed[of] = true
		}
	}
	var out []farm.Surrounding
	for of := range s.Waits {
		if !needed[of] {
			out = append(out, of)
		}
	}
	slices.SortFunc(out, func(a, b farm.Surrounding) int { return cmp.Compare(a.String(), b.String()) })
	return out
}

func triesText(n int) string {
	if n == 1 {
		return "a try"
	}
	return fmt.Sprintf("%d tries", n)
}

// surrounding returns what around nodes and runs a mishap is put down to, and how sure that
// is. Where it may be one of several, it is the one that the fewest runs need: if it is
// another, the others will show it soon.
func (j *judgement) surrounding(i int) (of blame.Suspect, sure float64) {
	top := j.opinion.By(i).Suspect
	if !top.Kind.Surrounds() {
		return top, 0
	}
	of, fewest := top, 0
	for _, share := range j.opinion.Shares[i] {
		if share.Suspect.Kind != top.Kind {
			continue
		}
		sure += share.Of
		if share.Of < 0.2 {
			continue
		}
		if n := j.needing(share.Suspect); fewest == 0 || n < fewest {
			of, fewest = share.Suspect, n
		}
	}
	return of, sure
}

// needing counts the open runs that need something; at least 1.
func (j *judgement) needing(of blame.Suspect) (runs int) {
	what, _ := farm.SurroundingOf(of)
	for _, run := range j.s.Queue() {
		if j.s.Needs(what, run) {
			runs++
		}
	}
	return max(1, runs)
}

// is returns what tells the suspects that are a surrounding, whenever that was.
func is(of farm.Surrounding) func(blame.Suspect) bool {
	return func(s blame.Suspect) bool {
		other, surrounds := farm.SurroundingOf(s)
		return surrounds && other == of
	}
}
