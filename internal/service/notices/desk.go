// Package notices is the desk for what people are told outside the farm: it keeps the channels
// and who is on call, makes notices of what was committed, and has them sent until they
// arrive. It reads what has happened from the records, so that the farm's loop never waits
// for anybody who is told. It does not know how a message travels.
package notices

import (
	"context"
	"log/slog"
	"slices"
	"strings"
	"time"

	"vexillum/internal/calendar"
	"vexillum/internal/core/farm"
	"vexillum/internal/notify"
	"vexillum/internal/secret"
	"vexillum/internal/service/refusal"
	"vexillum/internal/service/writer"
	"vexillum/internal/store"
	"vexillum/internal/wire"
)

// Store keeps notices on their way.
type Store interface {
	Tell(ctx context.Context, now time.Time, notices func([]store.Happened) ([]store.NewNotice, error)) (bool, error)
	AddNotice(ctx context.Context, n store.NewNotice, now time.Time) error
	DueChannels(ctx context.Context, now time.Time) ([]string, error)
	NextMessage(
		ctx context.Context, channel string, now time.Time, fresh string, together func(waiting int) int,
	) (string, []store.Notice, error)
	Sent(ctx context.Context, message, state, answer string, next, now time.Time) error
	SendAgain(ctx context.Context, id int64, now time.Time) (bool, error)
	Notice(ctx context.Context, id int64) (*store.Notice, error)
	Notices(ctx context.Context, channels []string, before int64, limit int) ([]store.Notice, error)
	DropNotices(ctx context.Context, before time.Time, channels []string) error
	Newest(ctx context.Context, run int64) (jpeg []byte, err error)
}

// Webhooks sends signed messages.
type Webhooks interface {
	Send(ctx context.Context, to, secret, id string, payload []byte, at time.Time) notify.Answer
}

// Mailer sends e-mail.
type Mailer interface {
	Send(ctx context.Context, letter notify.Mail) notify.Answer
}

// Options is what a Desk works with.
type Options struct {
	Writer   *writer.Writer
	Store    Store
	Guard    notify.Guard
	Webhooks Webhooks
	Mailer   Mailer // nil: the service has no mail server
	// Veil takes out of sentences what somebody who sees so much does not see.
	Veil    func(ctx context.Context, sight farm.Sight, sentences ...*string) error
	Address string // where people reach the console; empty: links are left out
	Log     *slog.Logger
	Now     func() time.Time
	// Steady reports whether the clock may be trusted to remove things by it; nil: it may.
	Steady func() bool
	// Hurry is by how much less is waited between tries; 1 when 0.
	Hurry float64
}

// Desk keeps channels and has notices sent. Use New; all methods may be called at any time.
type Desk struct{ o Options }

// New returns the desk of a service.
func New(o Options) *Desk {
	if o.Hurry == 0 {
		o.Hurry = 1
	}
	return &Desk{o}
}

// Bounds of channels.
const (
	mostChannels   = 200 // of the farm
	mostChannelsOf = 10  // of one person
)

// mine reports whether somebody may see and change a channel.
func mine(c *farm.Channel, by farm.Person) bool {
	return by.Role.Allows(farm.Wrangler) || c.Person == by.Name
}

// Channels returns the channels that somebody may see, by name.
func (d *Desk) Channels(ctx context.Context, by farm.Person) (out wire.Channels, err error) {
	out = wire.Channels{Channels: []wire.Channel{}, Events: []string{}, Mail: d.o.Mailer != nil}
	for _, e := range farm.Events() {
		out.Events = append(out.Events, string(e))
	}
	err = d.o.Writer.Do(ctx, func(t *writer.Tx) error {
		for _, c := range t.State.Channels {
			if mine(c, by) {
				out.Channels = append(out.Channels, channelView(c))
			}
		}
		return nil
	})
	slices.SortFunc(out.Channels, func(a, b wire.Channel) int { return strings.Compare(a.Name, b.Name) })
	return out, err
}

func channelView(c *farm.Channel) wire.Channel {
	v := wire.Channel{
		Name: c.Name, Of: c.Of, To: c.To, Person: c.Person, Events: []string{}, Projects: wire.List(c.Projects),
		QuietFrom: c.Quiet.From, QuietTo: c.Quiet.To, Zone: c.Quiet.Zone, Urgent: c.Quiet.Urgent, OnCall: c.OnCall,
		Off: c.Off, Why: c.OffWhy, Etag: c.Etag(),
	}
	for _, e := range c.Events {
		v.Events = append(v.Events, string(e))
	}
	return v
}

