package capacity

import (
	"fmt"

	"vexillum/internal/core/farm"
)

// Nowhere says that no node can take a run.
func Nowhere(run *farm.Run, obstacle string) string {
	if obstacle != "" {
		return "no node that has " + run.Spec.Recipe + " may take it; for one: " + obstacle
	}
	return fmt.Sprintf("no node has %s; install it on one and restart its node process", run.Spec.Recipe)
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
		if _, has := n.Facts.Renderer(run.Spec.Recipe); has {
			obstacle = Unfit(s, n, run)
		}
	}
	return Nowhere(run, obstacle)
}
