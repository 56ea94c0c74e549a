package pace

import (
	"testing"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// TestMemoryAlongTheRange measures some frames of a run, and of the run of its
// job before, and asks for others. Amounts are in GiB.
func TestMemoryAlongTheRange(t *testing.T) {
	const gib = 1 << 30
	type seen map[int]int64
	heavyEnd := seen{5: 2, 20: 2, 40: 2, 60: 2, 75: 2, 85: 16, 95: 20}
	for _, c := range []struct {
		name        string
		before, own seen
		frames      string // asked for; empty for all
		want        int64
	}{
		{"nothing was measured", nil, nil, "", 0},
		{"one frame tells about all", nil, seen{7: 3}, "60-70", 3},
		{"the nearest before and after, whichever is more", nil, seen{10: 2, 90: 9}, "40-50", 9},
		{"what is measured beats what is near", nil, heavyEnd, "1-75", 2},
		{"one heavy stretch among many", nil, heavyEnd, "1-10,80-86", 16},
		{"all frames", nil, heavyEnd, "", 20},
		{"the run before tells about what is not reached yet", heavyEnd, seen{1: 2, 3: 2}, "50-100", 20},
		{"and of a run that has told nothing", heavyEnd, nil, "1-60", 2},
		{"this run takes twice as much", heavyEnd, seen{5: 4, 20: 4}, "80-100", 40},
		{"and what it has measured counts", heavyEnd, seen{5: 2, 95: 3}, "95", 3},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := New()
			teach := func(id farm.RunID, what seen) *farm.Run {
				run, nodes := aRun(id, 100, 1)
				for f, g := range what {
					m.Observe(run, nodes[0], 1, farm.FrameAccepted{Frame: f, RenderSeconds: 1, MemoryBytes: g * gib})
				}
				return run
			}
			if c.before != nil {
				m.Close(teach(1, c.before))
			}
			run := teach(2, c.own)
			var set frames.Set
			if c.frames != "" {
				if err := set.UnmarshalText([]byte(c.frames)); err != nil {
					t.Fatal(err)
				}
			}
			if peak, known := m.Memory(run, set); peak != c.want*gib || known != (c.want > 0) {
				t.Errorf("%.1f GiB (%v), want %d", float64(peak)/gib, known, c.want)
			}
		})
	}
}

// TestARunThatEndsEarlyTellsOfItsPart cancels a run before its heavy end.
func TestARunThatEndsEarlyTellsOfItsPart(t *testing.T) {
	m := New()
	for id, peaks := range []map[int]int64{{1: 100, 50: 100, 99: 900}, {1: 200, 20: 200}} {
		run, nodes := aRun(farm.RunID(id+1), 100, 1)
		for f, bytes := range peaks {
			m.Observe(run, nodes[0], 1, farm.FrameAccepted{Frame: f, RenderSeconds: 1, MemoryBytes: bytes})
		}
		m.Close(run)
	}
	run, _ := aRun(3, 100, 1)
	for text, want := range map[string]int64{"1-10": 200, "98-100": 1800} {
		var set frames.Set
		if err := set.UnmarshalText([]byte(text)); err != nil {
			t.Fatal(err)
		}
		if peak, _ := m.Memory(run, set); peak != want {
			t.Errorf("frames %s: %d, want %d", text, peak, want)
		}
	}
}
