package cli

import (
	"strings"
	"testing"
	"time"
)

func TestWordsAreWrapped(t *testing.T) {
	for text, want := range map[string]string{
		"":                                      "",
		"one two three":                         "one two|three",
		"a verylongwordthatfitsnowhere b":       "a|verylongwordthatfitsnowhere|b",
		"waits its turn: kiln-01, the only one": "waits its|turn:|kiln-01,|the only|one",
	} {
		if got := strings.Join(wrapWords(text, 9), "|"); got != want {
			t.Errorf("%q is wrapped as %q, want %q", text, got, want)
		}
	}
}

// TestNothingIsCutInAPipe prints a long reason where no person looks.
func TestNothingIsCutInAPipe(t *testing.T) {
	var out strings.Builder
	long := strings.Repeat("why and ", 60) + "the end"
	tb := newTable(screen{to: &out}, "RUN", "WHY")
	tb.add("salt_010/final-1", long)
	tb.print()
	if lines := strings.Split(strings.TrimSpace(out.String()), "\n"); len(lines) != 2 ||
		!strings.HasSuffix(lines[1], "the end") {
		t.Errorf("a pipe gets %d lines:\n%s", len(lines), out.String())
	}
	a := app{out: screen{to: &out}}
	if a.fit(long, 20) != long {
		t.Error("a text is cut in a pipe")
	}
}

// TestMomentsInZone writes the times of sentences as they are here, and leaves
// all else.
func TestMomentsInZone(t *testing.T) {
	was := time.Local
	defer func() { time.Local = was }()
	time.Local = time.FixedZone("JST", 9*3600)
	now := time.Date(2031, 3, 4, 12, 0, 0, 0, time.UTC)
	for text, want := range map[string]string{
		"is due 2031-03-04T11:00:00Z, late":   "is due 20:00:00 JST, late",
		"ready 2031-03-06T18:00:00Z":          "ready Fri 03:00 JST",
		"in 2035-01-02T00:00:00Z":             "in 2 Jan 2035 JST",
		"frame 2031-03-04 and 11:00:00Z stay": "frame 2031-03-04 and 11:00:00Z stay",
	} {
		if got := inZone(text, now); got != want {
			t.Errorf("%q became %q, want %q", text, got, want)
		}
	}
	var plain, kept strings.Builder
	_, _ = screen{to: &plain}.Write([]byte("at 2031-03-04T11:00:00Z"))
	_, _ = screen{to: &kept, asIs: func() bool { return true }}.Write([]byte("at 2031-03-04T11:00:00Z"))
	if strings.Contains(plain.String(), "2031-03-04T") || kept.String() != "at 2031-03-04T11:00:00Z" {
		t.Errorf("a person reads %q, a program %q", plain.String(), kept.String())
	}
}

// TestSuggestions completes names once each, without those that are there.
func TestSuggestions(t *testing.T) {
	a := &app{}
	got := a.suggest(
		t.Context(), words("salt_020", "salt_010", "gannet", "salt_010", "salt_030"), "salt", []string{"salt_030"},
	)
	if strings.Join(got, " ") != "salt_010 salt_020" {
		t.Errorf("suggested are %v", got)
	}
	if got := a.suggest(t.Context(), runList, "", nil); len(got) != 0 {
		t.Errorf("without a sign-in these are suggested: %v", got)
	}
}

// TestEveryArgumentIsCompleted looks that what is completed are commands that
// there are.
func TestEveryArgumentIsCompleted(t *testing.T) {
	a := &app{out: screen{to: &strings.Builder{}}, err: screen{to: &strings.Builder{}}}
	root := a.root()
	for path := range arguments() {
		c, _, err := root.Find(strings.Fields(path))
		if err != nil || strings.TrimPrefix(c.CommandPath(), "vexillum ") != path {
			t.Errorf("there is no command %q", path)
		}
	}
}
