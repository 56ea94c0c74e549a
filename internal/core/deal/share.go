package deal

import (
	"fmt"
	"math"
	"time"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/fairness"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/span"

	"github.com/dustin/go-humanize"
)

// share gives a node of a run in mode range as much as it can finish by the
// time at which all could be done: few launches, each long.
func (d *Dealer) share(n *farm.Node, run *farm.Run, todo frames.Set, now time.Time) (frames.Set, string) {
	v := d.surveyOf(run, now)
	mine := capacity.Speed(d.m, n, run)
	part, again := d.bars(run, now).again(todo)
	if !again || run.Spec.Sequence != farm.DealersChoice {
		part = v.widest(todo)
	}
	can := v.portion(n, mine)
	waits := d.contested(n, run, now)
	launch := v.launch(n)
	if most := fairness.TimeSlice(launch) * mine; waits {
		can = min(can, most)
	}
	size, work := v.curve.Within(part, can)
	if size < part.Len() { // round to the nearer frame
		next := v.curve.Work(part.Take(size + 1))
		if next-can < can-work {
			size, work = size+1, next
		}
	}
	if size == 0 {
		if v.fastest(n) != n { // somebody must
			return frames.Set{}, fmt.Sprintf(
				"%s is passed over for %s: a frame would take it %s%s, and all can be done in %s without it", n.Name,
				run.Spec.Name(), inAbout(launch+v.curve.Cost(part.First())/mine), d.toGet(run, n),
				inAbout(v.together()),
			)
		}
		size = 1
	}
	// What would stay is not worth a launch of its own.
	const little = 0.05 // of a turn
	if rest := v.curve.Work(part) - work; !waits && v.curve.Known() && rest/mine < launch ||
		waits && rest < little*work {
		size = part.Len()
	}
	set := ordered(run, part, size)
	switch {
	case set.Len() == run.ToDo.Len() && len(v.takers) <= 1 && len(v.loads) == 0:
		return set, fmt.Sprintf("%s: no other node that is ready has %s", all(set), run.Spec.Recipe)
	case set.Len() == todo.Len():
		return set, fmt.Sprintf("%s: all that is to do", count(set))
	case waits:
		return set, fmt.Sprintf("%s: its share for this turn, as others of the same priority wait", partOf(set, todo))
	case !v.curve.Known():
		return set, fmt.Sprintf("%s: its part by speed", partOf(set, todo))
	}
	return set, fmt.Sprintf(
		"%s: what it can finish in %s, when all can be done", partOf(set, todo), inAbout(v.together()),
	)
}

// toGet says what a node has to get of a run's bundle before its first launch, behind
// what that keeps it from; nothing where it takes no time.
func (d *Dealer) toGet(run *farm.Run, n *farm.Node) string {
	if d.m.Fetch(run, n) < 1 {
		return ""
	}
	return fmt.Sprintf(", with %s of the scene to get first", humanize.IBytes(uint64(d.m.Lacks(run, n.ID))))
}

// partOf names frames that are a part of those to do.
func partOf(set, todo frames.Set) string {
	if set.Len() == 1 {
		return fmt.Sprintf("%s, one of %d to do", count(set), todo.Len())
	}
	return fmt.Sprintf("%d of the %d frames to do", set.Len(), todo.Len())
}

// fastest returns a node that can be relied on to work on the run if this one
// does not: one that does so already, or the fastest that waits. It is n where
// there is none.
func (v *survey) fastest(n *farm.Node) *farm.Node {
	if !v.sorted {
		v.sorted = true
		for _, l := range v.loads {
			if !l.goes && len(v.firm) < 2 && (len(v.firm) == 0 || v.firm[0] != l.node) {
				v.firm = append(v.firm, l.node)
			}
		}
		best := taker{alone: math.Inf(1)}
		for _, t := range v.takers {
			if t.alone < best.alone || t.alone == best.alone && t.speed > best.speed {
				best, v.swiftest = t, t.node
			}
		}
	}
	for _, o := range v.firm {
		if o != n {
			return o
		}
	}
	if v.swiftest == nil {
		return n
	}
	return v.swiftest
}

// hopeless reports whether a node would get nothing of a run in mode range as
// others have all done before it had a frame done.
func (d *Dealer) hopeless(n *farm.Node, run *farm.Run, now time.Time) bool {
	if run.Spec.Mode != farm.ModeRange || run.Spec.Chunk > 0 || !run.Spec.Scouts.Empty() || apiece(run) {
		return false
	}
	v := d.staleSurveyOf(run, now)
	frames, waits := v.portions()[n.ID]
	return waits && frames == 0 && v.fastest(n) != n
}

// portion returns how many reference seconds of what is to do are for one of
// the nodes that wait: whole frames, so that the last to finish is as early as
// can be, and nobody is left with much less than others.
func (v *survey) portion(n *farm.Node, mine float64) float64 {
	if frames, waits := v.portions()[n.ID]; waits {
		return float64(frames) * v.each
	}
	return max(0, v.even-v.launch(n)) * mine
}

// widest returns the contiguous part of a set with the most work.
func (v *survey) widest(todo frames.Set) frames.Set {
	best, most := frames.Span{}, -1.0
	spans := 0
	for sp := range todo.Spans() {
		spans++
		if spans > mostSpans {
			break
		}
		if w := v.curve.Work(frames.Of(sp)); w > most {
			best, most = sp, w
		}
	}
	return frames.Of(best)
}

// mostSpans bounds how many stretches of a set are looked at.
const mostSpans = 256

// inAbout prints seconds for a sentence.
func inAbout(seconds float64) string {
	if math.IsInf(seconds, 0) {
		return "unknown time"
	}
	return span.Text(span.Of(seconds))
}
