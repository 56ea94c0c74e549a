package farm

import (
	"fmt"
	"time"
)

// Event is what a notice can be about.
type Event string

// What notices are about.
const (
	EventDone     Event = "done"           // a run, with all its frames
	EventGaps     Event = "done with gaps" // a run
	EventFailed   Event = "failed"         // a run
	EventRisk     Event = "at risk"        // a run that will not be ready when it is due
	EventHand     Event = "needs a hand"   // anything else that wants a person
	EventSilent   Event = "node silent"
	EventBudget   Event = "budget"    // most of it, or all, is used up
	EventTakeOver Event = "take-over" // another service goes on with the farm
)

// Events are all of them.
func Events() []Event {
	return []Event{EventDone, EventGaps, EventFailed, EventRisk, EventHand, EventSilent, EventBudget, EventTakeOver}
}

// Urgent reports whether an event wants a person now, also at night.
func (e Event) Urgent() bool { return e != EventDone && e != EventGaps && e != EventBudget }

// Kinds of channels.
const (
	ChannelWebhook = "webhook"
	ChannelMail    = "mail"
)

// Channel is where notices go.
type Channel struct {
	Name     string   `json:"name"`
	Of       string   `json:"of"`                 // webhook or mail
	To       string   `json:"to"`                 // a URL, or an address
	Secret   string   `json:"secret,omitempty"`   // with which webhooks are signed
	Person   string   `json:"person,omitempty"`   // whose it is, who is told what they see alone; empty: the farm's
	Events   []Event  `json:"events"`             // none: all
	Projects []string `json:"projects,omitempty"` // only of these; none: of all
	Quiet    Quiet    `json:"quiet"`
	OnCall   bool     `json:"on_call,omitempty"` // only while its person is on call
	Off      bool     `json:"off,omitempty"`     // nothing is sent
	OffWhy   string   `json:"off_why,omitempty"` // why that is, where the farm has decided it
}

// Quiet are hours in which nothing is sent but what is urgent, if that may.
type Quiet struct {
	From   string `json:"from,omitempty"`   // time of day, such as 22:00; empty: there are none
	To     string `json:"to,omitempty"`     // may be the next day
	Zone   string `json:"zone,omitempty"`   // IANA name; empty: UTC
	Urgent bool   `json:"urgent,omitempty"` // what is urgent is sent all the same
}

// Check says what is wrong with quiet hours.
func (q Quiet) Check() error {
	if _, err := time.LoadLocation(q.Zone); err != nil {
		return fmt.Errorf("%.60q is not a known time zone", q.Zone)
	}
	if q.From == "" && q.To == "" {
		return nil
	}
	for _, text := range []string{q.From, q.To} {
		if _, err := time.Parse("15:04", text); err != nil {
			return fmt.Errorf("quiet hours are two times of day such as 22:00 and 07:00, not %.20q", text)
		}
	}
	if q.From == q.To {
		return fmt.Errorf("quiet hours from %s to %s would never end; switch the channel off instead", q.From, q.To)
	}
	return nil
}

// Until returns when quiet hours end that a time lies in; false where it lies in none.
func (q Quiet) Until(at time.Time) (end time.Time, quiet bool) {
	if q.From == "" {
		return time.Time{}, false
	}
	zone, err := time.LoadLocation(q.Zone)
	if err != nil {
		return time.Time{}, false
	}
	from, _ := time.Parse("15:04", q.From)
	to, _ := time.Parse("15:04", q.To)
	local := at.In(zone)
	on := func(days int, clock time.Time) time.Time {
		return time.Date(
			local.Year(), local.Month(), local.Day()+days, clock.Hour(), clock.Minute(), 0, 0, zone,
		)
	}
	overnight := 0
	if !to.After(from) {
		overnight = 1
	}
	for _, begins := range []int{-1, 0} {
		start, stop := on(begins, from), on(begins+overnight, to)
		if !at.Before(start) && at.Before(stop) {
			return stop, true
		}
	}
	return time.Time{}, false
}

// ChannelSet makes or changes a channel.
type ChannelSet struct {
	Channel
	At time.Time `json:"at"`
}

// Kind implements [Record].
func (ChannelSet) Kind() Kind { return "channel set" }

// About implements [Record].
func (r ChannelSet) About() About { return About{At: r.At} }

// Wakes implements [Record].
func (ChannelSet) Wakes() Wakes { return 0 }

func (r ChannelSet) apply(s *State) error {
	c := r.Channel
	s.Channels[c.Name] = &c
	return nil
}

// ChannelDropped does away with a channel.
type ChannelDropped struct {
	Name string    `json:"name"`
	At   time.Time `json:"at"`
}

// Kind implements [Record].
func (ChannelDropped) Kind() Kind { return "channel dropped" }

// About implements [Record].
func (r ChannelDropped) About() About { return About{At: r.At} }

// Wakes implements [Record].
func (ChannelDropped) Wakes() Wakes { return 0 }

func (r ChannelDropped) apply(s *State) error {
	if s.Channels[r.Name] == nil {
		return fmt.Errorf("there is no channel %s", r.Name)
	}
	delete(s.Channels, r.Name)
	return nil
}

// OnCallSet sets the calendar that says who is on call.
type OnCallSet struct {
	Calendar string    `json:"calendar"` // iCalendar; empty: there is none
	At       time.Time `json:"at"`
}

// Kind implements [Record].
func (OnCallSet) Kind() Kind { return "on-call set" }

// About implements [Record].
func (r OnCallSet) About() About { return About{At: r.At} }

// Wakes implements [Record].
func (OnCallSet) Wakes() Wakes { return 0 }

func (r OnCallSet) apply(s *State) error {
	s.OnCall = r.Calendar
	return nil
}
