package health

import (
	"strings"
	"testing"
	"time"
)

func TestFindings(t *testing.T) {
	now := time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)
	fine := Signs{
		Name: "kiln-01", DiskFree: 100 << 30, DiskTotal: 500 << 30, Memory: 64 << 30, Version: "0.1.0",
		Service: "0.1.0", Renderers: 2,
	}
	starts := func(n int, apart time.Duration) (out []time.Time) {
		for i := range n {
			out = append(out, now.Add(-time.Duration(i)*apart))
		}
		return out
	}
	for _, c := range []struct {
		name   string
		change func(s *Signs)
		want   string // kinds
		says   string
	}{
		{"all is well", func(*Signs) {}, "", ""},
		{"a clock that is ahead", func(s *Signs) { s.ClockOff = 47 * time.Minute }, "clock", "is 47 min ahead of"},
		{"a clock that is behind", func(s *Signs) { s.ClockOff = -31 * time.Second }, "clock", "is 31 s behind"},
		{"a clock that is good enough", func(s *Signs) { s.ClockOff = 29 * time.Second }, "", ""},
		{"a full disk", func(s *Signs) { s.DiskFree = 1 << 30 }, "disk", "only 1.0 GiB free"},
		{"a small disk with room", func(s *Signs) { s.DiskFree, s.DiskTotal = 1<<30, 8<<30 }, "", ""},
		{"an unknown disk", func(s *Signs) { s.DiskFree = -1 }, "", ""},
		{"swap", func(s *Signs) { s.SwapUsed = 2 << 30 }, "swap", "has moved 2.0 GiB"},
		{"many starts", func(s *Signs) { s.Starts = starts(5, 10*time.Minute) }, "restarts", "started 5 times"},
		{"many starts, long ago", func(s *Signs) { s.Starts = starts(5, 20*time.Minute) }, "", ""},
		{"an old version", func(s *Signs) { s.Version = "0.0.9" }, "version", "version 0.0.9, the service 0.1.0"},
		{"nothing to render with", func(s *Signs) { s.Renderers = 0 }, "renderers", "no renderer"},
		{"killed for memory", func(s *Signs) {
			s.Killed = Killed{
				At: now.Add(-23 * time.Hour), Sure: true, Most: "salt_010/final-1 on lease 7", Bytes: 20 << 30,
			}
		}, "memory", "The system has killed the node process of kiln-01 because memory ran out at " +
			"2031-03-03T21:00:00Z; salt_010/final-1 on lease 7 had 20 GiB then"},
		{"killed for memory, long ago", func(s *Signs) { s.Killed = Killed{At: now.Add(-25 * time.Hour)} }, "", ""},
		{"several things", func(s *Signs) { s.ClockOff, s.DiskFree = time.Hour, 0 }, "disk clock", ""},
	} {
		s := fine
		c.change(&s)
		var kinds []string
		text := ""
		for _, f := range Look(s, now) {
			kinds = append(kinds, f.Kind)
			text += f.Sentence
			if f.Remedy == "" {
				t.Errorf("%s: nothing to do about %s", c.name, f.Kind)
			}
		}
		if strings.Join(kinds, " ") != c.want || !strings.Contains(text, c.says) {
			t.Errorf("%s: %v, %s", c.name, kinds, text)
		}
	}
}
