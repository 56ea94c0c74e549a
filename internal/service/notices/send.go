package notices

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"time"
	"unicode"
	"unicode/utf8"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/notice"
	"vexillum/internal/notify"
	"vexillum/internal/secret"
	"vexillum/internal/service/refusal"
	"vexillum/internal/service/writer"
	"vexillum/internal/store"
	"vexillum/internal/wire"
)

// How notices are sent.
const (
	lookEvery = 500 * time.Millisecond
	// dropEvery is how often old notices are forgotten, and keptFor how long they are kept.
	dropEvery = time.Hour
	keptFor   = 14 * 24 * time.Hour
	// mostAnswer bounds what is kept of an answer, in bytes.
	mostAnswer = 300
)

// Run makes and sends notices until the context ends.
func (d *Desk) Run(ctx context.Context) {
	every := time.NewTicker(lookEvery)
	defer every.Stop()
	var sending sync.WaitGroup
	defer sending.Wait()
	turns := newTurns()
	dropped := time.Time{}
	for {
		select {
		case <-ctx.Done():
			return
		case <-every.C:
		}
		if err := d.collect(ctx); err != nil {
			d.tell(ctx, "making notices", err)
			continue
		}
		if d.o.Now().Sub(dropped).Abs() > dropEvery && (d.o.Steady == nil || d.o.Steady()) {
			dropped = d.o.Now()
			d.tell(ctx, "forgetting notices", d.drop(ctx))
		}
		due, err := d.due(ctx, turns)
		d.tell(ctx, "looking what is to be sent", err)
		for _, c := range turns.take(due, d.o.Now()) {
			sending.Go(func() {
				took, err := d.sendAll(ctx, c.Name)
				turns.done(c.Name, took || d.o.Hurry > 1, d.o.Now()) // tests that hurry are not held up either
				d.tell(ctx, "sending notices to "+c.Name, err)
			})
		}
	}
}

// due returns the channels for which something is due. One that no longer exists counts as one
// of the farm: what it was to be told is dropped.
func (d *Desk) due(ctx context.Context, turns *turns) (out []farm.Channel, err error) {
	names, err := d.o.Store.DueChannels(ctx, d.o.Now())
	if err != nil || len(names) == 0 {
		return nil, err
	}
	err = d.o.Writer.Do(ctx, func(t *writer.Tx) error {
		there := map[string]bool{}
		for name := range t.State.Channels {
			there[name] = true
		}
		turns.keep(there)
		for _, name := range names {
			c := farm.Channel{Name: name, Of: farm.ChannelWebhook}
			if known := t.State.Channels[name]; known != nil {
				c.Of, c.Person = known.Of, known.Person
			}
			out = append(out, c)
		}
		return nil
	})
	return out, err
}

func (d *Desk) tell(ctx context.Context, doing string, err error) {
	if err != nil && ctx.Err() == nil && !errors.Is(err, writer.ErrGone) {
		d.o.Log.Error(doing, "error", err)
	}
}

func (d *Desk) drop(ctx context.Context) error {
	l, err := d.look(ctx)
	if err != nil {
		return err
	}
	var names []string
	for _, c := range l.channels {
		names = append(names, c.Name)
	}
	return d.o.Store.DropNotices(ctx, d.o.Now().Add(-keptFor), names)
}

// inARow bounds how many messages go to one channel before others get their turn.
const inARow = 20

// sendAll sends what is due to a channel, until a try fails, and reports whether none did.
func (d *Desk) sendAll(ctx context.Context, name string) (took bool, err error) {
	for range inARow {
		c, err := d.channel(ctx, name)
		if err != nil {
			return true, err
		}
		if c == nil {
			return true, d.drop(ctx) // it was done away with
		}
		message, list, err := d.o.Store.NextMessage(
			ctx, name, d.o.Now(), secret.New("msg"), func(waiting int) int { return notice.Together(c.Of, waiting) },
		)
		if err != nil || len(list) == 0 {
			return true, err
		}
		if went, err := d.send(ctx, *c, message, list); err != nil || !went {
			return false, err
		}
	}
	return true, nil
}

// channel returns a channel as it is now; nil where it is not there any more.
func (d *Desk) channel(ctx context.Context, name string) (out *farm.Channel, err error) {
	err = d.o.Writer.Do(ctx, func(t *writer.Tx) error {
		if c := t.State.Channels[name]; c != nil {
			found := *c
			if c.Person != "" && t.State.People[c.Person] == nil {
				found.Off, found.OffWhy = true, c.Person+" is not on the farm any more"
			}
			out = &found
		}
		return nil
	})
	return out, err
}

