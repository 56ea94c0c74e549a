package calendar

import (
	"slices"
	"strings"
	"testing"
	"time"
)

// turnsOfAWeek: nadia from Monday to Friday at night, by the clock in Dublin; tobin at weekends, as an
// attendee; ines once.
const turnsOfAWeek = "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//Pellmarsh//EN\r\n" +
	"BEGIN:VEVENT\r\nUID:1\r\nDTSTAMP:20310101T000000Z\r\nSUMMARY:On call: Nadia\r\n" +
	"DTSTART;TZID=Europe/Dublin:20310303T190000\r\nDTEND;TZID=Europe/Dublin:20310304T080000\r\n" +
	"RRULE:FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR\r\nEND:VEVENT\r\n" +
	"BEGIN:VEVENT\r\nUID:2\r\nDTSTAMP:20310101T000000Z\r\nSUMMARY:weekend\r\n" +
	"ATTENDEE;CN=Tobin:mailto:somebody@pellmarsh.example\r\nATTENDEE:mailto:oskar@pellmarsh.example\r\n" +
	"DTSTART;TZID=Europe/Dublin:20310308T080000\r\nDTEND;TZID=Europe/Dublin:20310310T080000\r\n" +
	"RRULE:FREQ=WEEKLY;BYDAY=SA\r\nEXDATE;TZID=Europe/Dublin:20310315T080000\r\nEND:VEVENT\r\n" +
	"BEGIN:VEVENT\r\nUID:3\r\nDTSTAMP:20310101T000000Z\r\nSUMMARY:ines instead\r\n" +
	"DTSTART:20310315T080000Z\r\nDTEND:20310317T080000Z\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"

func TestWhoIsOnCall(t *testing.T) {
	people := []string{"ines", "nad", "nadia", "oskar", "tobin"}
	for at, want := range map[string]string{
		"2031-03-04T20:00:00Z": "nadia",
		"2031-03-05T07:59:00Z": "nadia",
		"2031-03-05T12:00:00Z": "",
		"2031-03-08T20:00:00Z": "oskar tobin",
		"2031-03-15T20:00:00Z": "ines",  // the weekend is left out
		"2031-04-01T18:30:00Z": "nadia", // the clocks have changed
		"2031-03-27T18:30:00Z": "",
	} {
		when, err := time.Parse(time.RFC3339, at)
		if err != nil {
			t.Fatal(err)
		}
		got, err := OnCall(turnsOfAWeek, people, when)
		if err != nil || strings.Join(got, " ") != want {
			t.Errorf("at %s %v are on call, want %q; %v", at, got, want, err)
		}
	}
	from := time.Date(2031, 3, 3, 0, 0, 0, 0, time.UTC)
	turns, err := Turns(turnsOfAWeek, people, from, from.Add(7*24*time.Hour))
	if err != nil || len(turns) != 7 || turns[0].Person != "nadia" || turns[5].To.Sub(turns[5].From) != 48*time.Hour {
		t.Errorf("a week has %v; %v", turns, err)
	}
}

func TestCalendarsThatSayNothing(t *testing.T) {
	event := func(lines ...string) string {
		all := slices.Concat(
			[]string{"BEGIN:VCALENDAR", "VERSION:2.0", "PRODID:x", "BEGIN:VEVENT", "UID:1", "DTSTAMP:20310101T000000Z"},
			lines,
			[]string{"END:VEVENT", "END:VCALENDAR", ""},
		)
		return strings.Join(all, "\r\n")
	}
	for text, want := range map[string]string{
		"":                     "no calendar",
		"hello":                "not an iCalendar",
		event("SUMMARY:nadia"): "when it begins",
		event("SUMMARY:nadia", "DTSTART:20310303T190000Z", "DTEND:20310302T190000Z"):                      "ends before",
		event("SUMMARY:nadia", "DTSTART:20310303T190000Z", "DTEND:20310503T190000Z"):                      "31 days",
		event("SUMMARY:nadia", "DTSTART:20310303T190000Z", "DTEND:20310304T190000Z", "RRULE:FREQ=SELDOM"): "repeats",
		strings.Repeat("x", mostBytes+1): "bytes",
	} {
		if _, err := OnCall(text, []string{"nadia"}, time.Now()); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.60q: %v, want %q", text, err, want)
		}
	}
}
