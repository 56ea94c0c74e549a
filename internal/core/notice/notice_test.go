package notice

import (
	"testing"
	"time"

	"vexillum/internal/core/farm"
)

func at(t *testing.T, text string) time.Time {
	t.Helper()
	out, err := time.Parse(time.RFC3339, text)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

func TestQuietHours(t *testing.T) {
	night := farm.Quiet{From: "22:00", To: "07:00", Zone: "Europe/Dublin"}
	noon := farm.Quiet{From: "12:00", To: "13:30"}
	for _, c := range []struct {
		quiet     farm.Quiet
		at, until string // empty: not quiet
	}{
		{night, "2031-01-10T21:59:59Z", ""},
		{night, "2031-01-10T22:00:00Z", "2031-01-11T07:00:00Z"},
		{night, "2031-01-11T06:59:59Z", "2031-01-11T07:00:00Z"},
		{night, "2031-01-11T07:00:00Z", ""},
		{night, "2031-07-10T21:30:00Z", "2031-07-11T06:00:00Z"}, // summer time
		{night, "2031-03-29T23:00:00Z", "2031-03-30T06:00:00Z"}, // the clocks go on in it
		{noon, "2031-01-10T12:30:00Z", "2031-01-10T13:30:00Z"},
		{noon, "2031-01-10T13:30:00Z", ""},
		{farm.Quiet{}, "2031-01-10T23:00:00Z", ""},
	} {
		until, quiet := c.quiet.Until(at(t, c.at))
		if quiet != (c.until != "") || quiet && !until.Equal(at(t, c.until)) {
			t.Errorf("%+v at %s: %v %v, want %q", c.quiet, c.at, until, quiet, c.until)
		}
	}
	for _, q := range []farm.Quiet{
		{From: "22:00"}, {To: "07:00"}, {From: "22", To: "07:00"}, {From: "24:00", To: "07:00"},
		{From: "07:00", To: "07:00"},
		{From: "22:00", To: "07:00", Zone: "Dublin/Nowhere"},
	} {
		if q.Check() == nil {
			t.Errorf("%+v is taken", q)
		}
	}
	if (farm.Quiet{Zone: "nowhere"}).Check() == nil { // times in e-mail are in it
		t.Error("a zone that nobody knows is taken")
	}
}

func TestWhoIsTold(t *testing.T) {
	sight := Sight{
		Sees:  func(person, project string) bool { return person != "tobin" || project != "tidal-room" },
		There: func(person string) bool { return person != "gone" },
	}
	failed := Notice{Event: farm.EventFailed, Project: "tidal-room"}
	over := Notice{Event: farm.EventTakeOver}
	for _, c := range []struct {
		name    string
		channel farm.Channel
		n       Notice
		onCall  []string
		goes    bool
	}{
		{"all", farm.Channel{}, failed, nil, true},
		{"off", farm.Channel{Off: true}, failed, nil, false},
		{"other events", farm.Channel{Events: []farm.Event{farm.EventDone}}, failed, nil, false},
		{"its events", farm.Channel{Events: []farm.Event{farm.EventDone, farm.EventFailed}}, failed, nil, true},
		{"other projects", farm.Channel{Projects: []string{"gannet"}}, failed, nil, false},
		{"what is of no project", farm.Channel{Projects: []string{"gannet"}}, over, nil, true},
		{"who sees it", farm.Channel{Person: "nadia"}, failed, nil, true},
		{"who does not see it", farm.Channel{Person: "tobin"}, failed, nil, false},
		{"who is no more", farm.Channel{Person: "gone"}, over, nil, false},
		{"who is on call", farm.Channel{Person: "nadia", OnCall: true}, failed, []string{"nadia"}, true},
		{"who is not", farm.Channel{Person: "ines", OnCall: true}, failed, []string{"nadia"}, false},
		{"nobody is named", farm.Channel{Person: "ines", OnCall: true}, failed, nil, true},
	} {
		sight.OnCall = c.onCall
		if got := Goes(c.channel, c.n, sight); got != c.goes {
			t.Errorf("%s: told: %v", c.name, got)
		}
	}
	quiet := farm.Channel{Quiet: farm.Quiet{From: "22:00", To: "07:00"}}
	now := at(t, "2031-01-10T23:00:00Z")
	if got := Due(quiet, failed, now); !got.Equal(at(t, "2031-01-11T07:00:00Z")) {
		t.Errorf("told at %s", got)
	}
	quiet.Quiet.Urgent = true
	if got := Due(quiet, failed, now); !got.Equal(now) {
		t.Errorf("what is urgent is told at %s", got)
	}
	if got := Due(quiet, Notice{Event: farm.EventDone}, now); got.Equal(now) {
		t.Error("what is not urgent is told at night")
	}
}

// TestTriesEnd lets all tries fail: pauses grow, and there is an end.
func TestTriesEnd(t *testing.T) {
	total, last := time.Duration(0), time.Duration(0)
	tries := 1
	for ; ; tries++ {
		p, again := Pause(tries, 0)
		if !again {
			break
		}
		if late, _ := Pause(tries, 1); late <= p || late > 2*p {
			t.Errorf("after %d tries %s to %s", tries, p, late)
		}
		if p <= last {
			t.Errorf("after %d tries %s, not more than %s", tries, p, last)
		}
		last = p
		total += p
	}
	if tries > 12 || total < 6*time.Hour || total > 24*time.Hour {
		t.Errorf("%d tries over %s", tries, total)
	}
}

func TestManyBecomeOne(t *testing.T) {
	for _, of := range []string{farm.ChannelWebhook, farm.ChannelMail} {
		messages, waiting := 0, 10_000
		for waiting > 0 {
			n := Together(of, waiting)
			if n < 1 || n > MostTogether {
				t.Fatalf("%d of %d at once", n, waiting)
			}
			waiting -= n
			messages++
		}
		if messages > 75 {
			t.Errorf("%s: %d messages for 10,000 notices", of, messages)
		}
		if Together(of, 1) != 1 || Together(of, 2) != 1 || Together(of, 0) != 0 {
			t.Errorf("%s: few become one", of)
		}
	}
}

func TestMomentsAreToldInAZone(t *testing.T) {
	dublin, err := time.LoadLocation("Europe/Dublin")
	if err != nil {
		t.Fatal(err)
	}
	now := at(t, "2031-07-10T12:00:00Z")
	got := InZone("It is due 2031-07-10T17:00:00Z, or 2031-07-12T17:00:00Z.", dublin, now)
	if got != "It is due 18:00 IST, or Sat 12 Jul 18:00 IST." {
		t.Error(got)
	}
}
