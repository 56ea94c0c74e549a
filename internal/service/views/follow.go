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

// Follower gets only what is not as it was, field by field, from a moment on.
type Follower struct {
	pieces chan Piece
}

// Piece is one Change of which unchanged fields are left out, as JSON.
type Piece struct {
	Seq  int64 // of the last committed change in it
	Data []byte
}

// Pieces yields what changed; it is closed when the follower was too slow or the
// floor has ended.
func (l *Follower) Pieces() <-chan Piece { return l.pieces }

// Follow starts a follower. The first piece holds the nodes and the open runs as
// they are told, and ended runs that changed after the given sequence number.
func (b *Board) Follow(ctx context.Context, after int64) (*Follower, Piece, error) {
	l := &Follower{pieces: make(chan Piece, MostBehind)}
	var first Piece
	err := b.do(ctx, func(t *transaction) error {
		b.tell()
		if b.shown == nil {
			b.shown = newShown()
			b.shown.facts, b.shown.hands = fieldsOf(b.Facts(t.Now)), encoded(b.alerts(t.Now))
		}
		for _, run := range b.s.Queue() {
			if b.shown.runs[int64(run.ID)] == nil {
				b.shown.of(b.shown.runs, int64(run.ID), b.RunView(run, t.Now))
			}
		}
		for _, n := range b.ShownNodes() {
			if b.shown.nodes[int64(n.ID)] == nil {
				b.shown.of(b.shown.nodes, int64(n.ID), b.NodeView(n, t.Now))
			}
		}
		for _, run := range b.recentlyEnded() {
			if run.Changed > after && b.shown.runs[int64(run.ID)] == nil {
				b.shown.of(b.shown.runs, int64(run.ID), b.RunView(run, t.Now))
			}
		}
		first = b.shown.whole(t.State, after)
		b.followers[l] = struct{}{}
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
	delete(b.followers, l)
	if len(b.followers) == 0 {
		b.shown = nil // nobody keeps it up to date
	}
}

// follow hands what changed to all followers.
func (b *Board) follow(change wire.Change) {
	if len(b.followers) == 0 {
		return
	}
	piece, some := b.shown.piece(change)
	if !some {
		return
	}
	for l := range b.followers {
		select {
		case l.pieces <- piece:
		default:
			close(l.pieces)
			b.letGo(l)
		}
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

// inParts are fields whose own fields are told one by one, too: only those of
// fixed names, as one that is left out stays.
var inParts = map[string]bool{"sets": true, "forecast": true}

// InParts reports whether the fields of a field are told one by one.
func InParts(field string) bool { return inParts[field] }

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
		case inParts[name] && old != nil:
			out[name] = encoded(split(value).since(split(old)))
		default:
			out[name] = value
		}
	}
	return out
}

// piece returns what of a change is new to followers, and whether anything is.
func (s *shown) piece(change wire.Change) (Piece, bool) {
	out := map[string]any{"seq": change.Seq}
	facts := fieldsOf(change.Facts)
	if news := facts.since(s.facts); len(news) > 0 {
		out["facts"] = news
	}
	hands := encoded(change.Hands)
	if !bytes.Equal(hands, s.hands) {
		out["needs_a_hand"] = hands
	}
	s.facts, s.hands = facts, hands
	var runs, nodes []fields
	for _, run := range change.Runs {
		runs = s.news(runs, s.runs, run.ID, run)
	}
	for _, n := range change.Nodes {
		nodes = s.news(nodes, s.nodes, n.ID, n)
	}
	if len(runs) > 0 {
		out["runs"] = runs
	}
	if len(nodes) > 0 {
		out["nodes"] = nodes
	}
	return Piece{Seq: change.Seq, Data: encoded(out)}, len(out) > 1
}

// news adds what is new of something, with its number.
func (s *shown) news(list []fields, all map[int64]fields, id int64, v any) []fields {
	news := maps.Clone(s.of(all, id, v))
	delete(news, "changed")
	if len(news) == 0 {
		return list
	}
	news["id"] = encoded(id)
	if change, ok := all[id]["changed"]; ok {
		news["changed"] = change
	}
	return append(list, news)
}

// whole returns all that followers have been told, but for ended runs that have
// not changed after a sequence number.
func (s *shown) whole(state *farm.State, after int64) Piece {
	runs := []fields{}
	for _, id := range slices.Sorted(maps.Keys(s.runs)) {
		if run := state.Runs[farm.RunID(id)]; run != nil && (!run.State.Closed() || run.Changed > after) {
			runs = append(runs, s.runs[id])
		}
	}
	nodes := []fields{}
	for _, id := range slices.Sorted(maps.Keys(s.nodes)) {
		nodes = append(nodes, s.nodes[id])
	}
	return Piece{
		Seq: state.Seq,
		Data: encoded(map[string]any{
			"seq": state.Seq, "facts": s.facts, "needs_a_hand": s.hands, "runs": runs, "nodes": nodes,
		}),
	}
}
