package triage

import (
	"fmt"
	"slices"
	"strings"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// names names nodes, in order.
func (j *judgement) names(nodes map[farm.NodeID]bool) string {
	names := make([]string, 0, len(nodes))
	for id := range nodes {
		names = append(names, j.s.NodeName(id))
	}
	slices.Sort(names)
	return namesText(names)
}

// FramesText names frames for a sentence: frame 7, frames 7-9.
func FramesText(set frames.Set) string {
	if set.Len() == 1 {
		return fmt.Sprintf("frame %d", set.First())
	}
	return "frames " + set.Brief()
}

func namesText(names []string) string {
	const most = 4
	switch n := len(names); {
	case n == 1:
		return names[0]
	case n > most:
		return fmt.Sprintf("%s and %d others", strings.Join(names[:most-1], ", "), n-most+1)
	default:
		return strings.Join(names[:n-1], ", ") + " and " + names[n-1]
	}
}

func firstLine(text string) string {
	line, _, _ := strings.Cut(strings.TrimSpace(text), "\n")
	if len(line) > 120 {
		line = strings.ToValidUTF8(line[:120], "") + "…"
	}
	if line == "" {
		return "the renderer said nothing"
	}
	return "“" + line + "”"
}
