package cli

import (
	"strings"
	"testing"
	"time"

	"vexillum/internal/wire"
)

func TestDueTimes(t *testing.T) {
	now := time.Date(2031, 3, 4, 17, 30, 0, 0, time.UTC) // a Tuesday
	for text, want := range map[string]string{
		"":                     "",
		"18:00":                "2031-03-04T18:00:00Z",
		"09:00":                "2031-03-05T09:00:00Z",
		"fri 18:00":            "2031-03-07T18:00:00Z",
		"Tue 09:00":            "2031-03-11T09:00:00Z",
		"tue 18:00":            "2031-03-04T18:00:00Z",
		"2031-04-01 08:15":     "2031-04-01T08:15:00Z",
		"2031-04-01T08:15:00Z": "2031-04-01T08:15:00Z",
		"+3h":                  "2031-03-04T20:30:00Z",
	} {
		if got, err := parseDue(text, now); err != nil || got != want {
			t.Errorf("%q: %q, %v; want %q", text, got, err, want)
		}
	}
	for _, text := range []string{"soon", "25:00", "someday 18:00", "+x", "-3h", "+-3h", "18"} {
		if got, err := parseDue(text, now); err == nil {
			t.Errorf("%q is taken for %s", text, got)
		}
	}
}

// TestALicenceThatNobodyNeedsIsSaidToBeSo counts licences by names that recipes use, and others.
func TestALicenceThatNobodyNeedsIsSaidToBeSo(t *testing.T) {
	all := []wire.Licence{{Name: "glass", Recipes: []string{"kiln"}}, {Name: "glas", Recipes: []string{}}}
	for name, want := range map[string]string{
		"glass": "The licence glass is counted: 3, for kiln.",
		"glas":  "The licence glas is counted: 3. No recipe needs one of that name, so it limits nothing; recipes need glass.",
	} {
		if got := licenceSet(name, 3, all); got != want {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
	}
	if got := licenceSet("glass", 3, nil); !strings.HasSuffix(got, "so it limits nothing.") {
		t.Errorf("without any recipe: %q", got)
	}
}
