package notices

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"vexillum/internal/calendar"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/notice"
	"vexillum/internal/service/writer"
	"vexillum/internal/store"
)

// noticeOf returns what people may be told of a change; false where it is nothing of theirs.
func noticeOf(h store.Happened) (n notice.Notice, ok bool, err error) {
	n = notice.Notice{
		ID: h.Seq, At: h.At, Project: h.Project, Run: h.Run, RunName: h.RunName, Node: h.Node,
	}
	switch farm.Kind(h.Kind) {
	case farm.RunMoved{}.Kind():
		var r farm.RunMoved
		if err := json.Unmarshal(h.Body, &r); err != nil {
			return n, false, fmt.Errorf("reading change %d: %w", h.Seq, err)
		}
		n.Event, n.Text = farm.Event(r.State), farm.Sentence(r.Reason)
		n.Title = fmt.Sprintf("%s is %s.", h.RunName, r.State)
		if r.State == farm.RunFailed {
			n.Title = h.RunName + " has failed."
		}
		return n, true, nil
	case farm.HandRaised{}.Kind():
		var r farm.HandRaised
		if err := json.Unmarshal(h.Body, &r); err != nil {
			return n, false, fmt.Errorf("reading change %d: %w", h.Seq, err)
		}
		n.Hand, n.Title, n.Text, n.Event = int64(r.ID), r.Sentence, r.Evidence, farm.EventHand
		switch r.Of.Kind {
		case farm.HandFailed, farm.HandHeld: // told as a run that has failed; somebody has held it
			return n, false, nil
		case farm.HandAtRisk:
			n.Event = farm.EventRisk
		case farm.HandBudget, farm.HandSpent:
			n.Event = farm.EventBudget
		case farm.HandSilent, farm.HandHush:
			n.Event = farm.EventSilent
		}
		return n, !h.Snoozed, nil
	}
	var r farm.Audited
	if err := json.Unmarshal(h.Body, &r); err != nil {
		return n, false, fmt.Errorf("reading change %d: %w", h.Seq, err)
	}
	n.Event, n.Title = farm.EventTakeOver, fmt.Sprintf("%s has taken over from %s.", r.Actor, r.From)
	n.Text = farm.Sentence(r.To)
	return n, true, nil
}

// lists is what channels depend on, as of one moment.
type lists struct {
	channels []farm.Channel
	sights   map[string]farm.Sight // by person
	onCall   []string
}

// look reads what channels depend on.
func (d *Desk) look(ctx context.Context) (l lists, err error) {
	var text string
	l.sights = map[string]farm.Sight{}
	err = d.o.Writer.Do(ctx, func(t *writer.Tx) error {
		for _, c := range t.State.Channels {
			l.channels = append(l.channels, *c)
			if p := t.State.People[c.Person]; p != nil {
				l.sights[p.Name] = t.State.SightOf(*p)
			}
		}
		text = t.State.OnCall
		return nil
	})
	if err != nil || text == "" {
		return l, err
	}
	var people []string
	for name := range l.sights {
		people = append(people, name)
	}
	onCall, err := calendar.OnCall(text, people, d.o.Now())
	if err != nil { // it was read when it was set; too many are told rather than nobody
		d.o.Log.Error("reading who is on call", "error", err)
	}
	l.onCall = onCall
	return l, nil
}

// sight is what a notice needs to know of these lists.
func (l lists) sight() notice.Sight {
	return notice.Sight{
		Sees: func(person, project string) bool { return l.sights[person].Sees(project) },
		There: func(person string) bool {
			_, there := l.sights[person]
			return there
		},
		OnCall: l.onCall,
	}
}

// collect makes notices of all that was committed since the last time.
func (d *Desk) collect(ctx context.Context) error {
	for more := true; more; {
		now := d.o.Now()
		var err error
		more, err = d.o.Store.Tell(ctx, now, func(news []store.Happened) ([]store.NewNotice, error) {
			return d.notices(ctx, news, now)
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// notices returns what channels are told of changes.
func (d *Desk) notices(ctx context.Context, news []store.Happened, now time.Time) (out []store.NewNotice, err error) {
	if len(news) == 0 {
		return nil, nil
	}
	l, err := d.look(ctx)
	if err != nil || len(l.channels) == 0 {
		return nil, err
	}
	var told []notice.Notice
	for _, h := range news {
		n, tells, err := noticeOf(h)
		switch {
		case err != nil:
			d.o.Log.Error("making a notice", "error", err)
		case tells && now.Sub(n.At) <= notice.Stale:
			told = append(told, n)
		}
	}
	for _, c := range l.channels {
		some, err := d.forChannel(ctx, c, told, l)
		if err != nil {
			return nil, err
		}
		for _, n := range some {
			body, err := json.Marshal(n)
			if err != nil {
				return nil, fmt.Errorf("encoding a notice: %w", err)
			}
			out = append(out, store.NewNotice{
				Channel: c.Name, Body: body, Hand: n.Hand, Due: notice.Due(c, n, now),
				Since: now.Add(-notice.AgainAfter),
			})
		}
	}
	return out, nil
}

// forChannel returns those of some notices that a channel is told, as its person sees them.
func (d *Desk) forChannel(
	ctx context.Context, c farm.Channel, told []notice.Notice, l lists,
) (out []notice.Notice, err error) {
	sight := l.sight()
	for _, n := range told {
		if notice.Goes(c, n, sight) {
			out = append(out, n)
		}
	}
	if c.Person == "" {
		return out, nil
	}
	var texts []*string
	for i := range out {
		texts = append(texts, &out[i].Title, &out[i].Text)
	}
	return out, d.o.Veil(ctx, l.sights[c.Person], texts...)
}
