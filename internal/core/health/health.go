// Package health looks at what a node reports about itself and says what is
// wrong with it, in words, with what to do. It judges machines, never frames:
// that is triage's.
package health

import (
	"fmt"
	"time"

	"github.com/dustin/go-humanize"
)

// Signs is what is known of a node at one moment.
type Signs struct {
	Name      string
	ClockOff  time.Duration // by how much its clock is ahead of the service's
	DiskFree  int64         // bytes where frames are staged; below 0 where it is not known
	DiskTotal int64
	SwapUsed  int64       // bytes
	Memory    int64       // bytes, in all
	Starts    []time.Time // of its node process
	Version   string      // of its node process
	Service   string      // version of the service
	Renderers int
	Killed    Killed
}

// Killed is the end of a node process whom the system has killed for want of
// memory.
type Killed struct {
	At    time.Time // zero: it was not
	Sure  bool      // the system has named the process
	Most  string    // what had the most memory then; empty: nothing is known
	Bytes int64     // that it had
}

// Text says so in a sentence.
func (k Killed) Text(node string) string {
	how := "has killed"
	if !k.Sure {
		how = "seems to have killed"
	}
	out := fmt.Sprintf(
		"The system %s the node process of %s because memory ran out at %s", how, node, k.At.UTC().Format(time.RFC3339),
	)
	if k.Most != "" {
		out += fmt.Sprintf(
			"; %s had %s then, more than all else of the farm's", k.Most, humanize.IBytes(uint64(max(0, k.Bytes))),
		)
	}
	return out + "."
}

// Finding is one thing that is wrong.
type Finding struct {
	Kind     string // memory, clock, disk, swap, restarts, version or renderers
	Sentence string // what
	Remedy   string // what to do
}

// Limits beyond which something is wrong.
const (
	ClockLimit   = 30 * time.Second
	DiskLeast    = 2 << 30 // bytes; or a twentieth of a smaller disk
	SwapPart     = 0.02    // of the memory
	RestartLimit = 4       // starts
	RestartSpan  = time.Hour
	KilledSpan   = 24 * time.Hour // for which it is told that a node process was killed
)

// Look returns what is wrong with a node, the worst first.
func Look(s Signs, now time.Time) []Finding {
	var out []Finding
	add := func(kind, remedy, format string, args ...any) {
		out = append(out, Finding{kind, fmt.Sprintf(format, args...), remedy})
	}
	if s.Renderers == 0 {
		add(
			"renderers", "Install one, or add a recipe that names where it is, then run: vexillum nodes probe NODE",
			"%s has no renderer that a recipe knows.", s.Name,
		)
	}
	if !s.Killed.At.IsZero() && now.Sub(s.Killed.At) < KilledSpan {
		add(
			"memory", "Give it less at once: lower its memory cap, or submit with --memory what a launch of it needs.",
			"%s", s.Killed.Text(s.Name),
		)
	}
	least := int64(DiskLeast)
	if s.DiskTotal > 0 {
		least = min(least, s.DiskTotal/20)
	}
	if s.DiskFree >= 0 && s.DiskFree < least {
		add(
			"disk", "Make room on the disk, or set a smaller limit for the staging disk.",
			"%s has only %s free where frames are staged.", s.Name, humanize.IBytes(uint64(s.DiskFree)),
		)
	}
	recent := 0
	for _, at := range s.Starts {
		if now.Sub(at) < RestartSpan {
			recent++
		}
	}
	if recent > RestartLimit {
		add(
			"restarts", "Look at the log of its node process.",
			"The node process of %s has started %d times within an hour.", s.Name, recent,
		)
	}
	if off := s.ClockOff; off.Abs() > ClockLimit {
		side := "ahead of"
		if off < 0 {
			side = "behind"
		}
		add(
			"clock",
			"Set both from one time server. The farm itself does not depend on it, but the times of files and logs do.",
			"The clock of %s is %s %s the service's.", s.Name, round(off.Abs()), side,
		)
	}
	if s.Memory > 0 && float64(s.SwapUsed) > SwapPart*float64(s.Memory) {
		add(
			"swap", "Give it less at once: lower its memory cap, or send jobs elsewhere with needs.",
			"%s has moved %s of memory to disk (swap), so it renders slower than it could.", s.Name,
			humanize.IBytes(uint64(s.SwapUsed)),
		)
	}
	if s.Version != "" && s.Service != "" && s.Version != s.Service {
		add(
			"version", "Install the service's version on it.", "The node process of %s is version %s, the service %s.",
			s.Name, s.Version, s.Service,
		)
	}
	return out
}

func round(d time.Duration) string {
	if d < 2*time.Minute {
		return fmt.Sprintf("%.0f s", d.Seconds())
	}
	if d < 2*time.Hour {
		return fmt.Sprintf("%.0f min", d.Minutes())
	}
	return fmt.Sprintf("%.0f h", d.Hours())
}
