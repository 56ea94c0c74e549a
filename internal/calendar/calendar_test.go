package calendar

import (
	"bytes"
	"strings"
	"testing"
	"time"
	_ "time/tzdata"

	"vexillum/internal/core/hours"
)

var now = time.Date(2031, 3, 6, 12, 0, 0, 0, time.UTC)

func TestHoursAreWrittenAndRead(t *testing.T) {
	week, err := hours.ParseWeek("mon-thu 18:30-08:00; fri 12:00-13:00,18:30-24:00; sat,sun 00:00-24:00")
	if err != nil {
		t.Fatal(err)
	}
	for _, zone := range []string{"Europe/Dublin", "", "Asia/Kathmandu"} {
		h := hours.Hours{Zone: zone, Week: week, Exceptions: []hours.Exception{
			{
				Date: hours.Date{Year: 2031, Month: 3, Day: 30}, Windows: []hours.Window{{From: 120, To: 24 * 60}},
				Note: "clocks change",
			},
			{Date: hours.Date{Year: 2031, Month: 12, Day: 24}, Windows: []hours.Window{}},
		}}
		var out bytes.Buffer
		if err := Write(&out, "desk-tobin", h, now); err != nil {
			t.Fatal(err)
		}
		got, err := Read(bytes.NewReader(out.Bytes()))
		if err != nil {
			t.Fatalf("%v in\n%s", err, out.String())
		}
		if got.Zone != zone || got.Week.String() != week.String() || len(got.Exceptions) != 2 ||
			got.Exceptions[0].Date != h.Exceptions[0].Date || got.Exceptions[0].Windows[0] != h.Exceptions[0].Windows[0] || len(got.Exceptions[1].Windows) != 0 {
			t.Errorf("in %q: read %+v, want %+v from\n%s", zone, got, h, out.String())
		}
		for _, line := range strings.Split(out.String(), "\r\n") {
			if len(line) > 75 {
				t.Errorf("a line of %d bytes: %s", len(line), line)
			}
		}
	}
	if err := Write(&bytes.Buffer{}, "x", hours.Hours{}, now); err == nil {
		t.Error("hours that are never were written")
	}
}

// event is a calendar of one event.
func event(lines ...string) string {
	return strings.Join(
		append(
			append(
				[]string{
					"BEGIN:VCALENDAR", "VERSION:2.0",
					"PRODID:-//Pellmarsh//EN",
					"BEGIN:VEVENT", "UID:1", "DTSTAMP:20310301T000000Z", "SUMMARY:night",
				},
				lines...),
			"END:VEVENT", "END:VCALENDAR", "",
		),
		"\r\n",
	)
}

func TestWhatOthersWrite(t *testing.T) {
	for text, want := range map[string]string{
		event("DTSTART;TZID=Europe/Dublin:20310303T180000", "DTEND;TZID=Europe/Dublin:20310304T080000", "RRULE:FREQ=WEEKLY;BYDAY=MO,TU,WE"): "mon-wed 18:00-08:00",
		event("DTSTART;TZID=Europe/Dublin:20310305T180000", "DTEND;TZID=Europe/Dublin:20310305T200000", "RRULE:FREQ=WEEKLY"):                "wed 18:00-20:00",
		event("DTSTART:20310303T180000Z", "DURATION:PT2H", "RRULE:FREQ=DAILY"):                                                              "mon-sun 18:00-20:00",
		// The night in which the clocks change is one hour shorter, and has the same times.
		event("DTSTART;TZID=Europe/Dublin:20310329T220000", "DTEND;TZID=Europe/Dublin:20310330T060000", "RRULE:FREQ=WEEKLY;BYDAY=SA"): "sat 22:00-06:00",
		event("DTSTART;VALUE=DATE:20310308", "DTEND;VALUE=DATE:20310309", "RRULE:FREQ=WEEKLY;BYDAY=SA"):                               "sat 00:00-24:00",
	} {
		h, err := Read(strings.NewReader(text))
		if err != nil || h.Week.String() != want {
			t.Errorf("%v, %v, want %s from\n%s", h, err, want, text)
		}
	}
	for text, want := range map[string]string{
		"":                                "no calendar",
		"BEGIN:VCARD":                     "there is no calendar",
		"BEGIN:VCALENDAR\r\nnonsense\r\n": "is not an iCalendar file",
		event("DTSTART:20310303T180000Z", "DTEND:20310303T200000Z", "RRULE:FREQ=MONTHLY"):           `the event "night": it does not repeat by the day or the week`,
		event("DTSTART:20310303T180000Z", "DTEND:20310303T200000Z", "RRULE:FREQ=WEEKLY;COUNT=3"):    "for ever",
		event("DTSTART:20310303T180000Z", "DTEND:20310303T200000Z", "RRULE:FREQ=WEEKLY;INTERVAL=2"): "for ever",
		event("DTSTART:20310303T180000Z", "DTEND:20310305T200000Z"):                                 "within a day",
		event("DTSTART:20310303T180000Z", "DTEND:20310303T180000Z"):                                 "must end after it begins",
		event("DTSTART;TZID=Pellmarsh:20310303T180000", "DTEND;TZID=Pellmarsh:20310303T190000"):     "is not a known time zone",
		event("DTSTART:soon", "DTEND:20310303T180000Z"):                                             "its beginning",
	} {
		if h, err := Read(strings.NewReader(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%v, %v, want %q from\n%s", h, err, want, text)
		}
	}
}

// FuzzRead looks that nothing that is read makes it stumble.
func FuzzRead(f *testing.F) {
	f.Add(
		event(
			"DTSTART;TZID=Europe/Dublin:20310303T180000", "DTEND;TZID=Europe/Dublin:20310304T080000",
			"RRULE:FREQ=WEEKLY;BYDAY=MO", "EXDATE;TZID=Europe/Dublin:20310310T180000",
		),
	)
	f.Add(event("DTSTART:20310303T180000Z", "DURATION:PT2H"))
	f.Fuzz(func(t *testing.T, text string) {
		h, err := Read(strings.NewReader(text))
		if err == nil && h.Check() != nil {
			t.Errorf("hours that cannot be were read: %+v", h)
		}
	})
}
