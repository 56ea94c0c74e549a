// Package hours reckons duty hours: at which times a machine works for the
// farm. Hours are wall-clock times of a time zone, so that a night is a night
// also when the clocks change.
//
// It knows nothing of nodes, and no clock: every question carries its time.
package hours

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"time"
)

// Hours are the duty hours of a machine. The zero value is never on duty;
// a node with no Hours at all is always on duty.
type Hours struct {
	Zone       string      `json:"zone"` // IANA name, such as Europe/Dublin; empty is UTC
	Week       Week        `json:"week"`
	Exceptions []Exception `json:"exceptions"` // by date
}

// Week is the windows that begin on each day, Monday first.
type Week [7][]Window

// Window is a span of a day in minutes since midnight, by the clock on the
// wall. To may lie on the next day: then it is more than 24 hours.
type Window struct {
	From int `json:"from"` // 0 to 1439
	To   int `json:"to"`   // above From, at most From + 1440
}

// Exception replaces the windows that begin on one date.
type Exception struct {
	Date    Date     `json:"date"`
	Windows []Window `json:"windows"` // none: nothing begins on that date
	Note    string   `json:"note"`
}

// Date is a day of the calendar, written 2031-03-04.
type Date struct {
	Year  int
	Month time.Month
	Day   int
}

// String writes the date as ISO 8601 has it.
func (d Date) String() string { return fmt.Sprintf("%04d-%02d-%02d", d.Year, d.Month, d.Day) }

// MarshalText implements encoding.TextMarshaler.
func (d Date) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// UnmarshalText implements encoding.TextUnmarshaler.
func (d *Date) UnmarshalText(text []byte) error {
	t, err := time.Parse(time.DateOnly, string(text))
	if err != nil {
		return fmt.Errorf("%q is not a date; write it like 2031-03-04", text)
	}
	*d = DateOf(t)
	return nil
}

// DateOf returns the date of a time in its own time zone.
func DateOf(t time.Time) Date {
	y, m, d := t.Date()
	return Date{y, m, d}
}

func (d Date) add(days int) Date {
	return DateOf(time.Date(d.Year, d.Month, d.Day+days, 12, 0, 0, 0, time.UTC))
}

func (d Date) weekday() int { // Monday is 0
	return (int(time.Date(d.Year, d.Month, d.Day, 12, 0, 0, 0, time.UTC).Weekday()) + 6) % 7
}

const day = 24 * 60

// Limits of hours.
const (
	mostWindows    = 12 // a day
	mostExceptions = 400
	mostNote       = 100
)

// Check returns an error that says what is wrong with the hours, if anything.
func (h *Hours) Check() error {
	if _, err := h.location(); err != nil {
		return err
	}
	for i, windows := range h.Week {
		if err := checkWindows(windows); err != nil {
			return fmt.Errorf("%s: %w", dayNames[i], err)
		}
	}
	if len(h.Exceptions) > mostExceptions {
		return fmt.Errorf("there are %d exceptions; at most %d are kept", len(h.Exceptions), mostExceptions)
	}
	seen := map[Date]bool{}
	for _, e := range h.Exceptions {
		if e.Date.Year < 1900 || e.Date.Year > 9999 {
			return fmt.Errorf("%s is not a valid date for an exception", e.Date)
		}
		if seen[e.Date] {
			return fmt.Errorf("%s is named twice", e.Date)
		}
		seen[e.Date] = true
		if len(e.Note) > mostNote {
			return fmt.Errorf("%s: the note has more than %d characters", e.Date, mostNote)
		}
		if err := checkWindows(e.Windows); err != nil {
			return fmt.Errorf("%s: %w", e.Date, err)
		}
	}
	return nil
}

func checkWindows(windows []Window) error {
	if len(windows) > mostWindows {
		return fmt.Errorf("a day has at most %d windows", mostWindows)
	}
	for _, w := range windows {
		if w.From < 0 || w.From >= day || w.To <= w.From || w.To > w.From+day {
			return fmt.Errorf("%s is not a time of day to work in", w)
		}
	}
	return nil
}

