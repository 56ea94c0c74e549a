package triage

import "time"

const (
	// atWork is how much of a core or a graphics device a renderer has to use to count as
	// computing. One that waits for ever uses next to nothing; one that polls, little.
	atWork = 0.2
	// atWorkTimes is how many times as long a renderer may be silent that computes: it may
	// spin for ever, too.
	atWorkTimes = 4
)

// Silence returns for how long a renderer may give no sign of life, of which is expected
// that it gives one within limit: longer while it uses so much of cores or devices (1 is all
// of one, on average since its last sign), as its frame may be heavier than was foreseen. A
// hard limit is one that the job or the recipe has set.
func Silence(limit time.Duration, use float64, hard bool) time.Duration {
	if hard || use < atWork {
		return limit
	}
	return atWorkTimes * limit
}