// Set makes or changes a channel. The secret of a webhook is in the answer where it is new,
// and never again.
// match is the etag of the channel that the change was made for, empty for any; see [refusal.UnlessCurrent].
func (d *Desk) Set(
	ctx context.Context, name string, in wire.ChannelSet, match string, by farm.Person,
) (wire.Channel, error) {
	c, err := d.read(ctx, name, in)
	if err != nil {
		return wire.Channel{}, err
	}
	var v wire.Channel
	err = d.o.Writer.Do(ctx, func(t *writer.Tx) error {
		old := t.State.Channels[name]
		switch {
		case old != nil && !mine(old, by):
			return refusal.New(
				refusal.Conflict,
				"channel",
				"there is a channel %s of somebody else; choose another name",
				name,
			)
		case c.Person == "" && !by.Role.Allows(farm.Wrangler):
			c.Person = by.Name
		case c.Person != "" && c.Person != by.Name && !by.Role.Allows(farm.Wrangler):
			return refusal.New(refusal.Forbidden, "person", "only a wrangler makes channels of others")
		}
		seen := ""
		if old != nil {
			seen = old.Etag()
		}
		if err := refusal.UnlessCurrent("the channel "+name, match, seen, old != nil); err != nil {
			return err
		}
		if old == nil {
			if err := roomFor(t.State, c.Person); err != nil {
				return err
			}
		}
		if c.Person != "" && t.State.People[c.Person] == nil {
			return refusal.New(refusal.Invalid, "person", "there is nobody called %.60q", c.Person)
		}
		if c.OnCall && c.Person == "" {
			return refusal.New(refusal.Invalid, "on_call", "who is on call is a person: say whose channel it is")
		}
		for _, p := range c.Projects {
			if t.State.Projects[p] == nil || !t.State.SightOf(by).Sees(p) {
				return refusal.New(refusal.Invalid, "projects", "there is no project %.60q", p)
			}
		}
		shown := ""
		if c.Of == farm.ChannelWebhook {
			if old != nil && old.Secret != "" && !in.NewSecret {
				c.Secret = old.Secret
			} else {
				c.Secret = secret.Signing()
				shown = c.Secret
			}
		}
		v = channelView(&c)
		v.Secret = shown
		t.Append(farm.ChannelSet{Channel: c, At: t.Now}, farm.Audited{
			Actor: by.Name, Action: "set channel", Subject: name, To: c.Of + " to " + c.To, At: t.Now,
		})
		return nil
	})
	return v, err
}

// roomFor refuses a channel of a person, or of the farm, who has as many as they may: nobody
// takes away others' room.
func roomFor(s *farm.State, person string) error {
	count, most := 0, mostChannels
	if person != "" {
		most = mostChannelsOf
	}
	for _, c := range s.Channels {
		if c.Person == person {
			count++
		}
	}
	if count < most {
		return nil
	}
	whose := "the farm has"
	if person != "" {
		whose = person + " has"
	}
	return refusal.New(refusal.Conflict, "", "%s %d channels, the most there may be; drop one first", whose, count)
}

// read checks what is said of a channel as far as that takes no look at the farm.
func (d *Desk) read(ctx context.Context, name string, in wire.ChannelSet) (c farm.Channel, err error) {
	invalid := func(field string, err error) error { return refusal.New(refusal.Invalid, field, "%v", err) }
	if err := farm.CheckShortName("channel", name); err != nil {
		return c, invalid("channel", err)
	}
	c = farm.Channel{
		Name: name, Of: in.Of, To: strings.TrimSpace(in.To), Person: in.Person, Projects: in.Projects,
		OnCall: in.OnCall,
		Off:    in.Off, Quiet: farm.Quiet{From: in.QuietFrom, To: in.QuietTo, Zone: in.Zone, Urgent: in.Urgent},
	}
	switch c.Of {
	case farm.ChannelWebhook:
		if len(c.To) > 2000 {
			return c, refusal.New(refusal.Invalid, "to", "an address has at most 2000 bytes")
		}
		if err := d.o.Guard.CheckURL(ctx, c.To); err != nil {
			return c, invalid("to", err)
		}
	case farm.ChannelMail:
		if d.o.Mailer == nil {
			return c, refusal.New(
				refusal.Conflict,
				"of",
				"the service has no mail server; whoever runs it can name one with serve --mail",
			)
		}
		if c.To, err = notify.CheckAddress(c.To); err != nil {
			return c, invalid("to", err)
		}
	default:
		return c, refusal.New(refusal.Invalid, "of", "a channel is a webhook or mail, not %.40q", c.Of)
	}
	for _, text := range in.Events {
		e := farm.Event(text)
		if !slices.Contains(farm.Events(), e) {
			return c, refusal.New(
				refusal.Invalid,
				"events",
				"%.40q is nothing that notices are about; they are about %s",
				text,
				eventWords(),
			)
		}
		if !slices.Contains(c.Events, e) {
			c.Events = append(c.Events, e)
		}
	}
	if err := c.Quiet.Check(); err != nil {
		return c, invalid("quiet_from", err)
	}
	return c, nil
}

