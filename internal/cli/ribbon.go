package cli

import (
	"fmt"
	"strings"

	"vexillum/internal/core/frames"
	"vexillum/internal/wire"
)

// glyphs draw frames in a row; in a bin of several the worst state wins.
var glyphs = map[wire.FrameState]string{
	"parked": "▣", "failed": "✕", "suspect": "▒", "rendering": "▄", "verifying": "▅", "delivering": "▆", "to do": "·",
	"dealt": "·", "skipped": "▁",
	"done": "█",
}

// ribbon draws the frames of a run in at most as many columns as are given.
func ribbon(r wire.Run, columns int, colour bool) string {
	states := wire.FrameStates()
	rank := map[int]int{}
	var all frames.Set
	if err := all.UnmarshalText([]byte(r.Frames)); err != nil || all.Empty() {
		return ""
	}
	for i, state := range states {
		var set frames.Set
		if err := set.UnmarshalText([]byte(*r.Sets.Of(state))); err != nil {
			return ""
		}
		for f := range set.All() {
			if _, known := rank[f]; !known {
				rank[f] = i
			}
		}
	}
	n := all.Len()
	columns = min(columns, n)
	bins := make([]int, columns)
	for i := range bins {
		bins[i] = len(states) - 1
	}
	position := 0
	for f := range all.All() {
		b := position * columns / n
		if worst, known := rank[f]; known {
			bins[b] = min(bins[b], worst)
		}
		position++
	}
	var out strings.Builder
	for _, b := range bins {
		glyph := glyphs[states[b]]
		if colour {
			fmt.Fprintf(&out, sgr+"38;5;%dm%s"+sgr+"0m", paint[string(states[b])].colour, glyph)
		} else {
			out.WriteString(glyph)
		}
	}
	return out.String()
}
