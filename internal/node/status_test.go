package node

import (
	"testing"
	"time"
)

// TestALongCheckSaysWhatItIsAt asks beside checks of different ages.
func TestALongCheckSaysWhatItIsAt(t *testing.T) {
	now := time.Date(2026, 5, 4, 3, 2, 1, 0, time.UTC)
	half := &looking{since: now.Add(-9 * time.Second), size: 64 << 20}
	half.seen.Store(64 << 20)
	over := &looking{since: now.Add(-5 * time.Second), size: 1 << 20}
	over.seen.Store(1 << 30) // a renderer that still writes to it
	for name, c := range map[string]struct {
		at   map[int]*looking
		want string
	}{
		"nothing is checked":      {nil, ""},
		"one waits for its turn":  {map[int]*looking{7: nil}, ""},
		"one that is short":       {map[int]*looking{7: {since: now.Add(-time.Second), size: 1}}, ""},
		"the longest is told":     {map[int]*looking{7: half, 8: over, 9: nil}, "checking frame 7: 50 % of 64 MiB, 9s so far"},
		"it is never all of it":   {map[int]*looking{8: over}, "checking frame 8: 99 % of 1.0 MiB, 5s so far"},
		"the check of the recipe": {map[int]*looking{3: {since: now.Add(-40 * time.Second)}}, "checking frame 3 with its recipe's check, 40s so far"},
	} {
		if got := (&moment{verifying: c.at}).checking(now); got != c.want {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}
