package farm

import (
	"testing"
	"time"
)

func TestSentences(t *testing.T) {
	for text, want := range map[string]string{
		"": "", "all 3 frames are done": "All 3 frames are done.", "its disk is full.": "Its disk is full.",
		"kiln-04 is silent": "kiln-04 is silent.", "salt_010/final-1 waits": "salt_010/final-1 waits.",
		"über allem": "Über allem.",
		"3 frames":   "3 frames.", "mount: no such place": "Mount: no such place.", "x": "X.", ".": ".",
	} {
		if got := Sentence(text); got != want {
			t.Errorf("%q becomes %q, want %q", text, got, want)
		}
	}
}

func TestMomentsAreWrittenAnew(t *testing.T) {
	at := time.Date(2031, 3, 4, 23, 5, 6, 0, time.UTC)
	text := "due " + Moment(at) + ", or 2031-99-04T23:05:06Z, or then"
	got := Moments(text, func(found time.Time) string {
		if !found.Equal(at) {
			t.Errorf("found %s", found)
		}
		return "at night"
	})
	if got != "due at night, or 2031-99-04T23:05:06Z, or then" {
		t.Error(got)
	}
}
