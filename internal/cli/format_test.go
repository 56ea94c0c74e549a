package cli

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"vexillum/internal/wire"
)

func TestDurationsSizesAndClocks(t *testing.T) {
	for d, want := range map[time.Duration]string{
		-time.Second: "0s", 400 * time.Millisecond: "0s", 8 * time.Second: "8s", 59600 * time.Millisecond: "1m00s", 750 * time.Second: "12m30s",
		64 * time.Minute: "1h04m", 49*time.Hour + 59*time.Second: "49h00m",
	} {
		if got := duration(d); got != want {
			t.Errorf("%v prints as %s, want %s", d, got, want)
		}
	}
	for n, want := range map[int64]string{0: "0 B", 1023: "1023 B", 1024: "1.0 KiB", 1536: "1.5 KiB", 25 << 30: "25.0 GiB", 3 << 50: "3072.0 TiB"} {
		if got := size(n); got != want {
			t.Errorf("%d prints as %s, want %s", n, got, want)
		}
	}
	now := time.Date(2031, 3, 4, 20, 0, 0, 0, time.Local)
	if got := clock(now.Add(time.Hour), now); got != "21:00:00" {
		t.Errorf("today: %s", got)
	}
	if got := clock(now.Add(10*time.Hour), now); got != "Wed 06:00" {
		t.Errorf("tomorrow: %s", got)
	}
}

func TestTableIsAligned(t *testing.T) {
	var out bytes.Buffer
	table := newTable(&out, "RUN", ">DONE", "STATE")
	table.add("salt_010/final-1", "7", state("rendering"))
	table.add("späte Möwe", "120", state("held"))
	table.add("x", "1", state("unheard of"))
	table.print()
	want := "RUN               DONE  STATE\n" +
		"salt_010/final-1     7  ◧ rendering\n" +
		"späte Möwe         120  ‖ held\n" +
		"x                    1  unheard of\n"
	if out.String() != want {
		t.Errorf("got\n%s\nwant\n%s", out.String(), want)
	}
}

func TestRibbonShowsTheWorst(t *testing.T) {
	run := wire.Run{Frames: "1-10", Sets: wire.FrameSets{Done: "1-5", Rendering: "6", Parked: "3", ToDo: "7-10"}}
	if got := ribbon(run, 72, false); got != "██▣██▄····" {
		t.Errorf("frame by frame: %s", got)
	}
	if got := ribbon(run, 5, false); got != "█▣▄··" && got != "█▣█··" {
		t.Errorf("in bins of two: %s", got)
	}
	stepped := wire.Run{Frames: "2-10/2", Sets: wire.FrameSets{Done: "2,6", ToDo: "4,8,10"}}
	if got := ribbon(stepped, 72, false); got != "█·█··" {
		t.Errorf("with a step: %s", got)
	}
	if ribbon(wire.Run{Frames: "?"}, 72, false) != "" {
		t.Error("a range that cannot be read has a ribbon")
	}
	if got := ribbon(run, 72, true); !strings.Contains(got, "\xff[38;5;") {
		t.Error("no colour where colours are wanted")
	}
}

func TestForecastsPrintAsRanges(t *testing.T) {
	now := time.Date(2031, 3, 4, 20, 0, 0, 0, time.Local)
	a, b := now.Add(time.Minute), now.Add(2*time.Minute)
	for want, f := range map[string]wire.Forecast{
		"–":                   {Why: "held"},
		"20:01:00 – 20:02:00": {Known: true, Median: &a, Late: &b},
		"20:01:00":            {Known: true, Median: &a, Late: &a},
	} {
		if got := finish(f, now); got != want {
			t.Errorf("%+v prints as %s, want %s", f, got, want)
		}
	}
}

func TestWhatBecomesOfFramesInFlight(t *testing.T) {
	busy := wire.Run{Nodes: []string{"kiln-01", "kiln-02"}, InFlight: 5}
	for _, c := range []struct {
		what string
		now  bool
		run  wire.Run
		says string
	}{
		{"hold", false, busy, "5 frames in flight finish first"}, {"hold", true, busy, "5 frames in flight thrown away"}, {"cancel", false, busy, "5 frames in flight thrown away"},
		{"hold", false, wire.Run{Nodes: []string{"kiln-01"}, InFlight: 1}, ": 1 frame in flight finishes " +
			"first (kiln-01)"},
		{"release", false, busy, ""}, {"cancel", false, wire.Run{}, ""},
	} {
		if got := inFlight(c.what, c.now, c.run); !strings.Contains(got, c.says) || c.says == "" && got != "" {
			t.Errorf("%s now %v: %q", c.what, c.now, got)
		}
	}
}
