package notices

import (
	"cmp"
	"slices"
	"sync"
	"time"

	"vexillum/internal/core/farm"
)

// lane is a kind of channel that is sent to beside others: one kind that is slow, and persons
// whose receivers are, keep no other waiting.
type lane struct {
	of       string // kind of channel
	personal bool
}

// slots are how many channels of a lane are sent to at once.
var slots = map[lane]int{
	{farm.ChannelWebhook, false}: 8, {farm.ChannelMail, false}: 2,
	{farm.ChannelWebhook, true}: 6, {farm.ChannelMail, true}: 2,
}

// Waits before a channel that does not take its messages is tried again.
const (
	firstBackOff = 5 * time.Second
	mostBackOff  = 5 * time.Minute
)

// turns decides which channels are sent to next. Its methods may be called at any time.
type turns struct {
	mu      sync.Mutex
	number  int64
	busy    map[string]farm.Channel // that are being sent to
	served  map[string]int64        // channels, and persons, by the number of their last turn
	failing map[string]backOff
}

// backOff is how long a channel that does not take its messages is left alone.
type backOff struct {
	pause time.Duration
	until time.Time
}

func newTurns() *turns {
	return &turns{busy: map[string]farm.Channel{}, served: map[string]int64{}, failing: map[string]backOff{}}
}

// take returns the channels of some that are due which are sent to now, and counts them as
// being sent to until done is called. In each lane who was served the longest ago comes first,
// one channel of a person at once.
func (t *turns) take(due []farm.Channel, now time.Time) (out []farm.Channel) {
	t.mu.Lock()
	defer t.mu.Unlock()
	free := map[lane]int{}
	for l, n := range slots {
		free[l] = n
	}
	sending := map[string]bool{}
	for _, c := range t.busy {
		free[laneOf(c)]--
		sending[c.Person] = sending[c.Person] || c.Person != ""
	}
	due = slices.Clone(due)
	slices.SortStableFunc(due, func(a, b farm.Channel) int {
		return cmp.Or(
			cmp.Compare(t.served[personKey(a)], t.served[personKey(b)]), cmp.Compare(t.served[a.Name], t.served[b.Name]),
		)
	})
	for _, c := range due {
		_, busy := t.busy[c.Name]
		if busy || sending[c.Person] || free[laneOf(c)] <= 0 || now.Before(t.failing[c.Name].until) {
			continue
		}
		free[laneOf(c)]--
		sending[c.Person] = c.Person != ""
		t.number++
		t.busy[c.Name], t.served[c.Name], t.served[personKey(c)] = c, t.number, t.number
		out = append(out, c)
	}
	return out
}

// done notes that a channel is not sent to any more, and whether it took what it was sent.
func (t *turns) done(name string, took bool, now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.busy, name)
	if took {
		delete(t.failing, name)
		return
	}
	pause := min(max(2*t.failing[name].pause, firstBackOff), mostBackOff)
	t.failing[name] = backOff{pause, now.Add(pause)}
}

// keep forgets channels that no longer exist.
func (t *turns) keep(names map[string]bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for name := range t.failing {
		if !names[name] {
			delete(t.failing, name)
			delete(t.served, name)
		}
	}
}

func laneOf(c farm.Channel) lane { return lane{c.Of, c.Person != ""} }

// personKey is under what a person's turns are counted; channels of the farm count by themselves.
func personKey(c farm.Channel) string {
	if c.Person == "" {
		return c.Name
	}
	return "person " + c.Person
}
