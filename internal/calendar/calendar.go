// Package calendar reads and writes duty hours as iCalendar (RFC 5545). An
// event is a time on duty: one that repeats weekly is part of the week, one
// that does not is an exception of its date. Dates on which a weekly event is
// left out (EXDATE) are exceptions, too.
//
// It knows the form alone, and nothing of nodes.
package calendar

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/emersion/go-ical"
	"github.com/teambition/rrule-go"

	"vexillum/internal/core/hours"
)

// Bounds of a calendar that is read.
const (
	mostEvents = 1000
	mostBytes  = 1 << 20
)

var weekdays = []rrule.Weekday{rrule.MO, rrule.TU, rrule.WE, rrule.TH, rrule.FR, rrule.SA, rrule.SU}

// Read reads duty hours. An error names the event that cannot be hours.
func Read(from io.Reader) (*hours.Hours, error) {
	cal, err := decode(io.LimitReader(from, mostBytes))
	if errors.Is(err, io.EOF) {
		return nil, errors.New("there is no calendar in it")
	}
	if err != nil {
		return nil, fmt.Errorf("it is not an iCalendar file: %w", err)
	}
	events := cal.Events()
	if len(events) > mostEvents {
		return nil, fmt.Errorf("it has %d events; at most %d are read", len(events), mostEvents)
	}
	zone, err := zoneOf(events)
	if err != nil {
		return nil, err
	}
	h := &hours.Hours{Zone: zone.String(), Exceptions: []hours.Exception{}}
	if zone == time.UTC {
		h.Zone = ""
	}
	var left []time.Time // out of weekly events, on these dates
	for _, e := range events {
		skipped, err := add(h, e, zone)
		if err != nil {
			return nil, fmt.Errorf("the event %q: %w", title(e), err)
		}
		left = append(left, skipped...)
	}
	for _, t := range left {
		exception(h, hours.DateOf(t))
	}
	h.Tidy()
	return h, h.Check()
}

// decode reads a calendar. The library panics at some lines that are cut off.
func decode(from io.Reader) (cal *ical.Calendar, err error) {
	defer func() {
		if trouble := recover(); trouble != nil {
			cal, err = nil, fmt.Errorf("a line makes no sense (%v)", trouble)
		}
	}()
	return ical.NewDecoder(from).Decode()
}

func title(e ical.Event) string {
	text, err := e.Props.Text(ical.PropSummary)
	if err != nil || text == "" {
		text, _ = e.Props.Text(ical.PropUID)
	}
	return text
}

// zoneOf returns the time zone that all events have.
func zoneOf(events []ical.Event) (*time.Location, error) {
	zone := time.UTC
	first := true
	for _, e := range events {
		start := e.Props.Get(ical.PropDateTimeStart)
		if start == nil || start.Params.Get(ical.ParamTimezoneID) == "" {
			continue
		}
		z, err := time.LoadLocation(start.Params.Get(ical.ParamTimezoneID))
		if err != nil {
			return nil, fmt.Errorf(
				"the event %q: %q is not a known time zone", title(e), start.Params.Get(ical.ParamTimezoneID),
			)
		}
		if !first && z.String() != zone.String() {
			return nil, fmt.Errorf("it has events in %s and in %s; hours have one time zone", zone, z)
		}
		zone, first = z, false
	}
	return zone, nil
}

// add adds one event to hours. It returns the times at which it is left out.
func add(h *hours.Hours, e ical.Event, zone *time.Location) (left []time.Time, err error) {
	start, err := e.DateTimeStart(zone)
	if err != nil {
		return nil, fmt.Errorf("its beginning cannot be read: %w", err)
	}
	end, err := e.DateTimeEnd(zone)
	if err != nil {
		return nil, fmt.Errorf("its end cannot be read: %w", err)
	}
	start, end = start.In(zone), end.In(zone)
	w := hours.Window{From: minutes(start)}
	w.To = w.From + int(clockSpan(start, end).Minutes())
	if w.To <= w.From || w.To > w.From+24*60 {
		return nil, errors.New("it must end after it begins, and within a day")
	}
	rule, err := e.Props.RecurrenceRule()
	if err != nil {
		return nil, fmt.Errorf("its rule cannot be read: %w", err)
	}
	if rule == nil {
		x := exception(h, hours.DateOf(start))
		x.Windows = append(x.Windows, w)
		return nil, nil
	}
	days := rule.Byweekday
	switch {
	case rule.Freq == rrule.DAILY && len(days) == 0:
		days = weekdays
	case rule.Freq != rrule.WEEKLY:
		return nil, errors.New("it does not repeat by the day or the week")
	case len(days) == 0:
		days = []rrule.Weekday{weekdays[(int(start.Weekday())+6)%7]}
	}
	if rule.Interval > 1 || rule.Count > 0 || !rule.Until.IsZero() {
		return nil, errors.New("it does not repeat every week for ever")
	}
	for _, d := range days {
		if d.N() != 0 || d.Day() < 0 || d.Day() > 6 {
			return nil, errors.New("its days cannot be read")
		}
		h.Week[d.Day()] = append(h.Week[d.Day()], w)
	}
	for _, p := range e.Props.Values(ical.PropExceptionDates) {
		for text := range strings.SplitSeq(p.Value, ",") {
			one := p
			one.Value = text
			t, err := one.DateTime(zone)
			if err != nil {
				return nil, fmt.Errorf("a date on which it is left out cannot be read: %w", err)
			}
			left = append(left, t.In(zone))
		}
	}
	return left, nil
}

// clockSpan is how much later it is by the clock on the wall.
func clockSpan(a, b time.Time) time.Duration {
	wall := func(t time.Time) time.Time {
		return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), 0, 0, time.UTC)
	}
	return wall(b).Sub(wall(a))
}

