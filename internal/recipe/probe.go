package recipe

import (
	"fmt"
	"regexp"
	"strings"
)

// Probe says how to find out whether a machine has the renderer, and which
// versions of it are allowed.
type Probe struct {
	Arguments []string `json:"arguments"`
	Version   string   `json:"version,omitempty"` // pattern; the group is the version
	Least     string   `json:"least,omitempty"`   // oldest version allowed, such as 3.7
	Below     string   `json:"below,omitempty"`   // first version not allowed
	// NoVersion says that the renderer reports no version. A probe without arguments then
	// only looks for the program; one with arguments has to exit with 0.
	NoVersion bool `json:"no_version,omitempty"`
}

// Runs reports whether the program has to be started to answer the probe.
func (p Probe) Runs() bool { return !p.NoVersion || len(p.Arguments) > 0 }

// Probed is the outcome of a probe on a machine that has the program.
type Probed struct {
	Version string // empty: none was found, or the renderer has none
	Unfit   string // why the renderer cannot be used; empty: it can
	Failed  bool   // the probe itself failed: another try may succeed
}

// Read interprets what the program printed and how it exited; ended is empty for exit
// status 0. Some renderers report their version and exit with an error: the version counts.
func (p Probe) Read(printed, ended string) Probed {
	if p.NoVersion {
		if ended != "" {
			return Probed{Unfit: "its probe failed: " + ended, Failed: true}
		}
		return Probed{}
	}
	if m := regexp.MustCompile(p.Version).FindStringSubmatch(printed); m != nil {
		return Probed{Version: m[1], Unfit: p.Unfit(m[1])}
	}
	why := "its probe printed no version"
	if strings.TrimSpace(printed) == "" {
		why = "its probe printed nothing"
	}
	if ended != "" {
		why += " and ended with " + ended
	}
	return Probed{Unfit: why, Failed: true}
}

// Unfit returns why a version of the renderer is not allowed; "" if it is.
func (p Probe) Unfit(version string) string {
	if p.Least == "" && p.Below == "" {
		return ""
	}
	have, err := versionIn(version)
	if err != nil {
		return err.Error()
	}
	if least, err := versionIn(p.Least); err == nil && have.Compare(least) < 0 {
		return fmt.Sprintf("it is version %s; the recipe needs %s or later", version, p.Least)
	}
	if below, err := versionIn(p.Below); err == nil && have.Compare(below) >= 0 {
		return fmt.Sprintf("it is version %s; the recipe needs a version before %s", version, p.Below)
	}
	return ""
}

// check returns what is wrong with a probe that fits the schema, by field.
func (p Probe) check() map[string]string {
	found := map[string]string{}
	for field, text := range map[string]string{"least": p.Least, "below": p.Below} {
		if _, err := versionIn(text); text != "" && err != nil {
			found[field] = err.Error()
		}
		if text != "" && p.NoVersion {
			found[field] = "a renderer with no_version has no version to compare; remove one of the two"
		}
	}
	switch {
	case p.Version == "" && !p.NoVersion:
		found["version"] = "write the pattern of its version, or no_version: true if it reports none"
	case p.Version != "" && p.NoVersion:
		found["version"] = "a renderer with no_version has none; remove one of the two"
	}
	return found
}
