package node

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"vexillum/internal/wire"
)

// What the node process and its renderers say is sent to the service, where
// people read it: at once while somebody follows, else now and then. Of a
// renderer that says more than anybody reads, the beginning and the end are
// kept.

const (
	saidSoon  = 500 * time.Millisecond // while somebody follows
	saidLate  = 10 * time.Second
	saidMost  = 64 << 10 // bytes that wait before they are sent anyway
	saidLines = 5000     // of one sending

	headMost = 1 << 20   // bytes of one lease that are sent as they come
	tailMost = 128 << 10 // and of what follows the last
)

// logShipper gathers the lines of one log.
type logShipper struct {
	lease, run int64
	sent       string // file that records up to when lines were sent; "" for none

	mu      sync.Mutex
	pending []wire.SaidLine
	bytes   int // of pending
	since   time.Time
	head    int             // bytes that came before the tail began
	tail    []wire.SaidLine // the last of what came after the head
	tailed  int             // bytes of the tail
	left    int             // lines that were left out before the tail
	seq     int64
	after   int64 // lines up to this time were sent by an earlier process
	closed  bool
}

// newLogShipper returns the log shipper of a lease, which goes on where an earlier
// process has stopped.
func newLogShipper(lease, run int64, folder string) *logShipper {
	s := &logShipper{lease: lease, run: run, sent: filepath.Join(folder, "said")}
	if data, err := os.ReadFile(s.sent); err == nil {
		s.after, _ = strconv.ParseInt(strings.TrimSpace(string(data)), 10, 64)
	}
	return s
}

// line takes a line.
func (s *logShipper) line(at time.Time, stream int, text string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	l := wire.SaidLine{At: at.UnixMilli(), Stream: stream, Text: strings.ToValidUTF8(text, "\uFFFD")}
	if l.At <= s.after {
		return
	}
	size := len(l.Text) + 16
	if s.head < headMost || s.lease == 0 {
		s.head += size
		s.put(l, size)
		return
	}
	s.tail = append(s.tail, l)
	for s.tailed += size; s.tailed > tailMost && len(s.tail) > 1; s.left++ {
		s.tailed -= len(s.tail[0].Text) + 16
		s.tail = s.tail[1:]
	}
}

func (s *logShipper) put(l wire.SaidLine, size int) {
	if len(s.pending) == 0 {
		s.since = time.Now()
	}
	s.pending = append(s.pending, l)
	s.bytes += size
	for s.bytes > 2*headMost { // the service has been away for long
		s.bytes -= len(s.pending[0].Text) + 16
		s.pending = s.pending[1:]
	}
}

// close reports that no line follows.
func (s *logShipper) close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return
	}
	s.closed = true
	if s.left > 0 {
		s.put(
			wire.SaidLine{At: s.tail[0].At, Stream: 0, Text: fmt.Sprintf("… %d lines are left out here …", s.left)}, 64,
		)
	}
	for _, l := range s.tail {
		s.put(l, len(l.Text)+16)
	}
	s.tail = nil
}

// due reports whether what waits should be sent now, and whether the log shipper
// has nothing more to do.
func (s *logShipper) due(watched bool) (send, over bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.pending) == 0 {
		return false, s.closed
	}
	return watched || s.closed || s.bytes >= saidMost || time.Since(s.since) >= saidLate, false
}

// take returns lines to be sent.
func (s *logShipper) take(session int64, most int) wire.SaidPiece {
	s.mu.Lock()
	defer s.mu.Unlock()
	n := min(most, len(s.pending))
	if s.seq>>24 != session { // numbers grow over sessions
		s.seq = session << 24
	}
	s.seq++
	return wire.SaidPiece{Lease: s.lease, Run: s.run, Seq: s.seq, Lines: slices.Clone(s.pending[:n])}
}

// took drops lines that were sent.
func (s *logShipper) took(p wire.SaidPiece) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for range min(len(p.Lines), len(s.pending)) {
		s.bytes -= len(s.pending[0].Text) + 16
		s.pending = s.pending[1:]
	}
	if s.sent != "" && !s.closed && len(p.Lines) > 0 { // after that its folder goes
		_ = os.WriteFile(
			s.sent, []byte(strconv.FormatInt(p.Lines[len(p.Lines)-1].At, 10)), 0o600,
		) // without it some lines come twice
	}
}

// say sends what the scribes have gathered until the context ends, and then
// once more what is left.
func (a *Agent) say(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
			defer cancel()
			a.sendSaid(last, true)
			return
		case <-time.After(saidSoon):
		}
		for a.sendSaid(ctx, a.watched.Load()) {
			if ctx.Err() != nil {
				break
			}
		}
	}
}

// sendSaid sends a piece of each log that is due, and reports whether more is.
func (a *Agent) sendSaid(ctx context.Context, watched bool) (more bool) {
	a.mu.Lock()
	scribes := slices.Clone(a.scribes)
	a.mu.Unlock()
	said := wire.Said{Session: a.session}
	var of []*logShipper
	lines := 0
	for _, s := range scribes {
		send, over := s.due(watched)
		if over {
			a.mu.Lock()
			a.scribes = slices.DeleteFunc(a.scribes, func(o *logShipper) bool { return o == s })
			a.mu.Unlock()
		}
		if !send || lines >= saidLines {
			more = more || send
			continue
		}
		p := s.take(a.session, saidLines-lines)
		lines += len(p.Lines)
		said.Pieces, of = append(said.Pieces, p), append(of, s)
	}
	if len(of) == 0 {
		return false
	}
	calling, cancel := context.WithTimeout(ctx, callTimeout)
	defer cancel()
	if err := a.client.Do(calling, http.MethodPost, "/node/v1/said", said, nil); err != nil {
		return false // it waits; nobody renders less because of it
	}
	for i, s := range of {
		s.took(said.Pieces[i])
	}
	return more
}

// logShipperOf returns the log shipper of a lease, made when it is first asked for.
func (a *Agent) logShipperOf(w *work) *logShipper {
	a.mu.Lock()
	defer a.mu.Unlock()
	s := newLogShipper(w.lease.ID, w.lease.Run, w.staging)
	a.scribes = append(a.scribes, s)
	return s
}

// logTo returns a logger that writes to a log shipper as well as to the given logger.
func logTo(log *slog.Logger, s *logShipper) *slog.Logger {
	own := slog.NewTextHandler(
		scribeWriter{s},
		&slog.HandlerOptions{Level: slog.LevelInfo, ReplaceAttr: func(groups []string, a slog.Attr) slog.Attr {
			if len(groups) == 0 && a.Key == slog.TimeKey {
				return slog.Attr{} // each line has its time
			}
			return a
		}},
	)
	return slog.New(slog.NewMultiHandler(log.Handler(), own))
}

type scribeWriter struct{ s *logShipper }

// Write implements io.Writer for a handler, which writes whole lines.
func (w scribeWriter) Write(p []byte) (int, error) {
	w.s.line(time.Now(), 0, strings.TrimRight(string(p), "\n"))
	return len(p), nil
}
