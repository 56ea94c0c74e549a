package hours

import (
	"encoding/json"
	"math/rand/v2"
	"strings"
	"testing"
	"time"
	_ "time/tzdata" // the zones are the same on every machine that tests
)

func nights(t *testing.T, zone, week string, exceptions ...Exception) *Hours {
	t.Helper()
	w, err := ParseWeek(week)
	if err != nil {
		t.Fatal(err)
	}
	h := &Hours{Zone: zone, Week: w, Exceptions: exceptions}
	if err := h.Check(); err != nil {
		t.Fatal(err)
	}
	return h
}

func TestOnDuty(t *testing.T) {
	const desk = "mon-thu 18:30-08:00; fri 18:30-24:00; sat,sun 00:00-24:00"
	holiday := Exception{Date: Date{2031, 3, 5}, Windows: []Window{{0, day}}}
	late := Exception{Date: Date{2031, 3, 6}, Windows: nil, Note: "tobin works late"}
	for _, c := range []struct {
		name  string
		hours *Hours
		at    string // in the zone of the hours
		on    bool
		until string
	}{
		{"in the evening", nights(t, "Europe/Dublin", desk), "2031-03-04 20:00", true, "2031-03-05 08:00"}, // a Tuesday
		{"after midnight", nights(t, "Europe/Dublin", desk), "2031-03-05 03:00", true, "2031-03-05 08:00"},
		{"at its first minute", nights(t, "Europe/Dublin", desk), "2031-03-04 18:30", true, "2031-03-05 08:00"},
		{"at its end", nights(t, "Europe/Dublin", desk), "2031-03-05 08:00", false, "2031-03-05 18:30"},
		{"by day", nights(t, "Europe/Dublin", desk), "2031-03-04 12:00", false, "2031-03-04 18:30"},
		{"the weekend is one stretch, but for Monday's morning", nights(t, "Europe/Dublin", desk), "2031-03-08 12:00", true, "2031-03-10 00:00"},
		{"a holiday", nights(t, "Europe/Dublin", desk, holiday), "2031-03-05 12:00", true, "2031-03-06 00:00"},
		{"the night before joins it", nights(t, "Europe/Dublin", desk, holiday), "2031-03-04 23:00", true, "2031-03-06 00:00"},
		{"an evening off", nights(t, "Europe/Dublin", desk, late), "2031-03-06 20:00", false, "2031-03-07 18:30"},
		{"the morning of it still belongs to the night before", nights(t, "Europe/Dublin", desk, late), "2031-03-06 06:00", true, "2031-03-06 08:00"},
		{"always", nights(t, "", "always"), "2031-03-06 06:00", true, ""},
		{"never", nights(t, "", "never"), "2031-03-06 06:00", false, ""},
		{"the night in which clocks go forward", nights(t, "Europe/Dublin", "sat 22:00-06:00"), "2031-03-29 23:00", true, "2031-03-30 06:00"},
		{"a window in the hour that is skipped is reckoned from before it, as RFC 5545 has it", nights(t, "Europe/Dublin", "sun 01:10-01:50"), "2031-03-30 00:30", false, "2031-03-30 02:10"},
		{"the night in which clocks go back", nights(t, "Europe/Dublin", "sat 22:00-06:00"), "2031-10-25 23:00", true, "2031-10-26 06:00"},
	} {
		loc, err := time.LoadLocation(c.hours.Zone)
		if err != nil {
			t.Fatal(err)
		}
		at, err := time.ParseInLocation("2006-01-02 15:04", c.at, loc)
		if err != nil {
			t.Fatal(err)
		}
		on, until := c.hours.At(at.UTC()) // the zone of the question plays no part
		got := ""
		if !until.IsZero() {
			got = until.In(loc).Format("2006-01-02 15:04")
		}
		if on != c.on || got != c.until {
			t.Errorf("%s: %v until %q, want %v until %q", c.name, on, got, c.on, c.until)
		}
	}
}

// TestNightsAreAsLongAsTheyAre compares the length of nights in which the
// clocks change with others.
func TestNightsAreAsLongAsTheyAre(t *testing.T) {
	h := nights(t, "Europe/Dublin", "mon-sun 22:00-06:00")
	loc, _ := time.LoadLocation("Europe/Dublin")
	for date, want := range map[string]time.Duration{"2031-03-29": 7 * time.Hour, "2031-10-25": 9 * time.Hour, "2031-06-01": 8 * time.Hour} {
		from, err := time.ParseInLocation("2006-01-02 15:04", date+" 22:00", loc)
		if err != nil {
			t.Fatal(err)
		}
		if _, until := h.At(from); until.Sub(from) != want {
			t.Errorf("the night of %s has %v, want %v", date, until.Sub(from), want)
		}
	}
}

