package views

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"vexillum/internal/core/farm"
	"vexillum/internal/wire"
)

// Follower gets what is not as it was, as events, from a moment on.
type Follower struct {
	pieces chan Piece
	of     *audience
}

// audience are followers who see the same.
type audience struct {
	sight     farm.Sight
	shown     *shown
	followers map[*Follower]struct{}
}

// Piece is what changed, as events.
type Piece struct {
	Seq    int64 // of the last committed change in it
	Events []Event
}

// Event is one event of the live stream: see [wire.EventData].
type Event struct {
	Name string
	Data []byte // JSON
}

// Pieces yields what changed; it is closed when the follower was too slow or the
// floor has ended.
func (l *Follower) Pieces() <-chan Piece { return l.pieces }

// Follow starts a follower who sees so much. The first piece holds the nodes, and the runs
// that changed after the given sequence number.
func (b *Board) Follow(ctx context.Context, after int64, sight farm.Sight) (*Follower, Piece, error) {
	l := &Follower{pieces: make(chan Piece, MostBehind)}
	var first Piece
	err := b.do(ctx, func(t *transaction) error {
		b.tell()
		anew := after > 0 && after < b.sightsAt // who listened then may have seen something else
		if anew {
			after = 0
		}
		a := b.audiences[sight.Key()]
		if a == nil {
			a = &audience{sight: sight, shown: newShown(), followers: map[*Follower]struct{}{}}
			a.shown.facts, a.shown.hands = fieldsOf(b.Facts(t.Now, sight)), encoded(b.alerts(t.Now, sight))
			b.audiences[sight.Key()] = a
		}
		tell := func(run *farm.Run) {
			if a.shown.runs[int64(run.ID)] == nil && sight.Sees(run.Spec.Project) {
				a.shown.of(a.shown.runs, int64(run.ID), b.runFor(run, t.Now, sight))
			}
		}
		for _, run := range b.s.Queue() {
			tell(run)
		}
		for _, n := range b.ShownNodes() {
			if a.shown.nodes[int64(n.ID)] == nil {
				a.shown.of(a.shown.nodes, int64(n.ID), b.nodeFor(n, t.Now, sight))
			}
		}
		for _, run := range b.recentlyEnded(sight) {
			if run.Changed > after {
				tell(run)
			}
		}
		first = a.shown.whole(t.State, after)
		if anew {
			first.Events = slices.Insert(first.Events, 0, Event{Name: wire.EventAnew, Data: []byte("{}")})
		}
		a.followers[l], l.of = struct{}{}, a
		return nil
	})
	return l, first, err
}

// Unfollow ends a follower.
func (b *Board) Unfollow(l *Follower) {
	_ = b.do(context.Background(), func(*transaction) error { // an ended floor has let go of it anyway
		b.letGo(l)
		return nil
	})
}

func (b *Board) letGo(l *Follower) {
	a := l.of
	if a == nil {
		return
	}
	delete(a.followers, l)
	if len(a.followers) == 0 && b.audiences[a.sight.Key()] == a {
		delete(b.audiences, a.sight.Key()) // nobody keeps it up to date
	}
}

// fields are the fields of something as they were told last.
type fields map[string]json.RawMessage

// shown is what followers have been told.
type shown struct {
	runs, nodes map[int64]fields
	facts       fields
	hands       json.RawMessage
}

func newShown() *shown { return &shown{runs: map[int64]fields{}, nodes: map[int64]fields{}} }

func encoded(v any) json.RawMessage {
	data, err := json.Marshal(v)
	if err != nil {
		panic(fmt.Sprintf("a view has no JSON form: %v", err)) // views hold nothing that has none
	}
	return data
}

func split(data json.RawMessage) fields {
	out := fields{}
	if err := json.Unmarshal(data, &out); err != nil {
		panic(fmt.Sprintf("a view is no JSON object: %v", err))
	}
	return out
}

func fieldsOf(v any) fields { return split(encoded(v)) }

// of notes how something is told and returns what of that is new.
func (s *shown) of(all map[int64]fields, id int64, v any) fields {
	now, before := fieldsOf(v), all[id]
	all[id] = now
	if before == nil {
		return now
	}
	return now.since(before)
}

// since returns the fields that are not as they were, inside some of them those
// of their own.
func (f fields) since(before fields) fields {
	out := fields{}
	for name, value := range f {
		switch old := before[name]; {
		case bytes.Equal(value, old):
		case wire.InParts(name) && old != nil:
			out[name] = encoded(split(value).since(split(old)))
		default:
			out[name] = value
		}
	}
	return out
}