func (h *Hours) location() (*time.Location, error) {
	if h.Zone == "Local" {
		return nil, errors.New(`"Local" is not a time zone; name one like Europe/Dublin`)
	}
	loc, err := time.LoadLocation(h.Zone)
	if err != nil {
		return nil, fmt.Errorf("%q is not a time zone; name one like Europe/Dublin", h.Zone)
	}
	return loc, nil
}

// Equal reports whether two hours are the same, notes and all. Nil is none.
func (h *Hours) Equal(o *Hours) bool {
	if h == nil || o == nil {
		return h == o
	}
	sameDay := func(a, b []Window) bool { return slices.Equal(a, b) }
	return h.Zone == o.Zone && slices.EqualFunc(h.Week[:], o.Week[:], sameDay) &&
		slices.EqualFunc(h.Exceptions, o.Exceptions, func(a, b Exception) bool {
			return a.Date == b.Date && a.Note == b.Note && sameDay(a.Windows, b.Windows)
		})
}

// Tidy puts windows and exceptions in order and joins windows of a day that
// touch.
func (h *Hours) Tidy() {
	for i := range h.Week {
		h.Week[i] = tidy(h.Week[i])
	}
	for i := range h.Exceptions {
		h.Exceptions[i].Windows = tidy(h.Exceptions[i].Windows)
	}
	slices.SortFunc(h.Exceptions, func(a, b Exception) int { return cmp.Compare(a.Date.String(), b.Date.String()) })
}

func tidy(windows []Window) []Window {
	sorted := slices.SortedFunc(slices.Values(windows), func(a, b Window) int { return a.From - b.From })
	var out []Window
	for _, w := range sorted {
		if last := len(out) - 1; last >= 0 && w.From <= out[last].To {
			out[last].To = min(max(out[last].To, w.To), out[last].From+day)
			continue
		}
		out = append(out, w)
	}
	return out
}

// span is a window at real times.
type span struct{ from, to time.Time }

// beginning returns the windows that begin on a date.
func (h *Hours) beginning(d Date) []Window {
	for _, e := range h.Exceptions {
		if e.Date == d {
			return e.Windows
		}
	}
	return h.Week[d.weekday()]
}

// spans returns the times on duty that begin on the given days, joined where
// they touch. Days on which the clocks change are as long as they are; a time
// that such a day does not have is reckoned from before the change, as RFC
// 5545 (3.3.5) has it.
func (h *Hours) spans(loc *time.Location, from Date, days int) []span {
	var out []span
	at := func(d Date, minutes int) time.Time {
		return time.Date(d.Year, d.Month, d.Day, 0, minutes, 0, 0, loc)
	}
	for i := range days {
		d := from.add(i)
		for _, w := range h.beginning(d) {
			s := span{at(d, w.From), at(d, w.To)}
			if s.to.After(s.from) {
				out = append(out, s)
			}
		}
	}
	slices.SortFunc(out, func(a, b span) int { return a.from.Compare(b.from) })
	var joined []span
	for _, s := range out {
		if last := len(joined) - 1; last >= 0 && !s.from.After(joined[last].to) {
			if s.to.After(joined[last].to) {
				joined[last].to = s.to
			}
			continue
		}
		joined = append(joined, s)
	}
	return joined
}

// horizon is how many days the answers look ahead: longer than any exception
// that would matter.
const horizon = 15

// At reports whether a machine is on duty at a time, and until when it stays
// as it is. The zero time says: for longer than two weeks.
func (h *Hours) At(t time.Time) (on bool, until time.Time) {
	loc, err := h.location()
	if err != nil {
		return false, time.Time{} // nothing is promised by hours that make no sense
	}
	first := DateOf(t.In(loc)).add(-2) // a window may have begun the day before, and be joined with one before that
	end := t.AddDate(0, 0, horizon-2)
	for _, s := range h.spans(loc, first, horizon+2) {
		switch {
		case !s.to.After(t):
			continue
		case s.from.After(t):
			if s.from.After(end) {
				return false, time.Time{}
			}
			return false, s.from
		case s.to.After(end):
			return true, time.Time{}
		default:
			return true, s.to
		}
	}
	return false, time.Time{}
}
