package gauge

import "time"

// steady tells whether a clock has shown a time for long enough to remove anything by it: a
// clock that is a month ahead for a moment must not make the month before look old.
type steady struct {
	known  bool
	wall   time.Time     // when it was looked at last
	uptime time.Duration // then
	from   time.Duration // uptime from which on it is trusted
}

// Bounds of trust in a clock.
const (
	jump      = time.Minute    // more or less than passed between two looks
	settles   = 24 * time.Hour // that a new time has to last
	plausible = 24 * time.Hour // since the newest record, when the service starts
)

// first reports whether the clock was never looked at.
func (s *steady) first() bool { return !s.known }

// trusted notes what the clock shows at an uptime, and reports whether things may be removed by
// it. At the first look newest is when the newest record was made; zero: there is none.
func (s *steady) trusted(now time.Time, uptime time.Duration, newest time.Time) bool {
	now = now.Round(0) // what the clock shows, not what has passed
	switch {
	case !s.known:
		if since := now.Sub(newest); !newest.IsZero() && (since < -jump || since > plausible) {
			s.from = uptime + settles
		}
	case (now.Sub(s.wall) - (uptime - s.uptime)).Abs() > jump:
		s.from = uptime + settles
	}
	s.known, s.wall, s.uptime = true, now, uptime
	return uptime >= s.from
}
