package logbook

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"vexillum/internal/store"
)

// shelf is a Store in memory.
type shelf struct{ pieces []store.LogPiece }

func (s *shelf) AddLogs(_ context.Context, pieces []store.LogPiece) error {
	s.pieces = append(s.pieces, pieces...)
	return nil
}

func (s *shelf) Logs(_ context.Context, q store.LogQuery, each func(store.LogPiece) bool) error {
	for i := len(s.pieces) - 1; i >= 0; i-- {
		if p := s.pieces[i]; p.Node == q.Node && (q.Lease == 0 || q.Lease == p.Lease) && !each(p) {
			return nil
		}
	}
	return nil
}

var start = time.Date(2031, 3, 4, 5, 6, 7, 0, time.UTC)

func lines(from, to int) []Line {
	var out []Line
	for i := from; i <= to; i++ {
		out = append(
			out,
			Line{
				At: start.Add(time.Duration(i) * time.Second), Stream: 1 + i%2,
				Text: fmt.Sprintf("line %d\tof Many\nbroken", i),
			},
		)
	}
	return out
}

func TestLinesAreReadBackAndFound(t *testing.T) {
	b := New(&shelf{})
	for i := range 10 {
		if err := b.Take(
			t.Context(), 7,
			[]Piece{{Lease: 3, Run: 2, Seq: int64(i + 1), Lines: lines(10*i, 10*i+9)}, {Lease: 4, Seq: 1}}, start,
		); err != nil {
			t.Fatal(err)
		}
	}
	read := func(q Query) (string, bool) {
		t.Helper()
		q.Node = 7
		got, err := b.Lines(t.Context(), q)
		if err != nil {
			t.Fatal(err)
		}
		var words []string
		for _, l := range got.Lines {
			words = append(words, strings.Fields(l.Text)[1])
		}
		return strings.Join(words, " "), got.Older
	}
	for _, c := range []struct {
		q     Query
		want  string
		older bool
	}{
		{Query{Limit: 3}, "97 98 99", true},
		{Query{Limit: 3, LogQuery: store.LogQuery{Before: start.Add(50 * time.Second)}}, "47 48 49", true},
		{Query{Limit: 3, Search: "LINE 4"}, "47 48 49", true},
		{Query{Limit: 30, Search: "line 4"}, "4 40 41 42 43 44 45 46 47 48 49", false},
		{Query{Limit: 5, Search: "nobody says this"}, "", false},
	} {
		if got, older := read(c.q); got != c.want || older != c.older {
			t.Errorf("%+v: %q, older %v; want %q, %v", c.q, got, older, c.want, c.older)
		}
	}
	got, _ := b.Lines(t.Context(), Query{LogQuery: store.LogQuery{Node: 7}, Limit: 1})
	if l := got.Lines[0]; l.Lease != 3 || l.Run != 2 || l.Stream != 2 || !l.At.Equal(start.Add(99*time.Second)) ||
		l.Text != "line 99\tof Many broken" {
		t.Errorf("the last line is %+v", l)
	}
}

func TestWhoFollowsHearsWhatIsHis(t *testing.T) {
	b := New(&shelf{})
	if b.Watched(7) {
		t.Error("nobody follows yet")
	}
	all, one, itself, other := b.Follow(7, 0, false), b.Follow(7, 3, false), b.Follow(7, 0, true), b.Follow(8, 0, false)
	slow := b.Follow(7, 0, false)
	if !b.Watched(7) || b.Watched(9) {
		t.Error("who is watched is not known")
	}
	for i := range 2 * mostBehind {
		if err := b.Take(
			t.Context(), 7,
			[]Piece{{Lease: 3, Seq: int64(i + 1), Lines: lines(i, i)}, {Lease: 0, Seq: 1, Lines: lines(0, 1)}}, start,
		); err != nil {
			t.Fatal(err)
		}
		heard := func(f *Follower) (n int) {
			for {
				select {
				case l := <-f.Lines():
					n += len(l)
				default:
					return n
				}
			}
		}
		if a, o, n, x := heard(all), heard(one), heard(itself), heard(other); a != 3 || o != 1 || n != 2 || x != 0 {
			t.Fatalf("they heard %d, %d, %d and %d lines, want 3, 1, 2 and 0", a, o, n, x)
		}
	}
	if len(slow.lines) != mostBehind {
		t.Errorf("one who does not listen is %d behind", len(slow.lines))
	}
	for _, f := range []*Follower{all, one, itself, slow} {
		b.Ignore(f)
	}
	if b.Watched(7) {
		t.Error("nobody follows any more")
	}
}

// TestASearchHasABudget lets many search at once what is slow to read, while
// nodes go on to say things.
func TestASearchHasABudget(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		slow := &slowShelf{each: 100 * time.Millisecond}
		b := New(slow)
		const readers = 6
		answers := make(chan error, readers)
		for range readers {
			go func() {
				found, err := b.Lines(t.Context(), Query{Search: "nobody says this", Limit: 10})
				if err == nil && (!found.Older || found.BackTo.IsZero()) {
					err = fmt.Errorf("the search ended with %+v", found)
				}
				answers <- err
			}()
		}
		synctest.Wait()
		begin := time.Now()
		if err := b.Take(
			t.Context(), 7, []Piece{{Lease: 3, Seq: 1, Lines: lines(0, 9)}}, start,
		); err != nil || time.Since(begin) > 0 {
			t.Errorf("what is said waited %v for those who read: %v", time.Since(begin), err)
		}
		busy := 0
		for range readers {
			if err := <-answers; errors.Is(err, ErrBusy) {
				busy++
			} else if err != nil {
				t.Error(err)
			}
		}
		if took := time.Since(begin); took > lookTime*2+turnTime || busy != readers-2*atOnce || slow.most > atOnce {
			t.Errorf(
				"%d searches took %v, %d were sent away, %d read at the same moment", readers, took, busy, slow.most,
			)
		}
	})
}

// slowShelf has pieces without end and takes its time over each.
type slowShelf struct {
	each time.Duration
	mu   sync.Mutex
	now  int
	most int
}

func (s *slowShelf) AddLogs(context.Context, []store.LogPiece) error { return nil }

func (s *slowShelf) Logs(_ context.Context, _ store.LogQuery, each func(store.LogPiece) bool) error {
	s.mu.Lock()
	s.now++
	s.most = max(s.most, s.now)
	s.mu.Unlock()
	for at := start; each(store.LogPiece{
		Node: 7, FirstAt: at, Text: []byte("1\t1\tsomething else\n"),
	}); at = at.Add(-time.Minute) {
		time.Sleep(s.each)
	}
	s.mu.Lock()
	s.now--
	s.mu.Unlock()
	return nil
}
