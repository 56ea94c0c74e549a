package farm

import (
	"fmt"
	"time"
)

// PreflightRule says when nodes are asked by themselves whether they can really render what
// is in the queue.
type PreflightRule struct {
	Held bool `json:"held,omitempty"` // once for each run that somebody holds
	// Night is the time of day, such as 18:30, at which it is asked for all runs that are
	// open; empty: it is not
	Night string `json:"night,omitempty"`
	Zone  string `json:"zone,omitempty"` // of that time, such as Europe/Dublin; empty is UTC
}

// FirstPreflightRule is the rule of a farm of which nobody has said another.
var FirstPreflightRule = PreflightRule{Held: true}

// Check returns an error that says what is wrong with a rule, if anything.
func (r PreflightRule) Check() error {
	if _, err := time.LoadLocation(r.Zone); err != nil || r.Zone == "Local" {
		return fmt.Errorf("%.60q is not a time zone; name one like Europe/Dublin", r.Zone)
	}
	if r.Night == "" {
		return nil
	}
	if _, err := time.Parse("15:04", r.Night); err != nil || len(r.Night) != len("15:04") {
		return fmt.Errorf("%.20q is not a time of day; write it like 18:30", r.Night)
	}
	return nil
}

// NightWithin reports whether the time at which all runs are asked about lies after one
// moment and not after another, as it does whenever more than a day lies in between.
func (r PreflightRule) NightWithin(after, until time.Time) bool {
	at, err := time.Parse("15:04", r.Night)
	zone, zoneErr := time.LoadLocation(r.Zone)
	if err != nil || zoneErr != nil {
		return false
	}
	until = until.In(zone)
	for _, back := range []int{0, 1} {
		// a time that a change of the clock leaves out is the one an hour beside it
		night := time.Date(until.Year(), until.Month(), until.Day()-back, at.Hour(), at.Minute(), 0, 0, zone)
		if night.After(after) && !night.After(until) {
			return true
		}
	}
	return false
}

// String says it for people.
func (r PreflightRule) String() string {
	text := "held runs are not asked about"
	if r.Held {
		text = "held runs are asked about"
	}
	if r.Night == "" {
		return text
	}
	zone := r.Zone
	if zone == "" {
		zone = "UTC"
	}
	return fmt.Sprintf("%s, and all open runs at %s (%s)", text, r.Night, zone)
}

// PreflightRuleSet says when nodes are asked by themselves.
type PreflightRuleSet struct {
	Rule PreflightRule `json:"rule"`
	At   time.Time     `json:"at"`
}

// Kind implements [Record].
func (PreflightRuleSet) Kind() Kind { return "preflight rule set" }

// About implements [Record].
func (r PreflightRuleSet) About() About { return About{At: r.At} }

// Wakes implements [Record].
func (PreflightRuleSet) Wakes() Wakes { return 0 }

func (r PreflightRuleSet) apply(s *State) error {
	s.PreflightRule = r.Rule
	return nil
}
