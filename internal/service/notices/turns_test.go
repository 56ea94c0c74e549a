package notices

import (
	"fmt"
	"testing"
	"time"

	"vexillum/internal/core/farm"
)

// TestSlowReceiversKeepNobodyWaiting plays a farm in which persons have as many channels as they
// may, each slow or silent, and a mail server hangs, and looks how long the farm's own webhook
// waits for its turn.
func TestSlowReceiversKeepNobodyWaiting(t *testing.T) {
	const slow = 10 * time.Second
	var due []farm.Channel
	for p := range 12 {
		for n := range mostChannelsOf {
			due = append(due, farm.Channel{
				Name: fmt.Sprintf("a-%02d-%02d", p, n), Of: farm.ChannelWebhook, Person: fmt.Sprintf("person-%02d", p),
			})
		}
	}
	for n := range 20 { // the mail server hangs
		due = append(due, farm.Channel{Name: fmt.Sprintf("b-mail-%02d", n), Of: farm.ChannelMail})
	}
	ours := farm.Channel{Name: "z-alarm", Of: farm.ChannelWebhook}
	turns := newTurns()
	ends := map[string]time.Time{}
	served := map[string]int{} // persons
	start := time.Date(2031, 1, 1, 0, 0, 0, 0, time.UTC)
	waited, since := time.Duration(0), time.Time{}
	for now := start; now.Before(start.Add(10 * time.Minute)); now = now.Add(lookEvery) {
		for name, at := range ends {
			if !now.Before(at) {
				delete(ends, name)
				turns.done(name, name == ours.Name, now)
			}
		}
		asks := due
		if since.IsZero() && now.Sub(start)%(7*time.Second) == 0 { // something happens
			since = now
		}
		if !since.IsZero() {
			asks = append(asks[:len(asks):len(asks)], ours)
		}
		byPerson := map[string]int{}
		for _, c := range turns.busy {
			byPerson[c.Person]++
		}
		for _, c := range turns.take(asks, now) {
			if c.Name == ours.Name {
				waited, since = max(waited, now.Sub(since)), time.Time{}
				ends[c.Name] = now.Add(100 * time.Millisecond)
				continue
			}
			if byPerson[c.Person]++; c.Person != "" && byPerson[c.Person] > 1 {
				t.Fatalf("two channels of %s at once", c.Person)
			}
			served[c.Person]++
			ends[c.Name] = now.Add(slow)
		}
	}
	if waited > time.Second {
		t.Errorf("the farm's own webhook waited %v", waited)
	}
	least, most := 1<<30, 0
	for person, n := range served {
		if person != "" {
			least, most = min(least, n), max(most, n)
		}
	}
	if len(served) != 13 || most > least+2 {
		t.Errorf("%d persons had %d to %d turns", len(served), least, most)
	}
}

func TestAFailingReceiverIsLeftAlone(t *testing.T) {
	turns := newTurns()
	c := []farm.Channel{{Name: "a", Of: farm.ChannelWebhook}}
	now := time.Date(2031, 1, 1, 0, 0, 0, 0, time.UTC)
	tries := 0
	for end := now.Add(time.Hour); now.Before(end); now = now.Add(time.Second) {
		if len(turns.take(c, now)) > 0 {
			tries++
			turns.done("a", false, now)
		}
	}
	if tries < 12 || tries > 25 {
		t.Errorf("it was tried %d times in an hour", tries)
	}
	turns.take(c, now.Add(mostBackOff))
	turns.done("a", true, now)
	if len(turns.take(c, now)) != 1 {
		t.Error("after it took something it still waits")
	}
}
