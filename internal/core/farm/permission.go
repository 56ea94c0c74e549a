package farm

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Permission is an account or a group that an administrator allows renderers on a node to
// run under, beside the account that the node gives them: account=NAME or group=NAME. The
// machine's own administrator must have allowed the same where the node process is started.
type Permission string

// Prefixes of a [Permission].
const (
	permitAccount = "account="
	permitGroup   = "group="
)

// ErrRoot says that a name is that of the account or the group that may do everything.
var ErrRoot = errors.New("renderers never run as root, or in its group")

// Check returns an error that says what is wrong with a permission, if anything.
func (p Permission) Check() error {
	name, isAccount := strings.CutPrefix(string(p), permitAccount)
	name, isGroup := strings.CutPrefix(name, permitGroup)
	switch {
	case isAccount == isGroup || !accountName.MatchString(name):
		return fmt.Errorf("%q is not a permission; write account=NAME or group=NAME", p)
	case IsRoot(name):
		return ErrRoot
	}
	return nil
}

// IsRoot reports whether an account or a group is the one that may do everything, under the
// names that it has on any system. A node also refuses it by its number.
func IsRoot(name string) bool {
	_, after, inDomain := strings.Cut(name, `\`)
	if inDomain {
		name = after
	}
	if strings.Trim(name, "0") == "" {
		return name != ""
	}
	switch strings.ToLower(name) {
	case "root", "wheel", "system", "localsystem", "administrator", "administrators":
		return true
	}
	return false
}

// Wants returns what must be allowed on a node to launch renderers so, where usual is the
// account that the node gives them anyway.
func (e LaunchSettings) Wants(usual string) (out []Permission) {
	if e.Account != "" && e.Account != usual {
		out = append(out, Permission(permitAccount+e.Account))
	}
	if e.Group != "" {
		out = append(out, Permission(permitGroup+e.Group))
	}
	return out
}

// Forbids returns an error that says what of launch settings is not allowed on a node, by an
// administrator of the farm or by that of the machine.
func (n *Node) Forbids(e LaunchSettings) error {
	for _, want := range e.Wants(n.Facts.Means.RendersAs) {
		what := strings.Replace(string(want), "=", " ", 1)
		switch {
		case want.Check() != nil:
			return fmt.Errorf("renderers would run under %s: %w", what, want.Check())
		case !slices.Contains(n.Settings.Permits, want):
			return fmt.Errorf(
				"renderers would run under %s, which no administrator has allowed on %s. An administrator allows it "+
					"with: vexillum nodes set %s --permit %s",
				what, n.Name, n.Name, want,
			)
		case n.Facts.Means.Account != "" && !slices.Contains(n.Facts.Means.Permits, string(want)):
			return fmt.Errorf(
				"renderers would run under %s, which the machine %s itself does not allow. Its administrator allows it by "+
					"starting the node process with: vexillum join --permit %s",
				what, n.Name, want,
			)
		}
	}
	return nil
}
