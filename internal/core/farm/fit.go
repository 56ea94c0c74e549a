package farm

import (
	"fmt"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"
)

// Fits reports whether a run can use a node, whatever the time is: it has the
// renderer, fulfils the needs, is large enough and in no pool that is closed to
// the project.
func (s *State) Fits(n *Node, run *Run) bool {
	if _, ok := n.Facts.Renderer(run.Spec.Recipe); !ok || s.Missing[run.Spec.Recipe] {
		return false
	}
	if needs := run.Needs(); needs.String() != "" && !needs.Matches(n.KnownTraits()) {
		return false
	}
	if !run.Spec.Takes.Whole() && n.TooSmall(run) != "" {
		return false
	}
	if len(s.LaunchSettings) > 0 && n.CanRunAs(s.LaunchSettingsFor(run.Spec.Project, run.Spec.Recipe)) != nil {
		return false
	}
	return len(n.Settings.Pools) == 0 || s.Admits(n, run.Spec.Project) == nil
}

// TooSmall says why no lease of the run can ever be on the node, however empty
// it is; "" if one can.
func (n *Node) TooSmall(run *Run) string {
	takes := run.Spec.Takes
	if takes.Cores > 0 && takes.Cores > max(1, n.OfferedCores()) {
		return fmt.Sprintf(
			"%s takes %s a lease, and the farm may use %d of %s", run.Spec.Name(), english.Plural(takes.Cores, "core", ""),
			max(1, n.OfferedCores()), n.Name,
		)
	}
	if takes.MemoryBytes > 0 || takes.Devices > 0 {
		offer := n.Offer()
		if offer.MemoryBytes > 0 && takes.MemoryBytes > offer.MemoryBytes {
			return fmt.Sprintf(
				"%s takes %s of memory a lease, and the farm may use %s of %s", run.Spec.Name(),
				bytesText(takes.MemoryBytes), bytesText(offer.MemoryBytes), n.Name,
			)
		}
		if takes.Devices > len(offer.Devices) {
			return fmt.Sprintf(
				"%s takes %s a lease, and the farm may use %d of %s", run.Spec.Name(),
				english.Plural(takes.Devices, "graphics device", ""), len(offer.Devices), n.Name,
			)
		}
	}
	return ""
}

func bytesText(n int64) string { return humanize.IBytes(uint64(n)) }
