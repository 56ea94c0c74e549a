// Package notice decides who is told of what, and when: which channels a notice goes to,
// whether it waits for the end of quiet hours, which become one, and how long to wait before
// what was not taken is sent again. It neither sends nor keeps anything.
package notice

import (
	"slices"
	"time"

	"vexillum/internal/core/farm"
)

// Notice is something that people may be told.
type Notice struct {
	ID      int64      `json:"id"` // of the change that it is about
	Event   farm.Event `json:"event"`
	At      time.Time  `json:"at"`
	Project string     `json:"project,omitempty"` // of its run; empty: it is the farm's
	Run     int64      `json:"run,omitempty"`
	RunName string     `json:"run_name,omitempty"`
	Node    int64      `json:"node,omitempty"`
	Hand    int64      `json:"hand,omitempty"` // the number of what needs a hand
	Title   string     `json:"title"`          // one sentence
	Text    string     `json:"text"`           // what speaks for it; may be empty
}

// Sight is what channels depend on besides themselves.
type Sight struct {
	// Sees reports whether a person sees a project; of those who are not there, nothing is
	// asked.
	Sees func(person, project string) bool
	// There reports whether a person is on the farm.
	There func(person string) bool
	// OnCall are those who are on call when a notice comes; none: nobody is named.
	OnCall []string
}

// Goes reports whether a channel is told of a notice. Where nobody is named to be on call,
// all are told who could be: rather too many than nobody.
func Goes(c farm.Channel, n Notice, s Sight) bool {
	switch {
	case c.Off:
		return false
	case len(c.Events) > 0 && !slices.Contains(c.Events, n.Event):
		return false
	case len(c.Projects) > 0 && n.Project != "" && !slices.Contains(c.Projects, n.Project):
		return false
	case c.Person != "" && !s.There(c.Person):
		return false
	case c.Person != "" && n.Project != "" && !s.Sees(c.Person, n.Project):
		return false
	case c.OnCall && len(s.OnCall) > 0 && !slices.Contains(s.OnCall, c.Person):
		return false
	}
	return true
}

// Due returns when a notice is sent to a channel: now, or when its quiet hours end.
func Due(c farm.Channel, n Notice, now time.Time) time.Time {
	if c.Quiet.Urgent && n.Event.Urgent() {
		return now
	}
	if until, quiet := c.Quiet.Until(now); quiet {
		return until
	}
	return now
}

// MostTogether bounds how many notices one message tells.
const MostTogether = 200

// Together returns how many of the notices that wait for a channel its next message tells: one
// by one where they are few, and all of them, as a digest, where they are many.
func Together(of string, waiting int) int {
	few := 3 // people
	if of == farm.ChannelWebhook {
		few = 20 // programs would rather have each
	}
	if waiting <= few {
		return min(1, waiting)
	}
	return min(waiting, MostTogether)
}

// pauses are how long it is waited after each try that was not taken: for about half a day in
// all.
var pauses = []time.Duration{
	5 * time.Second, 30 * time.Second, 2 * time.Minute, 10 * time.Minute, 30 * time.Minute, time.Hour, 3 * time.Hour,
	6 * time.Hour,
}

// Pause returns how long to wait after a number of tries in vain, 1 or more; false where it
// is given up. spread is between 0 and 1, and lets those that failed together not come
// together again.
func Pause(tries int, spread float64) (pause time.Duration, again bool) {
	if tries < 1 || tries > len(pauses) {
		return 0, false
	}
	p := pauses[tries-1]
	return p + time.Duration(spread*float64(p)/5), true
}

// Stale is how old a notice is at most that is sent: what is older, nobody needs to be woken
// for after a service was away.
const Stale = 12 * time.Hour

// AgainAfter is how long nothing more is said of what needs a hand after it was said: what
// comes and goes is told once.
const AgainAfter = 10 * time.Minute
