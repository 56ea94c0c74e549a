package service

import (
	"errors"
	"testing"

	"vexillum/internal/service/refusal"
)

// TestTheLastOfTheDiskIsForRecords refuses what would leave them less than is reserved.
func TestTheLastOfTheDiskIsForRecords(t *testing.T) {
	const gib = 1 << 30
	for name, c := range map[string]struct {
		free, total uint64
		bytes       int64
		refused     bool
	}{
		"plenty":                   {80 * gib, 100 * gib, 10 * gib, false},
		"just enough":              {6 * gib, 100 * gib, gib, false},
		"one byte too many":        {6 * gib, 100 * gib, gib + 1, true},
		"below it already":         {4 * gib, 100 * gib, 0, true},
		"nothing is sent":          {5 * gib, 100 * gib, 0, false},
		"of a large disk, 20 GiB":  {21 * gib, 10_000 * gib, gib, false},
		"of a large disk, no more": {19 * gib, 10_000 * gib, 0, true},
		"less than nothing":        {5 * gib, 100 * gib, -gib, false},
	} {
		err := roomOn(c.free, c.total, c.bytes)
		var r *refusal.Refusal
		if refused := errors.As(err, &r) && r.Kind == refusal.NoRoom; refused != c.refused {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestOneDiskIsOneDisk compares folders of the same disk and of another.
func TestOneDiskIsOneDisk(t *testing.T) {
	a, b := t.TempDir(), t.TempDir()
	if !oneDisk(a, b) {
		t.Errorf("%s and %s are on one disk", a, b)
	}
	if oneDisk(a, a+"/nowhere") {
		t.Error("what is not there is on no disk")
	}
}
