package farm

import (
	"fmt"
	"slices"
	"strings"
)

// Permission is what only an administrator allows renderers on a node: with it
// who sets the variables of renderers rules the machine.
type Permission string

// The permissions.
const (
	PermitRoot Permission = "root" // to run as the account that may do all
	PermitCode Permission = "code" // to be given variables that make programs load other code
)

// Permissions are all there are.
var Permissions = []Permission{PermitCode, PermitRoot}

// IsRoot reports whether an account or a group is the one that may do all,
// under the names that it has on any system.
func IsRoot(name string) bool {
	_, after, inDomain := strings.Cut(name, `\`)
	if inDomain {
		name = after
	}
	switch strings.ToLower(name) {
	case "root", "wheel", "0", "00", "000", "system", "localsystem", "administrator", "administrators":
		return true
	}
	return false
}

var (
	codeVariables = []string{
		"PATH", "PATHEXT", "ENV", "BASH_ENV", "SHELLOPTS", "BASHOPTS", "IFS", "PS4", "GCONV_PATH", "LOCPATH", "NLSPATH",
		"PYTHONPATH", "PYTHONHOME", "PYTHONSTARTUP", "PYTHONUSERBASE", "PYTHONINSPECT", "PERL5LIB", "PERL5OPT",
		"PERLLIB", "RUBYLIB", "RUBYOPT", "NODE_OPTIONS", "NODE_PATH", "CLASSPATH", "JAVA_TOOL_OPTIONS", "_JAVA_OPTIONS",
		"JDK_JAVA_OPTIONS", "LUA_PATH", "LUA_CPATH", "LUA_INIT", "TCLLIBPATH", "QT_PLUGIN_PATH",
		"QT_QPA_PLATFORM_PLUGIN_PATH", "GTK_MODULES", "GTK_PATH", "GIO_EXTRA_MODULES", "COMSPEC", "OPENSSL_CONF",
		"OPENSSL_MODULES", "OPENSSL_ENGINES", "VK_LAYER_PATH", "VK_ICD_FILENAMES", "OCL_ICD_VENDORS",
	}
	codePrefixes = []string{"LD_", "DYLD_", "_RLD", "BASH_FUNC_"}
)

// LoadsCode reports whether a variable makes programs load other code than
// their own.
func LoadsCode(variable string) bool {
	name := strings.ToUpper(variable)
	return slices.Contains(codeVariables, name) ||
		slices.ContainsFunc(codePrefixes, func(p string) bool { return strings.HasPrefix(name, p) })
}

// Wants returns what an administrator must have allowed on a node for this,
// and for which part of it.
func (e LaunchSettings) Wants() map[Permission]string {
	out := map[Permission]string{}
	for _, name := range []string{e.Account, e.Group} {
		if IsRoot(name) {
			out[PermitRoot] = "run as " + name
		}
	}
	var code []string
	for name := range e.Variables {
		if LoadsCode(name) {
			code = append(code, name)
		}
	}
	if len(code) > 0 {
		slices.Sort(code)
		out[PermitCode] = "be given " + strings.Join(code, ", ")
	}
	return out
}

// Forbids returns an error that says what of launch settings nobody has allowed
// on a node.
func (n *Node) Forbids(e LaunchSettings) error {
	wants := e.Wants()
	for _, p := range Permissions {
		if what := wants[p]; what != "" && !slices.Contains(n.Settings.Permits, p) {
			return fmt.Errorf(
				"renderers would %s, which no administrator has allowed on %s. An administrator allows it with: "+
					"vexillum nodes set %s --permit %s",
				what, n.Name, n.Name, p,
			)
		}
	}
	return nil
}
