package node

import "testing"

func TestOldNodeProcessesAreRefused(t *testing.T) {
	for _, c := range []struct {
		mine, oldest string
		old          bool
	}{
		{"0.1.0", "0.1.0", false},
		{"0.9.3", "0.10.0", true},
		{"1.2.0", "1.1.9", false},
		{"built by hand", "1.0.0", false},
		{"1.0.0", "", false},
	} {
		if got := tooOld(c.mine, c.oldest); got != c.old {
			t.Errorf("%s against %s: %v", c.mine, c.oldest, got)
		}
	}
}

func TestTheDiskIsMeasured(t *testing.T) {
	if rate, err := diskRate(t.TempDir(), make([]byte, 1<<20)); err != nil || rate <= 0 {
		t.Errorf("%v bytes a second, %v", rate, err)
	}
	if _, err := diskRate("/nowhere", nil); err == nil {
		t.Error("a folder that is not there was written")
	}
}
