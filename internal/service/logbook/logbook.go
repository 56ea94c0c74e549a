// Package logbook takes what node processes and renderers say, keeps it for
// two weeks, and lets people read, search and follow it.
//
// It knows neither nodes nor leases but by their numbers.
package logbook

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"vexillum/internal/store"
)

// Store keeps pieces of logs.
type Store interface {
	AddLogs(ctx context.Context, pieces []store.LogPiece) error
	Logs(ctx context.Context, q store.LogQuery, each func(store.LogPiece) (more bool)) error
}

// Line is one line of a log.
type Line struct {
	At     time.Time
	Node   int64
	Lease  int64 // 0: of the node process itself
	Run    int64
	Stream int // 1 standard output, 2 standard error; 0 of the node process
	Text   string
}

// Piece is lines that belong to one log, in order.
type Piece struct {
	Lease, Run, Seq int64
	Lines           []Line
}

// Book takes and gives logs.
type Book struct {
	store   Store
	readers chan struct{} // a place for each who reads

	mu        sync.Mutex
	followers map[*Follower]struct{}
}

// New returns a Book.
func New(s Store) *Book {
	return &Book{store: s, readers: make(chan struct{}, atOnce), followers: map[*Follower]struct{}{}}
}

// Take keeps pieces that a node sends, and tells those who follow. Pieces that
// were taken before are kept once.
func (b *Book) Take(ctx context.Context, node int64, pieces []Piece, now time.Time) error {
	var kept []store.LogPiece
	for _, p := range pieces {
		if len(p.Lines) == 0 {
			continue
		}
		var text bytes.Buffer
		for i := range p.Lines {
			l := &p.Lines[i]
			l.Node, l.Lease, l.Run = node, p.Lease, p.Run
			fmt.Fprintf(&text, "%d\t%d\t%s\n", l.At.UnixMilli(), l.Stream, strings.ReplaceAll(l.Text, "\n", " "))
		}
		first, last := p.Lines[0].At, p.Lines[len(p.Lines)-1].At
		kept = append(
			kept,
			store.LogPiece{
				Day: now, Node: node, Lease: p.Lease, Run: p.Run, Seq: p.Seq, FirstAt: first,
				LastAt: last, Lines: len(p.Lines), Text: text.Bytes(),
			},
		)
	}
	if len(kept) == 0 {
		return nil
	}
	if err := b.store.AddLogs(ctx, kept); err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	for f := range b.followers {
		if f.node != node {
			continue
		}
		for _, p := range pieces {
			if f.wants(p.Lease) {
				f.tell(p.Lines)
			}
		}
	}
	return nil
}

// Query says which lines are wanted.
type Query struct {
	store.LogQuery
	Search string // lines that hold this, however it is written
	Limit  int
}

// The budget of a question. Who reads must never keep waiting what is written:
// few read at the same moment, and each only for a while.
const (
	mostScanned = 2_000_000 // lines
	lookTime    = 3 * time.Second
	atOnce      = 2
	turnTime    = 5 * time.Second // that a question waits for its turn
)

// ErrBusy says that too many read logs at this moment.
var ErrBusy = errors.New("others are searching the logs; try again in a moment")

// Found is what a question has found.
type Found struct {
	Lines  []Line    // in order
	Older  bool      // there may be older ones
	BackTo time.Time // what was said before was not looked at, where there may be older ones
}

// Lines returns the newest lines that a query wants, in order. ErrBusy says that
// it has to be asked again.
func (b *Book) Lines(ctx context.Context, q Query) (out Found, err error) {
	turn := time.NewTimer(turnTime)
	defer turn.Stop()
	select {
	case b.readers <- struct{}{}:
		defer func() { <-b.readers }()
	case <-ctx.Done():
		return out, ctx.Err()
	case <-turn.C:
		return out, ErrBusy
	}
	search := strings.ToLower(q.Search)
	scanned, begin := 0, time.Now()
	err = b.store.Logs(ctx, q.LogQuery, func(p store.LogPiece) bool {
		all := parse(p)
		scanned += len(all)
		for _, l := range slices.Backward(all) {
			if !q.Before.IsZero() && !l.At.Before(q.Before) ||
				search != "" && !strings.Contains(strings.ToLower(l.Text), search) {
				continue
			}
			if len(out.Lines) == q.Limit {
				out.Older = true
				return false
			}
			out.Lines = append(out.Lines, l)
			out.BackTo = l.At
		}
		if scanned >= mostScanned || time.Since(begin) > lookTime {
			out.Older, out.BackTo = true, p.FirstAt
			return false
		}
		return true
	})
	slices.Reverse(out.Lines)
	slices.SortStableFunc(out.Lines, func(a, b Line) int { return a.At.Compare(b.At) })
	return out, err
}

func parse(p store.LogPiece) []Line {
	var out []Line
	for text := range strings.Lines(string(p.Text)) {
		at, rest, ok := strings.Cut(strings.TrimSuffix(text, "\n"), "\t")
		stream, words, ok2 := strings.Cut(rest, "\t")
		ms, err := strconv.ParseInt(at, 10, 64)
		n, err2 := strconv.Atoi(stream)
		if !ok || !ok2 || err != nil || err2 != nil {
			continue
		}
		out = append(
			out, Line{At: time.UnixMilli(ms).UTC(), Node: p.Node, Lease: p.Lease, Run: p.Run, Stream: n, Text: words},
		)
	}
	return out
}

// Follower hears the lines of a node as they come.
type Follower struct {
	node  int64
	lease int64 // 0: all
	only  bool  // what the node process itself says
	lines chan []Line
}

// mostBehind bounds the pieces that a follower may be behind; what does not
// fit is left out for him, and can be read.
const mostBehind = 256

// Lines gives the lines as they come.
func (f *Follower) Lines() <-chan []Line { return f.lines }

func (f *Follower) wants(lease int64) bool {
	return (f.lease == 0 || f.lease == lease) && (!f.only || lease == 0)
}

func (f *Follower) tell(lines []Line) {
	select {
	case f.lines <- lines:
	default:
	}
}

// Follow lets somebody hear a node's lines until Ignore.
func (b *Book) Follow(node, lease int64, nodeItself bool) *Follower {
	f := &Follower{node: node, lease: lease, only: nodeItself, lines: make(chan []Line, mostBehind)}
	b.mu.Lock()
	b.followers[f] = struct{}{}
	b.mu.Unlock()
	return f
}

// Ignore ends what Follow began.
func (b *Book) Ignore(f *Follower) {
	b.mu.Lock()
	delete(b.followers, f)
	b.mu.Unlock()
}

// Watched reports whether somebody follows a node, so that it should send what
// it has at once.
func (b *Book) Watched(node int64) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	for f := range b.followers {
		if f.node == node {
			return true
		}
	}
	return false
}
