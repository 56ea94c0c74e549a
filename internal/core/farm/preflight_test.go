package farm

import (
	"testing"
	"time"
	_ "time/tzdata"
)

// TestPreflightRules looks when the evening comes, in several zones and when clocks change.
func TestPreflightRules(t *testing.T) {
	at := func(text string) time.Time {
		t.Helper()
		out, err := time.Parse(time.RFC3339, text)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	for _, c := range []struct {
		rule         PreflightRule
		after, until string
		want         bool
	}{
		{PreflightRule{}, "2031-03-04T00:00:00Z", "2031-03-06T00:00:00Z", false},
		{PreflightRule{Night: "18:30"}, "2031-03-04T18:29:59Z", "2031-03-04T18:30:00Z", true},
		{PreflightRule{Night: "18:30"}, "2031-03-04T18:30:00Z", "2031-03-04T18:30:05Z", false},
		{PreflightRule{Night: "18:30"}, "2031-03-04T18:30:00Z", "2031-03-05T18:29:00Z", false},
		{PreflightRule{Night: "23:59"}, "2031-03-04T23:58:00Z", "2031-03-05T00:01:00Z", true},
		{PreflightRule{Night: "18:30"}, "2031-03-01T00:00:00Z", "2031-03-04T12:00:00Z", true}, // it was down for long
		{PreflightRule{Night: "18:30", Zone: "Asia/Tokyo"}, "2031-03-04T09:29:00Z", "2031-03-04T09:31:00Z", true},
		{PreflightRule{Night: "18:30", Zone: "Asia/Tokyo"}, "2031-03-04T18:29:00Z", "2031-03-04T18:31:00Z", false},
		// 01:30 is not there in Dublin on that day, and twice on the other
		{PreflightRule{Night: "01:30", Zone: "Europe/Dublin"}, "2031-03-30T00:00:00Z", "2031-03-30T03:00:00Z", true},
		{PreflightRule{Night: "01:30", Zone: "Europe/Dublin"}, "2031-10-26T00:00:00Z", "2031-10-26T03:00:00Z", true},
	} {
		if got := c.rule.NightWithin(at(c.after), at(c.until)); got != c.want {
			t.Errorf("%v from %s to %s: %v", c.rule, c.after, c.until, got)
		}
	}
	for text, rule := range map[string]PreflightRule{
		"held runs are asked about":                                   FirstPreflightRule,
		"held runs are not asked about":                               {},
		"held runs are asked about, and all open runs at 18:30 (UTC)": {Held: true, Night: "18:30"},
	} {
		if err := rule.Check(); err != nil || rule.String() != text {
			t.Errorf("%+v: %v, %q", rule, err, rule)
		}
	}
	for _, rule := range []PreflightRule{
		{Night: "25:00"}, {Night: "8:30"}, {Night: "evening"}, {Zone: "Local"}, {Night: "18:30", Zone: "Pellmarsh"},
	} {
		if rule.Check() == nil {
			t.Errorf("%+v is taken", rule)
		}
	}
}
