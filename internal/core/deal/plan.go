package deal

import (
	"cmp"
	"math"
	"slices"
)

// A plan moves the ends of leases that would last longer than a common time to
// nodes that wait or will be free before, so that all are done by then. Each
// piece costs its taker a launch, so the time is as late as the launches make
// it.
type plan struct {
	then   float64 // seconds from now
	pieces []piece
}

// piece is the end of a lease that goes to one node.
type piece struct {
	from   int // index of the load
	taker  int // index of the taker that waits; -1 for a node that is still at work
	frames int
}

// helper is a node with time left.
type helper struct {
	taker int
	free  float64
	takes float64 // a launch on it
	speed float64
}

// can is how many reference seconds a helper can do until then, after a launch.
func (h *helper) can(then float64) float64 { return (then - h.free - h.takes) * h.speed }

// ables are helpers by how much they can do, the least first; of those that can do
// the same, the first in the list.
type ables []one

type one struct {
	can    float64
	helper int // its index
}

func (o one) compare(other one) int {
	return cmp.Or(cmp.Compare(o.can, other.can), cmp.Compare(o.helper, other.helper))
}

func (a *ables) put(helper int, can float64) {
	at, _ := slices.BinarySearchFunc(*a, one{can, helper}, one.compare)
	*a = slices.Insert(*a, at, one{can, helper})
}

func (a *ables) drop(helper int, can float64) {
	if at, found := slices.BinarySearchFunc(*a, one{can, helper}, one.compare); found {
		*a = slices.Delete(*a, at, at+1)
	}
}

// best returns the helper that fits best: the least able that can do all frames,
// at a cost of each; or, where nobody can, the ablest, and how many it can do.
func (a ables) best(frames int, each float64) (helper, most int) {
	whole := func(can float64) int { return int(can/each + 1e-9) }
	at, _ := slices.BinarySearchFunc(a, frames, func(o one, frames int) int {
		return cmp.Compare(whole(o.can), frames)
	})
	if at < len(a) {
		return a[at].helper, frames
	}
	if len(a) == 0 {
		return 0, 0
	}
	last := len(a) - 1
	for last > 0 && a[last-1].can == a[last].can {
		last--
	}
	return a[last].helper, max(0, whole(a[last].can))
}

// plan finds the earliest time for which a plan works out, and that plan; nil
// if nothing moved would bring the end forward.
func (v *survey) plan() *plan {
	if !v.planned {
		sortTakers(v.takers)
		v.planned, v.moves = true, v.best()
	}
	return v.moves
}

func (v *survey) best() *plan {
	high := v.finish()
	if math.IsInf(high, 0) || len(v.loads) == 0 || v.blind {
		return nil
	}
	low := min(v.even, high)
	var best *plan
	for range 20 {
		middle := (low + high) / 2
		if p := v.try(middle); p != nil {
			best, high = p, middle
		} else {
			low = middle
		}
		if high-low < 1e-3*high {
			break
		}
	}
	return best
}

// try matches what leases have too much with what others have time for: the
// largest first, each to the node that it fits best.
func (v *survey) try(then float64) *plan {
	type surplus struct {
		load   int
		frames int
		each   float64
	}
	p := &plan{then: then}
	var over []surplus
	var help []helper
	for i, l := range v.loads {
		if l.end <= then {
			if room := then - l.end - v.again; room > 0 && !l.goes {
				help = append(help, helper{taker: -1, free: l.end, takes: v.again, speed: l.speed})
			}
			continue
		}
		if l.left.Empty() {
			return nil
		}
		n, each := v.loads[i].tail(v.curve, (l.end-then)*l.speed)
		if n > l.left.Len() || l.rests {
			return nil
		}
		over = append(over, surplus{i, n, each})
	}
	for i, t := range v.takers {
		help = append(help, helper{taker: i, free: t.start - t.takes, takes: t.takes, speed: t.speed})
	}
	slices.SortStableFunc(over, func(a, b surplus) int {
		return cmp.Compare(float64(b.frames)*b.each, float64(a.frames)*a.each)
	})
	able := make(ables, len(help))
	for i := range help {
		able[i] = one{help[i].can(then), i}
	}
	slices.SortFunc(able, one.compare)
	for k, o := range over {
		moved := 0
		for o.frames > 0 {
			best, most := able.best(o.frames, o.each)
			if most == 0 {
				return nil
			}
			able.drop(best, help[best].can(then))
			h := &help[best]
			l := &v.loads[o.load]
			if extra := int(((then-h.free-h.takes)*h.speed)/o.each+1e-9) - most; most == o.frames && k+1 < len(over) &&
				h.speed > l.speed {
				// A launch costs the slower node less: the faster one takes all
				// that it can at once, and the other is free for the next piece.
				extra = min(extra, l.left.Len()-o.frames-moved)
				if spare := float64(extra) * o.each / l.speed; spare > v.again+o.each/l.speed {
					most += extra
					o.frames += extra
					help = append(help, helper{taker: -1, free: then - spare, takes: v.again, speed: l.speed})
					able.put(len(help)-1, help[len(help)-1].can(then))
					h = &help[best]
				}
			}
			h.free += h.takes + float64(most)*o.each/h.speed
			h.takes = v.again
			able.put(best, h.can(then))
			p.pieces = append(p.pieces, piece{from: o.load, taker: h.taker, frames: most})
			o.frames -= most
			moved += most
		}
	}
	return p
}
