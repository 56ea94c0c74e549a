// Package hands keeps the list of what needs a person: it tells what is new from what was
// there before and from what comes again, and puts first what costs most. It knows neither
// how trouble is found nor how it is shown.
package hands

import (
	"cmp"
	"maps"
	"slices"
	"time"

	"vexillum/internal/core/farm"
)

// Alert is something that needs a person just now.
type Alert struct {
	Of       farm.HandOf
	Project  string // of its run; empty: it is the farm's
	Sentence string
	Evidence string
}

// overAfter is how long something has to be gone before it is over: what comes and goes is
// one.
const overAfter = 10 * time.Second

// mostOpen bounds what is kept at once.
const mostOpen = 5000

// Ledger compares what needs a hand with what is known of that. It belongs to the owner of
// the State; the zero value is ready.
type Ledger struct {
	missed map[farm.HandOf]time.Time // since when what is open has not been seen
	last   map[farm.HandOf]Alert     // what was said of what is open
}

// Compare returns the Records that follow from what needs a hand now: what is new, what has
// come again, and what is over.
func (l *Ledger) Compare(s *farm.State, alerts []Alert, now time.Time) (records []farm.Record) {
	if l.missed == nil {
		l.missed, l.last = map[farm.HandOf]time.Time{}, map[farm.HandOf]Alert{}
	}
	next, open := s.LastHand, len(s.Hands)
	seen := map[farm.HandOf]bool{}
	for _, a := range alerts {
		if seen[a.Of] {
			continue
		}
		seen[a.Of] = true
		delete(l.missed, a.Of)
		l.last[a.Of] = a
		raised := farm.Hand{
			Of: a.Of, Project: a.Project, Sentence: a.Sentence, Evidence: a.Evidence, Count: 1,
			RaisedAt: now, LastAt: now,
		}
		switch h := s.Hands[a.Of]; {
		case (h == nil || h.Forgotten(now)) && open >= mostOpen:
			continue
		case h == nil || h.Forgotten(now):
			open++
			next++
			raised.ID = next
		case h.Open() || h.Done():
			continue
		default: // again
			raised.ID, raised.Count, raised.RaisedAt = h.ID, h.Count+1, h.RaisedAt
		}
		records = append(records, farm.HandRaised{Hand: raised})
	}
	var over []*farm.Hand
	for of, h := range s.Hands {
		if seen[of] || !h.EndedAt.IsZero() {
			delete(l.missed, of)
			continue
		}
		since, missed := l.missed[of]
		if !missed {
			l.missed[of] = now
		} else if now.Sub(since) >= overAfter {
			over = append(over, h)
			delete(l.missed, of)
		}
	}
	maps.DeleteFunc(l.last, func(of farm.HandOf, _ Alert) bool { return !seen[of] && s.Hands[of] == nil })
	slices.SortFunc(over, func(a, b *farm.Hand) int { return cmp.Compare(a.ID, b.ID) })
	for _, h := range over {
		last := l.last[h.Of]
		delete(l.last, h.Of)
		records = append(records, farm.HandEnded{
			Hand: h.ID, Of: h.Of, Sentence: last.Sentence, Evidence: last.Evidence, At: now,
		})
	}
	return records
}
