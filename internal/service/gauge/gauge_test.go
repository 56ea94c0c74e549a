package gauge

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"vexillum/internal/core/usage"
)

// shelf is a Store in memory that can be away.
type shelf struct {
	mu    sync.Mutex
	away  bool
	rows  map[time.Duration][]usage.Row
	tidy  int
	asked time.Time

	newest  time.Time
	dropped []time.Time
}

func (s *shelf) AddUsage(_ context.Context, step time.Duration, rows []usage.Row) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.away {
		return errors.New("away")
	}
	s.rows[step] = append(s.rows[step], rows...)
	return nil
}

func (s *shelf) UsageSince(_ context.Context, since time.Time) (out []usage.Row, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.asked = since
	for _, r := range s.rows[usage.Minute] {
		if !r.At.Before(since) {
			out = append(out, r)
		}
	}
	return out, nil
}

func (s *shelf) Partition(context.Context, time.Time, int64) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.tidy++
	return nil
}

// TestSamplesAreKeptOverARestart lets a node send samples for twenty minutes,
// while the database is away for some and the service restarts.
func TestSamplesAreKeptOverARestart(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := &shelf{rows: map[time.Duration][]usage.Row{}}
		sent := 0
		for part := range 2 { // the second service goes on in the same quarter
			ctx, stop := context.WithCancel(t.Context())
			g := New(s, slog.New(slog.DiscardHandler), time.Now, 1)
			done := make(chan struct{})
			go func() {
				g.Run(ctx)
				close(done)
			}()
			for i := range 120 {
				time.Sleep(5 * time.Second)
				g.Take(7, usage.Sample{Processor: float64(part)})
				sent++
				s.mu.Lock()
				s.away = i > 30 && i < 60
				s.mu.Unlock()
			}
			time.Sleep(100 * time.Millisecond)
			stop()
			<-done
		}
		if got := len(s.rows[usage.Fine]); got != sent {
			t.Errorf("%d samples are kept of %d", got, sent)
		}
		if got := len(s.rows[usage.Minute]); got < 18 || got > 21 {
			t.Errorf("%d minutes are kept of some 20", got)
		}
		if got := s.rows[usage.Quarter]; len(got) != 1 || got[0].Processor < 0.25 || got[0].Processor > 0.4 {
			t.Errorf("the quarter, in a third of which the second service was there, is %+v", got)
		}
		if s.tidy < 20 {
			t.Errorf("partitions were looked after %d times", s.tidy)
		}
	})
}

func (s *shelf) DropPartitions(_ context.Context, now time.Time) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.dropped = append(s.dropped, now)
	return nil
}

func (s *shelf) NewestSaid(context.Context) (time.Time, error) { return s.newest, nil }

// TestNothingIsDroppedByAClockThatHasJumped sets the clock of a service ahead for a moment,
// for good, and back, and starts services with clocks that are wrong from the beginning.
func TestNothingIsDroppedByAClockThatHasJumped(t *testing.T) {
	true0 := time.Date(2031, 3, 4, 5, 6, 7, 0, time.UTC)
	const month = 30 * 24 * time.Hour
	for name, c := range map[string]struct {
		newest  time.Time                                // record in the database
		off     func(uptime time.Duration) time.Duration // by which the clock is wrong
		dropped func(uptime, off time.Duration) bool     // whether that may be dropped by
	}{
		"a clock that is right": {true0, func(time.Duration) time.Duration { return 0 }, func(time.Duration, time.Duration) bool { return true }},
		"ahead for 12 s": {true0, func(up time.Duration) time.Duration {
			if up > time.Hour && up < time.Hour+12*time.Second {
				return month
			}
			return 0
		}, func(_, off time.Duration) bool { return off == 0 }},
		"ahead for good": {true0, func(up time.Duration) time.Duration {
			if up > time.Hour {
				return month
			}
			return 0
		}, func(up, off time.Duration) bool { return off == 0 || up > 25*time.Hour }},
		"a year back": {true0, func(up time.Duration) time.Duration {
			if up > time.Hour {
				return -12 * month
			}
			return 0
		}, func(up, off time.Duration) bool { return off == 0 || up > 25*time.Hour }},
		"ahead from the beginning": {true0, func(time.Duration) time.Duration { return month }, func(up, _ time.Duration) bool { return up >= 24*time.Hour }},
		"back from the beginning":  {true0, func(time.Duration) time.Duration { return -month }, func(up, _ time.Duration) bool { return up >= 24*time.Hour }},
		"with no records yet":      {time.Time{}, func(time.Duration) time.Duration { return 0 }, func(time.Duration, time.Duration) bool { return true }},
	} {
		s := &shelf{rows: map[time.Duration][]usage.Row{}, newest: c.newest}
		var up time.Duration
		g := New(s, slog.New(slog.DiscardHandler), func() time.Time { return true0.Add(up + c.off(up)) }, 1)
		g.uptime = func() time.Duration { return up }
		for ; up < 30*time.Hour; up += 4 * time.Second {
			before := len(s.dropped)
			g.tidy(t.Context())
			if did := len(s.dropped) > before; did && !c.dropped(up, c.off(up)) {
				t.Fatalf("%s: after %v it drops by %v", name, up, s.dropped[before])
			}
		}
		if len(s.dropped) == 0 {
			t.Errorf("%s: nothing is ever dropped", name)
		}
	}
}

func TestWhatWaitsIsBounded(t *testing.T) {
	g := New(&shelf{}, slog.New(slog.DiscardHandler), time.Now, 1)
	for range mostPending + 100 {
		g.Take(1, usage.Sample{})
	}
	if n := len(g.pending[usage.Fine]); n != mostPending || g.dropped != 100 {
		t.Errorf("%d samples wait, %d were dropped", n, g.dropped)
	}
}
