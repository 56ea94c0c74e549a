package views

import (
	"time"

	"vexillum/internal/core/health"
)

// Live is what pages show of a node just now and is not kept.
type Live struct {
	Processor float64
	Memory    float64
	Signs     Signs
	Killed    health.Killed
	starts    []time.Time // of its node process, that this service saw
}

// Signs is what a node reports about its health.
type Signs struct {
	Now        time.Time // by its clock; zero where it does not tell
	ClockOff   time.Duration
	DiskFree   int64 // below 0 where it is not known
	DiskTotal  int64
	SwapUsed   int64
	MemoryFree int64 // that new processes could have; below 0 where it is not known
}

// mostStarts bounds the starts of a node process that are remembered.
const mostStarts = 20

// rate counts finished frames in the minutes of the last hour.
type rate struct {
	since   time.Time
	minutes map[int64]int
}

// recall counts frames that were finished before this service became active.
func (r *rate) recall(since time.Time, finished []time.Time) {
	if since.IsZero() {
		return
	}
	r.minutes, r.since = map[int64]int{}, since
	for _, at := range finished {
		r.minutes[at.Unix()/60]++
	}
}

// window is the time over which frames an hour are reckoned.
const window = 10 * time.Minute

func (r *rate) add(at time.Time) {
	if r.minutes == nil {
		r.minutes, r.since = map[int64]int{}, at
	}
	r.minutes[at.Unix()/60]++
	for m := range r.minutes {
		if m < at.Unix()/60-60 {
			delete(r.minutes, m)
		}
	}
}

func (r *rate) anHour(now time.Time) int {
	if r.minutes == nil {
		return 0
	}
	n := 0
	for m, count := range r.minutes {
		if m > now.Add(-window).Unix()/60 {
			n += count
		}
	}
	span := min(max(now.Sub(r.since), 30*time.Second), window)
	return int(float64(n) * float64(time.Hour) / float64(span))
}
