// Package night sums up what went wrong in a while, such as a night without a wrangler: what
// failed and what that cost. It knows neither where that is read nor how it is shown.
package night

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"time"
)

// Try is a try that failed.
type Try struct {
	At      time.Time
	Run     string // its name
	Frame   int
	Node    string
	Cause   string
	Blame   string  // who was to blame: frame, node, run…; empty: it was not judged
	Seconds float64 // of the node that it took
	Done    bool    // the frame is done since, or given up
}

// Cause is what failed for one cause.
type Cause struct {
	Cause   string
	Tries   int
	Frames  int     // that failed so
	Open    int     // of these, those that are neither done since nor given up
	Seconds float64 // of nodes
	Runs    []string
	Nodes   []string
	Blame   string // who was to blame most often; empty: it was not judged
}

// Sum puts failed tries together by cause: what cost most first, then what failed most.
func Sum(tries []Try) []Cause {
	type frame struct {
		run   string
		frame int
	}
	byCause := map[string][]Try{}
	for _, t := range tries {
		byCause[t.Cause] = append(byCause[t.Cause], t)
	}
	var out []Cause
	for cause, list := range byCause {
		c := Cause{Cause: cause, Tries: len(list)}
		frames, blames := map[frame]bool{}, map[string]int{}
		runs, nodes := map[string]bool{}, map[string]bool{}
		for _, t := range list {
			frames[frame{t.Run, t.Frame}] = t.Done
			runs[t.Run], nodes[t.Node] = true, true
			c.Seconds += t.Seconds
			if t.Blame != "" {
				blames[t.Blame]++
			}
		}
		c.Frames = len(frames)
		for _, done := range frames {
			if !done {
				c.Open++
			}
		}
		c.Runs, c.Nodes = slices.Sorted(maps.Keys(runs)), slices.Sorted(maps.Keys(nodes))
		for _, blame := range slices.Sorted(maps.Keys(blames)) {
			if blames[blame] > blames[c.Blame] {
				c.Blame = blame
			}
		}
		out = append(out, c)
	}
	slices.SortFunc(out, func(a, b Cause) int {
		return cmp.Or(cmp.Compare(b.Seconds, a.Seconds), cmp.Compare(b.Tries, a.Tries), cmp.Compare(a.Cause, b.Cause))
	})
	return out
}

// Bucket is how many tries failed in a part of the while.
type Bucket struct {
	At    time.Time // its begin
	Tries map[string]int
}

// Over counts tries by cause in so many parts of equal length, 1 or more.
func Over(tries []Try, from, to time.Time, parts int) []Bucket {
	out := make([]Bucket, parts)
	part := to.Sub(from) / time.Duration(parts)
	for i := range out {
		out[i] = Bucket{At: from.Add(time.Duration(i) * part), Tries: map[string]int{}}
	}
	for _, t := range tries {
		if part <= 0 || t.At.Before(from) || t.At.After(to) {
			continue
		}
		out[min(parts-1, int(t.At.Sub(from)/part))].Tries[t.Cause]++
	}
	return out
}

// Span returns the last night that has begun: from one time of day to another, the next day
// where that is no later, by the clock of a zone; day is the date on which it began, and may
// be empty. Of a night that goes on it is the part up to now.
func Span(now time.Time, from, to, day string, zone *time.Location) (begin, end time.Time, err error) {
	first, err := time.Parse("15:04", from)
	if err != nil {
		return begin, end, fmt.Errorf("%.20q is not a time of day; write it like 19:00", from)
	}
	last, err := time.Parse("15:04", to)
	if err != nil {
		return begin, end, fmt.Errorf("%.20q is not a time of day; write it like 08:00", to)
	}
	on := now.In(zone)
	if day != "" {
		if on, err = time.ParseInLocation(time.DateOnly, day, zone); err != nil {
			return begin, end, fmt.Errorf("%.20q is not a date; write it like 2031-03-04", day)
		}
	}
	overnight := 0
	if !last.After(first) {
		overnight = 1
	}
	at := func(days int, clock time.Time) time.Time {
		return time.Date(on.Year(), on.Month(), on.Day()+days, clock.Hour(), clock.Minute(), 0, 0, zone)
	}
	back := 0
	if day == "" && at(0, first).After(now) {
		back = -1
	}
	begin, end = at(back, first), at(back+overnight, last)
	if begin.After(now) {
		return begin, end, fmt.Errorf("that night has not begun yet")
	}
	if end.After(now) {
		end = now
	}
	return begin, end, nil
}
