package capacity

import (
	"fmt"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/farm"
)

// Fits reports whether a run can use a node, whatever the time is: it has the
// renderer, fulfils the needs, is large enough and in no pool that is closed to
// the project.
func Fits(s *farm.State, n *farm.Node, run *farm.Run) bool {
	if r, ok := n.Facts.Renderer(run.Spec.Recipe); !ok || s.Missing[run.Spec.Recipe] || otherVersion(r, run) {
		return false
	}
	if needs := run.Needs(); needs.String() != "" && !needs.Matches(n.KnownTraits()) {
		return false
	}
	if TooSmall(n, run) != "" {
		return false
	}
	if len(s.LaunchSettings) > 0 && n.CanRunAs(s.LaunchSettingsFor(run.Spec.Project, run.Spec.Recipe)) != nil {
		return false
	}
	if len(s.Sights) > 0 && s.Blind(n, run) != "" {
		return false
	}
	return len(n.Settings.Pools) == 0 || s.Admits(n, run.Spec.Project) == nil
}

// otherVersion reports whether a renderer is of another version than the one that a
// run's frames come from.
func otherVersion(r farm.Renderer, run *farm.Run) bool {
	return run.Terms.Renderer != "" && r.Version != "" && r.Version != run.Terms.Renderer && run.Begun()
}

// Binds returns the version of a node's renderer that a run is bound to with its first
// lease on it, if it is not bound to it already.
func Binds(n *farm.Node, run *farm.Run) (version string, binds bool) {
	r, _ := n.Facts.Renderer(run.Spec.Recipe)
	return r.Version, r.Version != "" && r.Version != run.Terms.Renderer && (run.Terms.Renderer == "" || !run.Begun())
}

// TooSmall says why no lease of the run can ever be on the node, however empty
// it is; "" if one can.
func TooSmall(n *farm.Node, run *farm.Run) string {
	takes := run.Spec.Takes
	if takes.Cores > 0 && takes.Cores > max(1, n.OfferedCores()) {
		return fmt.Sprintf(
			"%s takes %s a lease, and the farm may use %d of %s", run.Spec.Name(),
			english.Plural(takes.Cores, "core", ""), max(1, n.OfferedCores()), n.Name,
		)
	}
	if takes.MemoryBytes > 0 || takes.Devices > 0 {
		offer := n.Offer()
		if offer.MemoryBytes > 0 && takes.MemoryBytes > offer.MemoryBytes {
			return fmt.Sprintf(
				"%s takes %s of memory a lease, and the farm may use %s of %s", run.Spec.Name(),
				bytes(takes.MemoryBytes), bytes(offer.MemoryBytes), n.Name,
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

// Able returns how many nodes that are online a run could use.
func Able(s *farm.State, run *farm.Run) (count int) {
	for _, n := range s.Nodes {
		if n.Reach == farm.Online && n.RetiredAt.IsZero() && Fits(s, n, run) {
			count++
		}
	}
	return count
}

// Willing returns how many nodes will take a run as they are: online, able, and neither held,
// draining nor set aside. Nodes outside their duty hours count: they come back by themselves.
func Willing(s *farm.State, run *farm.Run) (count int) {
	for _, n := range s.Nodes {
		kept := n.Duty == farm.Held || n.Duty == farm.Draining || n.Health == farm.Sidelined
		if n.Reach == farm.Online && n.RetiredAt.IsZero() && !kept && Fits(s, n, run) {
			count++
		}
	}
	return count
}

// Unfit says why a run cannot use a node that does not fit it.
func Unfit(s *farm.State, n *farm.Node, run *farm.Run) string {
	name := run.Spec.Name()
	if s.Missing[run.Spec.Recipe] {
		return MissingText(run)
	}
	if r, fit := n.Facts.Renderer(run.Spec.Recipe); !fit {
		if r.Unfit != "" {
			return fmt.Sprintf(
				"%s cannot use %s of %s: %s%s", name, run.Spec.Recipe, n.Name, r.Unfit, farm.Quoted(r.Printed),
			)
		}
		return fmt.Sprintf("%s needs %s, which %s does not have", name, run.Spec.Recipe, n.Name)
	}
	if r, _ := n.Facts.Renderer(run.Spec.Recipe); otherVersion(r, run) {
		return fmt.Sprintf(
			"%s has %s %s, and frames of %s come from %s; to go on with any: vexillum change %s --renderer any", n.Name,
			run.Spec.Recipe, r.Version, name, run.Terms.Renderer, name,
		)
	}
	if missing := run.Needs().Missing(n.KnownTraits()); missing != "" {
		return fmt.Sprintf("%s needs %s, which %s does not fulfil", name, missing, n.Name)
	}
	if why := TooSmall(n, run); why != "" {
		return why
	}
	if err := n.CanRunAs(s.LaunchSettingsFor(run.Spec.Project, run.Spec.Recipe)); err != nil {
		return err.Error()
	}
	if why := s.Blind(n, run); why != "" {
		return fmt.Sprintf(
			"%s cannot read the scene of %s: %s; mount the place there, or submit with --bundle", n.Name, name, why,
		)
	}
	return fmt.Sprintf("%s cannot have %s: %v", name, n.Name, s.Admits(n, run.Spec.Project))
}

// MissingText says that a run waits for its recipe.
func MissingText(run *farm.Run) string {
	return fmt.Sprintf(
		"the service has no recipe %s any more; put it back into the folder of --recipes and start the service again",
		run.Spec.Recipe,
	)
}