// TestAnswersAgree steps through random hours by their own answers, minute by
// minute between them at random.
func TestAnswersAgree(t *testing.T) {
	zones := []string{"Europe/Dublin", "America/St_Johns", "Asia/Kathmandu", "Australia/Lord_Howe", "UTC"}
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 9))
		h := &Hours{Zone: zones[r.IntN(len(zones))]}
		for i := range h.Week {
			for range r.IntN(3) {
				from := r.IntN(day)
				h.Week[i] = append(h.Week[i], Window{from, from + 1 + r.IntN(day)})
			}
		}
		h.Exceptions = []Exception{{Date: Date{2031, 3, 20 + r.IntN(10)}, Windows: []Window{{600, 700}}}}
		h.Tidy()
		if err := h.Check(); err != nil {
			t.Fatal(err)
		}
		at := time.Date(2031, 3, 10+r.IntN(20), r.IntN(24), r.IntN(60), 0, 0, time.UTC)
		on, until := h.At(at)
		for range 20 {
			if until.IsZero() {
				break
			}
			if !until.After(at) {
				t.Fatalf("seed %d: at %v it is %v until %v", seed, at, on, until)
			}
			between := at.Add(time.Duration(r.Int64N(int64(until.Sub(at)))))
			if still, same := h.At(between); still != on || !same.Equal(until) {
				t.Fatalf(
					"seed %d: at %v it is %v until %v, at %v it is %v until %v", seed, at, on, until, between, still,
					same,
				)
			}
			was := on
			at = until
			if on, until = h.At(at); on == was {
				t.Fatalf("seed %d: nothing changes at %v", seed, at)
			}
		}
	}
}

func TestWeeksAreReadAndWritten(t *testing.T) {
	for text, want := range map[string]string{
		"mon-thu 18:30-08:00; fri 18:30-24:00; sat,sun 00:00-24:00": "mon-thu 18:30-08:00; fri 18:30-24:00; sat,sun " +
			"00:00-24:00",
		"Mon 8:00-9:00;mon 9:00-10:00": "mon 08:00-10:00",
		"fri-mon 20:00-06:00":          "mon 20:00-06:00; fri-sun 20:00-06:00",
		"always":                       "mon-sun 00:00-24:00",
		"never":                        "never",
		"tue 12:00-13:00, 20:00-22:00": "tue 12:00-13:00,20:00-22:00",
		"wed 12:00-12:00":              "wed 12:00-12:00",
	} {
		w, err := ParseWeek(text)
		if err != nil {
			t.Errorf("%s: %v", text, err)
			continue
		}
		if w.String() != want {
			t.Errorf("%s became %s, want %s", text, w, want)
		}
		again, err := ParseWeek(w.String())
		if err != nil || again.String() != want {
			t.Errorf("%s read again is %s, %v", want, again, err)
		}
	}
	for _, text := range []string{"", "mon", "mon 18", "lun 18:00-20:00", "mon 25:00-26:00", "mon 24:00-25:00", "mon 18:60-20:00", "mon 18:00", "mon 18:00-8", strings.Repeat("mon 00:00-00:01;", 13) + "mon 00:00-00:01"} {
		if w, err := ParseWeek(text); err == nil {
			t.Errorf("%q became %s", text, w)
		}
	}
}

func TestHoursThatCannotBe(t *testing.T) {
	for _, h := range []Hours{
		{Zone: "Pellmarsh/Tower"},
		{Zone: "Local"},
		{Week: Week{{{-1, 5}}}},
		{Week: Week{{{600, 600}}}},
		{Week: Week{{{600, 600 + day + 1}}}},
		{Exceptions: []Exception{{Date: Date{2031, 3, 4}}, {Date: Date{2031, 3, 4}}}},
		{Exceptions: []Exception{{}}},
		{Exceptions: []Exception{{Date: Date{2031, 3, 4}, Note: strings.Repeat("x", 101)}}},
	} {
		if h.Check() == nil {
			t.Errorf("%+v is taken", h)
		}
	}
	h := nights(t, "Europe/Dublin", "mon 18:00-08:00", Exception{Date: Date{2031, 12, 24}})
	data, err := json.Marshal(h)
	var back Hours
	if err != nil || json.Unmarshal(data, &back) != nil || back.Week.String() != h.Week.String() ||
		back.Exceptions[0].Date != h.Exceptions[0].Date {
		t.Errorf("%s is read again as %+v", data, back)
	}
	if json.Unmarshal([]byte(`{"exceptions":[{"date":"24.12.2031"}]}`), &back) == nil {
		t.Error("a date of another form is taken")
	}
}
