package span

import (
	"math"
	"testing"
	"time"
)

// TestNoSpanGoesRound turns numbers into spans that a conversion would wrap
// round into the past.
func TestNoSpanGoesRound(t *testing.T) {
	for _, c := range []struct {
		seconds float64
		want    time.Duration
	}{
		{1.5, 1500 * time.Millisecond}, {0, 0}, {-2, -2 * time.Second}, {5e-324, 0}, {1e9, 1e9 * time.Second},
		{1e10, Most}, {1e308, Most}, {math.Inf(1), Most}, {math.NaN(), Most}, {-1e308, -Most}, {math.Inf(-1), -Most},
	} {
		if got := Of(c.seconds); got != c.want {
			t.Errorf("%v s is %v, not %v", c.seconds, got, c.want)
		}
	}
	now := time.Date(2031, 3, 4, 5, 6, 7, 0, time.UTC)
	if then := now.Add(Of(math.MaxFloat64)); then.Before(now) || then.Year() > 2200 {
		t.Errorf("the longest span ends at %v", then)
	}
}
