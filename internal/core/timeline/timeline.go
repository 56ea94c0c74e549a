// Package timeline turns what happened to a node into stretches of time that
// can be drawn: what it worked on, side by side where it did, and when and why
// it did not.
//
// It knows nothing of how things happened but their order.
package timeline

import (
	"cmp"
	"slices"
	"time"
)

// Event is one thing that happened to a node, in order.
type Event struct {
	At   time.Time
	Kind Kind
	Run  int64  // of Opened and Ended: which of several leases of a run has ended makes no difference to what is drawn
	Is   string // of State: silent, away, off duty, held, draining or sidelined; "" when it is over
	Of   string // of State: reach, duty or health
	Why  string
}

// Kind is what an Event is.
type Kind int

// The kinds of event.
const (
	Opened Kind = iota + 1 // a lease began
	Ended                  // a lease ended
	State                  // one of the node's three states changed
)

// Span is a stretch of time in which a node worked on a run, or did not work
// for a reason.
type Span struct {
	From, To time.Time // To is zero while it lasts
	Lane     int       // of work side by side, from 0; -1 of what is no work
	Run      int64     // 0 of what is no work
	Leases   int       // that it is made of
	Is       string    // of what is no work: silent, away, off duty, held, draining or sidelined
	Why      string
}

// Spans returns the stretches since a time. Leases of one run that follow each
// other within join are one stretch.
func Spans(events []Event, since time.Time, join time.Duration) []Span {
	type open struct{ lane, span int }
	var spans []Span
	leases := map[int64][]open{} // by run, the oldest first
	var lanes []int              // index of the last span of each lane, or -1
	busy := map[int]bool{}
	states := map[string]int{}
	for _, e := range events {
		switch e.Kind {
		case Opened:
			lane := -1
			for i, last := range lanes { // where the run went on before, or else the first that is free
				if busy[i] {
					continue
				}
				if s := spans[last]; s.Run == e.Run && e.At.Sub(s.To) <= join {
					lane = i
					break
				}
				if lane < 0 {
					lane = i
				}
			}
			if lane < 0 {
				lane = len(lanes)
				lanes = append(lanes, -1)
			}
			if last := lanes[lane]; last >= 0 && spans[last].Run == e.Run && e.At.Sub(spans[last].To) <= join {
				spans[last].To = time.Time{}
				spans[last].Leases++
			} else {
				spans = append(spans, Span{From: e.At, Lane: lane, Run: e.Run, Leases: 1})
				lanes[lane] = len(spans) - 1
			}
			busy[lane] = true
			leases[e.Run] = append(leases[e.Run], open{lane, lanes[lane]})
		case Ended:
			if len(leases[e.Run]) == 0 { // nobody saw it begin
				continue
			}
			o := leases[e.Run][0]
			leases[e.Run] = leases[e.Run][1:]
			spans[o.span].To, spans[o.span].Why = e.At, e.Why
			busy[o.lane] = false
		case State:
			if i, on := states[e.Of]; on {
				spans[i].To = e.At
				delete(states, e.Of)
			}
			if e.Is != "" {
				spans = append(spans, Span{From: e.At, Lane: -1, Is: e.Is, Why: e.Why})
				states[e.Of] = len(spans) - 1
			}
		}
	}
	for i := range spans {
		if spans[i].From.Before(since) {
			spans[i].From = since
		}
	}
	spans = slices.DeleteFunc(spans, func(s Span) bool { return !s.To.IsZero() && !s.To.After(since) })
	slices.SortStableFunc(
		spans, func(a, b Span) int { return cmp.Or(a.From.Compare(b.From), cmp.Compare(a.Lane, b.Lane)) },
	)
	return spans
}
