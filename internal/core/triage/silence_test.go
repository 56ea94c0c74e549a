package triage

import (
	"testing"
	"time"
)

// TestSilence: who computes may be silent for longer, unless somebody has set the limit.
func TestSilence(t *testing.T) {
	for _, c := range []struct {
		use  float64
		hard bool
		want time.Duration
	}{
		{0, false, time.Minute}, {0.05, false, time.Minute}, {0.9, false, 4 * time.Minute}, {12, false,
			4 * time.Minute},
		{0.9, true, time.Minute}, {-1, false, time.Minute},
	} {
		if got := Silence(time.Minute, c.use, c.hard); got != c.want {
			t.Errorf("using %v, hard %v: %v, want %v", c.use, c.hard, got, c.want)
		}
	}
}
