package farm

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// LaunchScope names what LaunchSettings are for: launches for a project, with
// a recipe, with that recipe for that project, or all ("" and "").
type LaunchScope struct {
	Project string `json:"project"`
	Recipe  string `json:"recipe"`
}

// String names it for sentences.
func (o LaunchScope) String() string {
	switch {
	case o.Project == "" && o.Recipe == "":
		return "the farm"
	case o.Recipe == "":
		return "project " + o.Project
	case o.Project == "":
		return "recipe " + o.Recipe
	}
	return fmt.Sprintf("recipe %s in project %s", o.Recipe, o.Project)
}

// LaunchSettings are the account, group and file mask that renderers run with,
// and the variables in their environment. What is empty is not set.
type LaunchSettings struct {
	Account   string            `json:"account"` // on the nodes
	Group     string            `json:"group"`
	Mask      string            `json:"mask"` // octal: permissions that new files do not get, such as 002
	Variables map[string]string `json:"variables"`
}

// Empty reports whether nothing is set.
func (e LaunchSettings) Empty() bool {
	return e.Account == "" && e.Group == "" && e.Mask == "" && len(e.Variables) == 0
}

// Limits of launch settings.
const (
	mostVariables   = 200
	longestVariable = 4000
)

var (
	variableName = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]{0,99}$`)
	accountName  = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9_.@\\-]{0,99}$`)
	maskText     = regexp.MustCompile(`^0?[0-7]{3}$`)
)

// Check returns an error that says what is wrong, if anything. field is the
// JSON name of the part that is.
func (e LaunchSettings) Check() (field string, err error) {
	switch {
	case e.Account != "" && !accountName.MatchString(e.Account):
		return "account", fmt.Errorf("%q is not a valid account name", e.Account)
	case e.Group != "" && !accountName.MatchString(e.Group):
		return "group", fmt.Errorf("%q is not a valid group name", e.Group)
	case IsRoot(e.Account):
		return "account", ErrRoot
	case IsRoot(e.Group):
		return "group", ErrRoot
	case e.Mask != "" && !maskText.MatchString(e.Mask):
		return "mask", fmt.Errorf("%q is not a file mask; write it like 002 or 027", e.Mask)
	case len(e.Variables) > mostVariables:
		return "variables", fmt.Errorf("there are more than %d variables", mostVariables)
	}
	for _, name := range slices.Sorted(maps.Keys(e.Variables)) {
		value := e.Variables[name]
		switch {
		case !variableName.MatchString(name):
			return "variables", fmt.Errorf("%q is not a valid name for a variable", name)
		case strings.HasPrefix(strings.ToUpper(name), "VEXILLUM_") || strings.HasPrefix(strings.ToUpper(name), "LEASE_"):
			return "variables", fmt.Errorf("the variable %s is set by the farm itself", name)
		case len(value) > longestVariable || strings.ContainsAny(value, "\x00\n\r"):
			return "variables", fmt.Errorf(
				"the value of %s must be one line of at most %d characters", name, longestVariable,
			)
		}
	}
	return "", nil
}

// Permissions returns the mask as a number, and false where none is said.
func (e LaunchSettings) Permissions() (mask int, said bool) {
	n, err := strconv.ParseUint(e.Mask, 8, 12)
	return int(n), err == nil
}

// over returns e with what more says put over it.
func (e LaunchSettings) over(more LaunchSettings) LaunchSettings {
	e.Account = cmp.Or(more.Account, e.Account)
	e.Group = cmp.Or(more.Group, e.Group)
	e.Mask = cmp.Or(more.Mask, e.Mask)
	if len(more.Variables) > 0 {
		variables := maps.Clone(e.Variables)
		if variables == nil {
			variables = map[string]string{}
		}
		maps.Copy(variables, more.Variables)
		e.Variables = variables
	}
	return e
}

// LaunchSettingsFor returns what launches of a recipe for a project get: what is
// said for the farm, then for the recipe, the project, and both. The later
// wins.
func (s *State) LaunchSettingsFor(project, recipe string) LaunchSettings {
	var out LaunchSettings
	for _, of := range []LaunchScope{{}, {Recipe: recipe}, {Project: project}, {project, recipe}} {
		if e, said := s.LaunchSettings[of]; said {
			out = out.over(e)
		}
	}
	return out
}

// Means says how a node can hold renderers to what they are given.
type Means struct {
	Account string `json:"account"` // whom the node process runs as
	// RendersAs is the account that renderers get when nobody names one; empty: not known.
	RendersAs string `json:"renders_as"`
	// Permits is what the machine's administrator allows beyond that, as account=NAME and group=NAME.
	Permits  []string `json:"permits"`
	Switches bool     `json:"switches"` // it can start renderers as others
	Memory   string   `json:"memory"`   // by what memory is limited: control group, resource limit, job object or told
	Pins     bool     `json:"pins"`     // renderers are held to their cores
}

// CanRunAs returns an error that says why a node cannot start renderers as told.
func (n *Node) CanRunAs(e LaunchSettings) error {
	if err := n.Forbids(e); err != nil {
		return err
	}
	m := n.Facts.Means
	if e.Account == "" || m.Account == "" || m.Switches || m.Account == e.Account || m.RendersAs == e.Account {
		return nil
	}
	return fmt.Errorf(
		"renderers are set to run as %s, but the node process of %s runs as %s and cannot start them under another "+
			"account; start it as %s, or as root",
		e.Account, n.Name, m.Account, e.Account,
	)
}
