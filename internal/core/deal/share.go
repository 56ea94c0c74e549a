package deal

import (
	"fmt"
	"math"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// share gives a node of a run in mode range as much as it can finish by the
// time at which all could be done: few launches, each long.
func (d *Dealer) share(n *farm.Node, run *farm.Run, todo frames.Set, now time.Time) (frames.Set, string) {
	v := d.look(run, now)
	mine := speed(d.m, n, run)
	part := v.widest(todo)
	can := max(0, v.common-v.startup) * mine
	size, work := v.curve.Within(part, can)
	if size < part.Len() { // round to the nearer frame
		next := v.curve.Work(part.Take(size + 1))
		if next-can < can-work {
			size, work = size+1, next
		}
	}
	if size == 0 {
		if v.others(n) {
			return frames.Set{}, fmt.Sprintf("%s is passed over for %s: a frame would take it %s, and all can be done in %s without it",
				n.Name, run.Spec.Name(), span(v.startup+v.curve.Cost(part.First())/mine), span(v.common))
		}
		size = 1
	}
	// What would stay is not worth a launch of its own.
	rest := part.Len() - size
	if rest > 0 && (v.curve.Work(part)-work)/mine < v.startup/2 {
		size = part.Len()
	}
	set := part.Take(size)
	switch {
	case set.Len() == run.ToDo.Len() && len(v.takers) <= 1 && len(v.loads) == 0:
		return set, fmt.Sprintf("%s: no other node that is ready has %s", all(set), run.Spec.Recipe)
	case !v.curve.Known():
		return set, fmt.Sprintf("%s of %d to do: its part by speed", count(set), todo.Len())
	}
	return set, fmt.Sprintf("%s of %d to do: what it can finish in %s, when all can be done", count(set), todo.Len(), span(v.common))
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

// others reports whether somebody else is at the run or could be.
func (v *survey) others(n *farm.Node) bool {
	for _, t := range v.takers {
		if t.node != n {
			return true
		}
	}
	return len(v.loads) > 0
}

// span prints seconds for a sentence.
func span(seconds float64) string {
	if math.IsInf(seconds, 0) {
		return "unknown time"
	}
	return round(time.Duration(seconds * float64(time.Second)))
}