func eventWords() string {
	var words []string
	for _, e := range farm.Events() {
		words = append(words, string(e))
	}
	return strings.Join(words[:len(words)-1], ", ") + " and " + words[len(words)-1]
}

// Drop does away with a channel. What waits for it is not sent any more.
func (d *Desk) Drop(ctx context.Context, name string, by farm.Person) error {
	return d.o.Writer.Do(ctx, func(t *writer.Tx) error {
		if err := known(t.State, name, by); err != nil {
			return err
		}
		t.Append(farm.ChannelDropped{Name: name, At: t.Now}, farm.Audited{
			Actor: by.Name, Action: "drop channel", Subject: name, At: t.Now,
		})
		return nil
	})
}

func known(s *farm.State, name string, by farm.Person) error {
	if c := s.Channels[name]; c == nil || !mine(c, by) {
		return refusal.New(refusal.NotFound, "channel", "there is no channel %.60q", name)
	}
	return nil
}

// Sent returns notices to the channels that somebody may see, newest first: to all of them,
// or to one.
func (d *Desk) Sent(
	ctx context.Context, channel string, before int64, limit int, by farm.Person,
) (out wire.SentNotices, err error) {
	out = wire.SentNotices{Notices: []wire.SentNotice{}}
	var names []string
	err = d.o.Writer.Do(ctx, func(t *writer.Tx) error {
		if channel != "" {
			names = []string{channel}
			return known(t.State, channel, by)
		}
		for name, c := range t.State.Channels {
			if mine(c, by) {
				names = append(names, name)
			}
		}
		return nil
	})
	if err != nil {
		return out, err
	}
	found, err := d.o.Store.Notices(ctx, names, before, limit)
	for _, n := range found {
		out.Notices = append(out.Notices, sentView(n))
	}
	if len(found) == limit {
		out.Next = found[len(found)-1].ID
	}
	return out, err
}

// Again sends a notice once more, whatever became of it.
func (d *Desk) Again(ctx context.Context, id int64, by farm.Person) error {
	n, err := d.o.Store.Notice(ctx, id)
	if err != nil {
		return err
	}
	none := refusal.New(refusal.NotFound, "notice", "there is no notice %d", id)
	if n == nil {
		return none
	}
	err = d.o.Writer.Do(ctx, func(t *writer.Tx) error {
		if known(t.State, n.Channel, by) != nil {
			return none
		}
		return nil
	})
	if err != nil {
		return err
	}
	_, err = d.o.Store.SendAgain(ctx, id, d.o.Now())
	return err
}

// OnCall returns who is on call, and when others are within a week.
func (d *Desk) OnCall(ctx context.Context) (out wire.OnCall, err error) {
	var text string
	var people []string
	if err := d.o.Writer.Do(ctx, func(t *writer.Tx) error {
		text = t.State.OnCall
		for name := range t.State.People {
			people = append(people, name)
		}
		return nil
	}); err != nil {
		return out, err
	}
	out = wire.OnCall{Now: []string{}, Turns: []wire.Turn{}, Calendar: text, There: text != ""}
	if text == "" {
		return out, nil
	}
	now := d.o.Now()
	if out.Now, err = calendar.OnCall(text, people, now); err != nil {
		return out, err
	}
	out.Now = wire.List(out.Now)
	turns, err := calendar.Turns(text, people, now, now.Add(7*24*time.Hour))
	for _, t := range turns {
		out.Turns = append(out.Turns, wire.Turn{Person: t.Person, From: t.From, To: t.To})
	}
	return out, err
}

// SetOnCall sets the calendar that says who is on call; an empty one does away with it.
func (d *Desk) SetOnCall(ctx context.Context, text string, by farm.Person) (wire.OnCall, error) {
	if text = strings.TrimSpace(text); text != "" {
		if _, err := calendar.OnCall(text, []string{by.Name}, d.o.Now()); err != nil {
			return wire.OnCall{}, refusal.New(refusal.Invalid, "calendar", "%v", err)
		}
	}
	err := d.o.Writer.Do(ctx, func(t *writer.Tx) error {
		if t.State.OnCall == text {
			return nil
		}
		t.Append(farm.OnCallSet{Calendar: text, At: t.Now}, farm.Audited{
			Actor: by.Name, Action: "set on-call calendar", Subject: "farm", At: t.Now,
		})
		return nil
	})
	if err != nil {
		return wire.OnCall{}, err
	}
	return d.OnCall(ctx)
}