func minutes(t time.Time) int { return t.Hour()*60 + t.Minute() }

// exception returns the exception of a date, made if there is none.
func exception(h *hours.Hours, d hours.Date) *hours.Exception {
	at := slices.IndexFunc(h.Exceptions, func(e hours.Exception) bool { return e.Date == d })
	if at < 0 {
		h.Exceptions = append(h.Exceptions, hours.Exception{Date: d, Windows: []hours.Window{}})
		at = len(h.Exceptions) - 1
	}
	return &h.Exceptions[at]
}

// Write writes duty hours of a thing of that name. now is the time at which
// it is written. Weekly events begin in the week of now.
func Write(to io.Writer, name string, h hours.Hours, now time.Time) error {
	zone, err := time.LoadLocation(h.Zone)
	if err != nil {
		return fmt.Errorf("writing the hours of %s: %w", name, err)
	}
	cal := ical.NewCalendar()
	cal.Props.SetText(ical.PropVersion, "2.0")
	cal.Props.SetText(ical.PropProductID, "-//Vexillum//duty hours//EN")
	if zone != time.UTC {
		cal.Children = append(cal.Children, timezone(zone, now))
	}
	monday := now.In(zone).AddDate(0, 0, -(int(now.In(zone).Weekday())+6)%7)
	event := func(uid string, day time.Time, w hours.Window, summary string) *ical.Event {
		e := ical.NewEvent()
		e.Props.SetText(ical.PropUID, fmt.Sprintf("%s-%s@vexillum", name, uid))
		e.Props.SetDateTime(ical.PropDateTimeStamp, now.UTC())
		at := func(m int) time.Time { return time.Date(day.Year(), day.Month(), day.Day(), 0, m, 0, 0, zone) }
		e.Props.SetDateTime(ical.PropDateTimeStart, at(w.From))
		e.Props.SetDateTime(ical.PropDateTimeEnd, at(w.To))
		e.Props.SetText(ical.PropSummary, summary)
		cal.Children = append(cal.Children, e.Component)
		return e
	}
	for i, windows := range h.Week {
		for _, w := range windows {
			day := monday.AddDate(0, 0, i)
			e := event(fmt.Sprintf("%s-%d", weekdays[i], w.From), day, w, name+" is on duty")
			e.Props.SetRecurrenceRule(&rrule.ROption{Freq: rrule.WEEKLY, Byweekday: []rrule.Weekday{weekdays[i]}})
			for _, x := range h.Exceptions { // what begins on that date is replaced
				date := time.Date(x.Date.Year, x.Date.Month, x.Date.Day, 0, w.From, 0, 0, zone)
				if (int(date.Weekday())+6)%7 == i {
					p := ical.NewProp(ical.PropExceptionDates)
					p.SetDateTime(date)
					e.Props.Add(p)
				}
			}
		}
	}
	for _, x := range h.Exceptions {
		for _, w := range x.Windows {
			summary := name + " is on duty"
			if x.Note != "" {
				summary += ": " + x.Note
			}
			event(
				fmt.Sprintf("%s-%d", x.Date, w.From),
				time.Date(x.Date.Year, x.Date.Month, x.Date.Day, 12, 0, 0, 0, zone), w, summary,
			)
		}
	}
	if len(cal.Events()) == 0 {
		return fmt.Errorf("%s is never on duty; a calendar without events cannot be written", name)
	}
	if err := ical.NewEncoder(to).Encode(cal); err != nil {
		return fmt.Errorf("writing the hours of %s: %w", name, err)
	}
	return nil
}

// yearsWritten is for how many years ahead changes of the clocks are written.
const yearsWritten = 10

// timezone describes a time zone, as each that is named in a calendar has to
// be: what it is now, and the changes of the next years.
func timezone(zone *time.Location, now time.Time) *ical.Component {
	c := ical.NewComponent(ical.CompTimezone)
	c.Props.SetText(ical.PropTimezoneID, zone.String())
	observance := func(from, to time.Time, before int) {
		kind := ical.CompTimezoneStandard
		if to.IsDST() {
			kind = ical.CompTimezoneDaylight
		}
		o := ical.NewComponent(kind)
		name, after := to.Zone()
		set := func(prop, value string) {
			p := ical.NewProp(prop)
			p.Value = value
			o.Props.Set(p)
		}
		set(ical.PropDateTimeStart, from.In(time.FixedZone("", before)).Format("20060102T150405"))
		set(ical.PropTimezoneOffsetFrom, offset(before))
		set(ical.PropTimezoneOffsetTo, offset(after))
		set(ical.PropTimezoneName, name)
		c.Children = append(c.Children, o)
	}
	at := now.In(zone)
	begin, end := at.ZoneBounds()
	_, before := at.Zone()
	if begin.IsZero() {
		begin = time.Unix(0, 0)
	} else {
		_, before = begin.Add(-time.Second).In(zone).Zone()
	}
	observance(begin, at, before)
	for until := now.AddDate(yearsWritten, 0, 0); !end.IsZero() && end.Before(until); {
		next := end.In(zone)
		_, before := next.Add(-time.Second).Zone()
		if _, after := next.Zone(); after != before { // ends of years are told as bounds, too
			observance(next, next, before)
		}
		at = next
		if _, end = at.ZoneBounds(); !end.After(at) {
			end = at.Add(24 * time.Hour)
		}
	}
	return c
}

// offset writes seconds east of Greenwich like +0530.
func offset(seconds int) string {
	sign := "+"
	if seconds < 0 {
		sign, seconds = "-", -seconds
	}
	return fmt.Sprintf("%s%02d%02d", sign, seconds/3600, seconds/60%60)
}