// send sends one message once, and notes what became of it.
func (d *Desk) send(ctx context.Context, c farm.Channel, message string, list []store.Notice) (went bool, err error) {
	told := make([]notice.Notice, 0, len(list))
	for _, n := range list {
		var one notice.Notice
		if err := json.Unmarshal(n.Body, &one); err != nil {
			return false, fmt.Errorf("reading notice %d: %w", n.ID, err)
		}
		told = append(told, one)
	}
	var answer notify.Answer
	switch {
	case c.Off:
		answer = notify.Answer{Text: cmp.Or(c.OffWhy, "the channel is switched off")}
	case list[0].Tries == 0 && d.o.Now().Sub(list[0].Due) > notice.Stale: // of a backup, or a service long away
		answer, c.Off = notify.Answer{Text: "it is too old to be told"}, true
	case c.Of == farm.ChannelMail && d.o.Mailer == nil:
		answer = notify.Answer{Text: "the service has no mail server"}
	case c.Of == farm.ChannelMail:
		answer = d.o.Mailer.Send(ctx, d.letter(ctx, c, message, told))
	default:
		body, err := payload(told, d.o.Now())
		if err != nil {
			return false, err
		}
		answer = d.o.Webhooks.Send(ctx, c.To, c.Secret, message, body, d.o.Now())
	}
	if ctx.Err() != nil {
		return false, nil // it is tried again by who goes on; its id is the same
	}
	now := d.o.Now()
	state, next := "delivered", now
	if !answer.Taken {
		state = "given up"
		if pause, again := notice.Pause(list[0].Tries+1, rand.Float64()); again && !answer.Gone && !c.Off {
			state, next = "waiting", now.Add(time.Duration(float64(pause)/d.o.Hurry))
		}
	}
	if err := d.o.Store.Sent(ctx, message, state, plain(answer.Text), next, now); err != nil {
		return false, err
	}
	if answer.Gone {
		return false, d.off(ctx, c.Name)
	}
	return answer.Taken, nil
}

// plain returns what a receiver has said as text that can be kept and shown.
func plain(text string) string {
	text = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || r == utf8.RuneError {
			return -1
		}
		return r
	}, text)
	return strings.ToValidUTF8(text[:min(len(text), mostAnswer)], "")
}

// off switches off a channel that wants nothing more.
func (d *Desk) off(ctx context.Context, name string) error {
	return d.o.Writer.Do(ctx, func(t *writer.Tx) error {
		c := t.State.Channels[name]
		if c == nil || c.Off {
			return nil
		}
		next := *c
		next.Off, next.OffWhy = true, "it answered 410: nothing more is to be sent there"
		t.Append(farm.ChannelSet{Channel: next, At: t.Now})
		return nil
	})
}

// hook is a webhook's payload.
type hook struct {
	Type      string    `json:"type"`
	Timestamp time.Time `json:"timestamp"`
	Data      any       `json:"data"`
}

// types are the names of events in payloads.
var types = map[farm.Event]string{
	farm.EventDone: "run.done", farm.EventGaps: "run.done_with_gaps", farm.EventFailed: "run.failed",
	farm.EventRisk: "run.at_risk", farm.EventHand: "hand.raised", farm.EventSilent: "node.silent",
	farm.EventBudget: "project.budget", farm.EventTakeOver: "service.took_over", eventTest: "test",
}

// eventTest is a notice that somebody has asked for.
const eventTest farm.Event = "test"

// payload encodes notices for a webhook: one as itself, several as a digest.
func payload(told []notice.Notice, now time.Time) ([]byte, error) {
	h := hook{Type: types[told[0].Event], Timestamp: told[0].At.UTC(), Data: told[0]}
	if len(told) > 1 {
		h = hook{Type: "digest", Timestamp: now.UTC(), Data: struct {
			Notices []notice.Notice `json:"notices"`
		}{told}}
	}
	body, err := json.Marshal(h)
	if err != nil {
		return nil, fmt.Errorf("encoding a message: %w", err)
	}
	return body, nil
}

// Try sends a notice to a channel that says that it is a trial, whatever its hours.
func (d *Desk) Try(ctx context.Context, name string, by farm.Person) error {
	now := d.o.Now()
	err := d.o.Writer.Do(ctx, func(t *writer.Tx) error {
		if err := known(t.State, name, by); err != nil {
			return err
		}
		if c := t.State.Channels[name]; c.Off {
			return refusal.New(refusal.Conflict, "", "the channel %s is switched off", name)
		}
		return nil
	})
	if err != nil {
		return err
	}
	body, err := json.Marshal(notice.Notice{
		Event: eventTest, At: now, Title: "This is a trial of the channel " + name + ".",
		Text: by.Name + " has asked for it.",
	})
	if err != nil {
		return fmt.Errorf("encoding a notice: %w", err)
	}
	return d.o.Store.AddNotice(ctx, store.NewNotice{Channel: name, Body: body, Due: now}, now)
}

func sentView(n store.Notice) wire.SentNotice {
	v := wire.SentNotice{
		ID: n.ID, Channel: n.Channel, MadeAt: n.MadeAt, State: n.State, Message: n.Message, Tries: n.Tries,
		Answer: n.Answer, EndedAt: n.EndedAt,
	}
	if n.State == "waiting" {
		v.NextAt = &n.NextAt
	}
	var told notice.Notice
	if json.Unmarshal(n.Body, &told) == nil {
		v.Event, v.Title = string(told.Event), told.Title
	}
	return v
}
