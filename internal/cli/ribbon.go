package cli

import (
	"fmt"
	"strings"

	"vexillum/internal/core/frames"
	"vexillum/internal/wire"
)

// ribbonGlyphs draw frames in a row, the worst state first: in a bin of
// several frames it wins.
var ribbonGlyphs = []struct{ word, glyph string }{
	{
		"parked", "▣",
	},
	{"failed", "✕"}, {"rendering", "▄"}, {"verifying", "▅"}, {"delivering", "▆"}, {"to do", "·"}, {"dealt", "·"},
	{"done", "█"},
}

// ribbon draws the frames of a run in at most so many columns.
func ribbon(r wire.Run, columns int, colour bool) string {
	words := map[string]string{
		"parked": r.Sets.Parked, "failed": r.Sets.Failed, "rendering": r.Sets.Rendering, "verifying": r.Sets.Verifying,
		"delivering": r.Sets.Delivering, "to do": r.Sets.ToDo, "dealt": r.Sets.Dealt, "done": r.Sets.Done,
	}
	rank := map[int]int{}
	var all frames.Set
	if err := all.UnmarshalText([]byte(r.Frames)); err != nil || all.Empty() {
		return ""
	}
	for i, g := range ribbonGlyphs {
		var set frames.Set
		if err := set.UnmarshalText([]byte(words[g.word])); err != nil {
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
		bins[i] = len(ribbonGlyphs) - 1
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
		g := ribbonGlyphs[b]
		if colour {
			fmt.Fprintf(&out, sgr+"38;5;%dm%s"+sgr+"0m", paint[g.word].colour, g.glyph)
		} else {
			out.WriteString(g.glyph)
		}
	}
	return out.String()
}
