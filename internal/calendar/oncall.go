package calendar

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/emersion/go-ical"
	"github.com/teambition/rrule-go"
)

// Turn is a span of time in which somebody is on call.
type Turn struct {
	Person   string
	From, To time.Time
}

// mostTurns bounds how many turns of one event are looked at.
const mostTurns = 1000

// mostTurn is how long a turn lasts at most.
const mostTurn = 31 * 24 * time.Hour

// Turns returns when those people are on call whom the events of a calendar name, in their
// summary or as attendees, as far as that touches a span of time; the earliest first. An
// error says what cannot be read.
func Turns(calendar string, people []string, from, to time.Time) (out []Turn, err error) {
	defer func() {
		if trouble := recover(); trouble != nil {
			out, err = nil, fmt.Errorf("an event makes no sense (%v)", trouble)
		}
	}()
	if len(calendar) > mostBytes {
		return nil, fmt.Errorf("a calendar of more than %d bytes is not read", mostBytes)
	}
	cal, err := decode(strings.NewReader(calendar))
	if errors.Is(err, io.EOF) {
		return nil, errors.New("there is no calendar in it")
	}
	if err != nil {
		return nil, fmt.Errorf("it is not an iCalendar file: %w", err)
	}
	if n := len(cal.Events()); n > mostEvents {
		return nil, fmt.Errorf("it has %d events; at most %d are read", n, mostEvents)
	}
	for _, e := range cal.Events() {
		spans, err := occurrences(e, from, to)
		if err != nil {
			return nil, fmt.Errorf("the event %q: %w", title(e), err)
		}
		for _, person := range people {
			if !names(e, person) {
				continue
			}
			for _, span := range spans {
				out = append(out, Turn{person, span[0], span[1]})
			}
		}
	}
	slices.SortFunc(out, func(a, b Turn) int {
		return cmp.Or(a.From.Compare(b.From), cmp.Compare(a.Person, b.Person))
	})
	return out, nil
}

// OnCall returns who of these people is on call at a time, in order.
func OnCall(calendar string, people []string, at time.Time) ([]string, error) {
	turns, err := Turns(calendar, people, at, at)
	var out []string
	for _, t := range turns {
		out = append(out, t.Person)
	}
	slices.Sort(out)
	return slices.Compact(out), err
}

// occurrences returns when an event takes place, as far as that touches a span of time.
func occurrences(e ical.Event, from, to time.Time) (out [][2]time.Time, err error) {
	start, err := e.DateTimeStart(time.UTC)
	if err != nil || start.IsZero() {
		return nil, errors.New("it does not say when it begins")
	}
	end, err := e.DateTimeEnd(time.UTC)
	if err != nil || !end.After(start) {
		return nil, errors.New("it does not say when it ends, or ends before it begins")
	}
	lasts := end.Sub(start)
	if lasts > mostTurn {
		return nil, errors.New("it lasts for more than 31 days")
	}
	if rule, err := e.Props.RecurrenceRule(); err == nil && rule != nil && rule.Freq > rrule.DAILY {
		return nil, errors.New("it repeats more than once a day")
	}
	begins := []time.Time{start}
	set, err := e.RecurrenceSet(start.Location())
	if err != nil {
		return nil, fmt.Errorf("how it repeats is not known: %w", err)
	}
	if set != nil {
		begins = set.Between(from.Add(-lasts), to, true)
	}
	for _, at := range begins[:min(len(begins), mostTurns)] {
		if !at.After(to) && at.Add(lasts).After(from) {
			out = append(out, [2]time.Time{at, at.Add(lasts)})
		}
	}
	return out, nil
}

// names reports whether an event names a person: as a word of its summary, or as an attendee.
func names(e ical.Event, person string) bool {
	words := strings.FieldsFunc(title(e), func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsDigit(r) && !strings.ContainsRune("-_.", r)
	})
	same := func(word string) bool { return strings.EqualFold(word, person) }
	if slices.ContainsFunc(words, same) {
		return true
	}
	return slices.ContainsFunc(e.Props.Values(ical.PropAttendee), func(p ical.Prop) bool {
		address, _, _ := strings.Cut(strings.TrimPrefix(strings.ToLower(p.Value), "mailto:"), "@")
		return same(p.Params.Get(ical.ParamCommonName)) || same(address)
	})
}
