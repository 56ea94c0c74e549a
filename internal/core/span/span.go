// Package span turns seconds, as they are reckoned with, into spans of time. It
// knows nothing of farms.
package span

import (
	"fmt"
	"math"
	"time"
)

// Most is the longest span: no moment that is told lies farther away.
const Most = 100 * 365 * 24 * time.Hour

// Of returns a span of the given seconds, not shorter than -Most nor longer than
// Most. What is no number at all counts as the longest.
func Of(seconds float64) time.Duration {
	switch {
	case math.IsNaN(seconds) || seconds >= Most.Seconds():
		return Most
	case seconds <= -Most.Seconds():
		return -Most
	}
	return time.Duration(seconds * float64(time.Second))
}

// Text writes a time span for a sentence: whole seconds below two minutes, then
// whole minutes.
func Text(d time.Duration) string {
	if d < 2*time.Minute {
		return d.Round(time.Second).String()
	}
	d = d.Round(time.Minute)
	if d < time.Hour {
		return fmt.Sprintf("%dm", int(d.Minutes()))
	}
	return fmt.Sprintf("%dh%02dm", int(d.Hours()), int(d.Minutes())%60)
}
