package capacity

import (
	"fmt"
	"time"

	"vexillum/internal/core/farm"
)

// Nowhere says that no node can take a run.
func Nowhere(run *farm.Run, obstacle string) string {
	if obstacle != "" {
		return "no node can take it; for example: " + obstacle
	}
	return fmt.Sprintf(
		"no node has %s; install it on one, then run: vexillum nodes probe NODE", run.Spec.Recipe,
	)
}

// searchSpan is the time that nodes get to search for the renderer of a new recipe.
const searchSpan = 30 * time.Second

// Searching reports whether nodes may still be searching for the renderer of a run at time now,
// because its recipe has just been added or changed.
func Searching(s *farm.State, run *farm.Run, now time.Time) bool {
	known := s.Recipes[run.Spec.Recipe]
	// Nodes look for the renderers of recipes that came with the program before they ask for work.
	return known != nil && known.Newest().Origin != farm.RecipeShipped && now.Sub(known.Newest().At) < searchSpan
}

// Nobody says why no node of the farm can ever take a run as both are now, or
// nothing where one can.
func Nobody(s *farm.State, run *farm.Run) string {
	if s.Missing[run.Spec.Recipe] {
		return MissingText(run)
	}
	obstacle := ""
	for _, n := range s.NodeList() {
		if !n.RetiredAt.IsZero() {
			continue
		}
		if Fits(s, n, run) {
			return ""
		}
		if r, _ := n.Facts.Renderer(run.Spec.Recipe); r.Recipe != "" {
			obstacle = Unfit(s, n, run)
		}
	}
	return Nowhere(run, obstacle)
}
