package capacity

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/span"
)

// FreezeReason says why a node may not begin with a run now because a person holds
// its place, its recipe or the node's pool, or releases it in steps; "" if it
// may.
func FreezeReason(s *farm.State, n *farm.Node, run *farm.Run, now time.Time) string {
	if len(s.Freezes) == 0 {
		return ""
	}
	for _, of := range inOrder(s.Freezes) {
		stay := s.Freezes[of]
		if !s.Concerns(of, n, run) {
			continue
		}
		if stay.Held {
			return heldText(of, stay)
		}
		at := s.At(of)
		if most := stay.Nodes(now); len(at) >= most && !at[n.ID] {
			return fmt.Sprintf(
				"%s is released in steps of %s every %s; %d may work with it now", of,
				english.Plural(stay.Step, "node", ""), span.Text(time.Duration(stay.Every)*time.Second), most,
			)
		}
	}
	return ""
}

func heldText(of farm.FreezeScope, stay farm.Freeze) string {
	text := fmt.Sprintf("%s is held by %s", of, stay.By)
	if stay.Reason != "" {
		text += ": " + stay.Reason
	}
	return text
}

// FrozenWith returns what a run on a node is held with, as a sentence: its place,
// its recipe or the node's pool. n may be nil. It is "" where it is not.
func FrozenWith(s *farm.State, n *farm.Node, run *farm.Run) string {
	for _, of := range inOrder(s.Freezes) {
		if stay := s.Freezes[of]; stay.Held && s.Concerns(of, n, run) {
			return heldText(of, stay)
		}
	}
	return ""
}

// ThawedSteps returns the stays that were released in steps and hold nobody up any
// more, in order.
func ThawedSteps(s *farm.State, now time.Time) []farm.FreezeScope {
	var out []farm.FreezeScope
	for _, of := range inOrder(s.Freezes) {
		if stay := s.Freezes[of]; !stay.Held && stay.Nodes(now) >= len(s.Nodes) {
			out = append(out, of)
		}
	}
	return out
}

func inOrder(stays map[farm.FreezeScope]farm.Freeze) []farm.FreezeScope {
	if len(stays) == 0 {
		return nil // as nearly always, and it is asked for each run on each node
	}
	return slices.SortedFunc(maps.Keys(stays), func(a, b farm.FreezeScope) int {
		return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Name, b.Name))
	})
}
