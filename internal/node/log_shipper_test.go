package node

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"vexillum/internal/recipe"
)

// drain takes all that waits, as if it were sent.
func drain(s *logShipper, session int64) (text []string) {
	for {
		p := s.take(session, 1000)
		if len(p.Lines) == 0 {
			return text
		}
		for _, l := range p.Lines {
			text = append(text, l.Text)
		}
		s.took(p)
	}
}

func TestOfTooMuchTheBeginningAndTheEndAreKept(t *testing.T) {
	s := newLogShipper(3, 2, t.TempDir())
	at := time.Now()
	const lines = 40_000
	for i := range lines {
		s.line(at.Add(time.Duration(i)*time.Millisecond), 1, fmt.Sprintf("line %d %s", i, strings.Repeat("x", 80)))
	}
	if send, over := s.due(false); !send || over {
		t.Error("what is much is not due")
	}
	s.close()
	s.close()
	got := drain(s, 5)
	if !strings.HasPrefix(got[0], "line 0 ") || !strings.HasPrefix(got[len(got)-1], fmt.Sprintf("line %d ", lines-1)) {
		t.Errorf("it begins with %q and ends with %q", got[0], got[len(got)-1])
	}
	left := -1
	for _, l := range got {
		_, _ = fmt.Sscanf(l, "… %d lines are left out here …", &left)
	}
	if left+len(got)-1 != lines {
		t.Errorf("%d lines are left out and %d are there, of %d", left, len(got)-1, lines)
	}
	if _, over := s.due(false); !over {
		t.Error("it is not over")
	}
}

func TestALogGoesOnInTheNextProcess(t *testing.T) {
	dir := t.TempDir()
	first := newLogShipper(3, 2, dir)
	at := time.UnixMilli(1_000_000)
	say := func(s *logShipper, from, to int) {
		for i := from; i <= to; i++ {
			s.line(at.Add(time.Duration(i)*time.Millisecond), 1, fmt.Sprint(i))
		}
	}
	say(first, 1, 5)
	p := first.take(7, 3)
	first.took(p)
	if len(p.Lines) != 3 || p.Seq != 7<<24+1 {
		t.Fatalf("took %+v", p)
	}
	second := newLogShipper(3, 2, dir) // the launcher reports everything again
	say(second, 1, 8)
	if got := strings.Join(drain(second, 8), " "); got != "4 5 6 7 8" {
		t.Errorf("the next process sends %s", got)
	}
	if p := second.take(8, 1); p.Seq>>24 != 8 {
		t.Errorf("its numbers do not follow: %d", p.Seq)
	}
}

func TestLinesThatWaitAreBounded(t *testing.T) {
	s := &logShipper{} // of the node itself, with the service away for days
	for i := range 100_000 {
		s.line(time.UnixMilli(int64(i+1)), 0, strings.Repeat("x", 100))
	}
	if s.bytes > 2*headMost {
		t.Errorf("%d bytes wait", s.bytes)
	}
	if got := s.pending[len(s.pending)-1].At; got != 100_000 {
		t.Errorf("the newest line is of %d", got)
	}
}

func TestProgressIsNotTheLog(t *testing.T) {
	book, err := recipe.Builtin()
	if err != nil {
		t.Fatal(err)
	}
	r := newReader(book["practice"].Read, func(mark) {})
	var said []string
	r.say = func(_ time.Time, stream int, text string) { said = append(said, fmt.Sprint(stream, " ", text)) }
	at := time.Now()
	r.Said(1, []byte("vx begin 3\n"), at)
	for i := range 100 {
		r.Said(1, fmt.Appendf(nil, "vx progress %d 100\n", i), at.Add(time.Duration(i)*100*time.Millisecond))
	}
	r.Said(2, []byte("error: it broke\n"), at.Add(20*time.Second))
	if got := strings.Join(
		said, ", ",
	); got != "1 vx begin 3, 1 vx progress 0 100, 1 vx progress 50 100, 2 error: it broke" {
		t.Errorf("said %s", got)
	}
}