// piece returns what of a change is new to followers, and whether anything is.
func (s *shown) piece(c change) (Piece, bool) {
	out := pieceOf{Piece: Piece{Seq: c.seq}}
	facts := fieldsOf(c.facts)
	if news := facts.since(s.facts); len(news) > 0 {
		out.add(wire.EventFacts, "facts", news)
	}
	hands := encoded(c.hands)
	if !bytes.Equal(hands, s.hands) {
		out.add(wire.EventAlerts, "needs_a_hand", hands)
	}
	s.facts, s.hands = facts, hands
	runs := news{added: wire.EventRunAdded, progress: wire.EventRunProgress, changed: wire.EventRunChanged}
	for _, run := range c.runs {
		runs.take(s.runs, run.ID, s.of(s.runs, run.ID, run), wire.RunProgress)
	}
	out.list(runs, "runs")
	nodes := news{added: wire.EventNodeAdded, progress: wire.EventNodeProgress, changed: wire.EventNodeChanged}
	for _, n := range c.nodes {
		nodes.take(s.nodes, n.ID, s.of(s.nodes, n.ID, n), wire.NodeProgress)
	}
	out.list(nodes, "nodes")
	for _, name := range []string{wire.EventFrameVerified, wire.EventFrameDone, wire.EventFrameFailed} {
		if told := c.frames[name]; len(told) > 0 {
			out.add(name, "frames", told)
		}
	}
	return out.Piece, len(out.Events) > 0
}

// news are the things of one sort of which followers are told, by event.
type news struct {
	added, progress, changed string // names of events
	told                     map[string][]fields
}

// take sorts in what is new of something.
func (n *news) take(all map[int64]fields, id int64, fresh fields, progress func(field string) bool) {
	if n.told == nil {
		n.told = map[string][]fields{}
	}
	if _, whole := fresh["id"]; whole { // it was not told before
		n.told[n.added] = append(n.told[n.added], fresh)
		return
	}
	fresh = maps.Clone(fresh)
	delete(fresh, "changed")
	if len(fresh) == 0 {
		return
	}
	name := n.progress
	for field := range fresh {
		if !progress(field) {
			name = n.changed
		}
	}
	fresh["id"], fresh["changed"] = encoded(id), all[id]["changed"]
	n.told[name] = append(n.told[name], fresh)
}

// pieceOf builds a Piece.
type pieceOf struct{ Piece }

func (p *pieceOf) add(name, field string, v any) {
	p.Events = append(p.Events, Event{Name: name, Data: encoded(map[string]any{"seq": p.Seq, field: v})})
}

func (p *pieceOf) list(n news, field string) {
	for _, name := range []string{n.added, n.changed, n.progress} {
		if told := n.told[name]; len(told) > 0 {
			p.add(name, field, told)
		}
	}
}

// passing are the fields of a run that change without a number.
var passing = []string{"why", "forecast", "at_risk"}

// whole returns all that followers have been told to one who knows what there was
// up to a sequence number: of open runs that have not changed since only what has
// no number, and of ended ones nothing.
func (s *shown) whole(state *farm.State, after int64) Piece {
	runs, known := []fields{}, []fields{}
	for _, id := range slices.Sorted(maps.Keys(s.runs)) {
		switch run := state.Runs[farm.RunID(id)]; {
		case run == nil:
		case run.Changed > after || run.State == farm.RunRendering:
			runs = append(runs, s.runs[id])
		case !run.State.Closed():
			some := fields{"id": encoded(id), "changed": s.runs[id]["changed"]}
			for _, name := range passing {
				some[name] = s.runs[id][name]
			}
			known = append(known, some)
		}
	}
	nodes := []fields{}
	for _, id := range slices.Sorted(maps.Keys(s.nodes)) {
		nodes = append(nodes, s.nodes[id])
	}
	out := pieceOf{Piece: Piece{Seq: state.Seq}}
	out.add(wire.EventFacts, "facts", s.facts)
	out.add(wire.EventAlerts, "needs_a_hand", s.hands)
	out.add(wire.EventRunAdded, "runs", runs)
	if len(known) > 0 {
		out.add(wire.EventRunProgress, "runs", known)
	}
	out.add(wire.EventNodeAdded, "nodes", nodes)
	return out.Piece
}
