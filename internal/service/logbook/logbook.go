// Package logbook takes what node processes and renderers say, keeps it for
// two weeks, and lets people read, search and follow it.
//
// It knows neither nodes nor leases but by their numbers.
package logbook

import (
	"bytes"
	"context"
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
	store Store

	mu        sync.Mutex
	followers map[*Follower]struct{}
}

// New returns a Book.
func New(s Store) *Book {
	return &Book{store: s, followers: map[*Follower]struct{}{}}
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
		kept = append(kept, store.LogPiece{Day: now, Node: node, Lease: p.Lease, Run: p.Run, Seq: p.Seq, FirstAt: first, LastAt: last, Lines: len(p.Lines), Text: text.Bytes()})
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

// mostScanned bounds how many lines are looked at for one search.
const mostScanned = 2_000_000

// Lines returns the newest lines that a query wants, in order, and whether
// there are older ones that it may want.
func (b *Book) Lines(ctx context.Context, q Query) (lines []Line, older bool, err error) {
	search := strings.ToLower(q.Search)
	scanned := 0
	err = b.store.Logs(ctx, q.LogQuery, func(p store.LogPiece) bool {
		all := parse(p)
		scanned += len(all)
		for _, l := range slices.Backward(all) {
			if !q.Before.IsZero() && !l.At.Before(q.Before) || search != "" && !strings.Contains(strings.ToLower(l.Text), search) {
				continue
			}
			if len(lines) == q.Limit {
				older = true
				return false
			}
			lines = append(lines, l)
		}
		if scanned >= mostScanned {
			older = true
			return false
		}
		return true
	})
	slices.Reverse(lines)
	slices.SortStableFunc(lines, func(a, b Line) int { return a.At.Compare(b.At) })
	return lines, older, err
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
		out = append(out, Line{At: time.UnixMilli(ms).UTC(), Node: p.Node, Lease: p.Lease, Run: p.Run, Stream: n, Text: words})
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
