package recipe

import (
	"strings"
	"testing"
)

// TestProbesAreRead reads what programs print and how they exit.
func TestProbesAreRead(t *testing.T) {
	version := Probe{Version: `Glass (\d+(?:\.\d+)+)`, Least: "2.0", Below: "3"}
	for name, c := range map[string]struct {
		probe          Probe
		printed, ended string
		want           Probed
	}{
		"it fits":                  {version, "Glass 2.4", "", Probed{Version: "2.4"}},
		"it exits with an error":   {version, "Glass 2.4\nno scene", "exit status 1", Probed{Version: "2.4"}},
		"it is too old":            {version, "Glass 1.9", "", Probed{Version: "1.9", Unfit: "it is version 1.9; the recipe needs 2.0 or later"}},
		"it is too new":            {version, "Glass 3.0", "", Probed{Version: "3.0", Unfit: "it is version 3.0; the recipe needs a version before 3"}},
		"it prints something else": {version, "no licence", "exit status 3", Probed{Unfit: "its probe printed no version and ended with exit status 3", Failed: true}},
		"it prints nothing":        {version, "", "", Probed{Unfit: "its probe printed nothing", Failed: true}},
		"it has no version":        {Probe{NoVersion: true, Arguments: []string{"--help"}}, "usage", "", Probed{}},
		"it has none and fails":    {Probe{NoVersion: true}, "", "exit status 127", Probed{Unfit: "its probe failed: exit status 127", Failed: true}},
	} {
		if got := c.probe.Read(c.printed, c.ended); got != c.want {
			t.Errorf("%s: read as %+v, want %+v", name, got, c.want)
		}
	}
}

// TestProbesWithoutAVersion checks which probes a recipe may have.
func TestProbesWithoutAVersion(t *testing.T) {
	const rest = "recipe: 2\nname: glass\ntitle: Glass\nmode: single\nstop: kill\nprogram: glass\n" +
		"scenes: ['.glass']\npicture: png\nframe_name: \"{frame}.png\"\narguments: ['{scene}']\n"
	for probe, wrong := range map[string]string{
		"{arguments: [], no_version: true}":                     "",
		"{arguments: ['--version'], version: 'v(\\d+)'}":        "",
		"{arguments: []}":                                       "write the pattern of its version",
		"{arguments: [], no_version: true, version: 'v(\\d+)'}": "has none",
		"{arguments: [], no_version: true, least: '3'}":         "no version to compare",
	} {
		_, err := Parse([]byte(rest + "probe: " + probe + "\n"))
		if (err == nil) != (wrong == "") || err != nil && !strings.Contains(err.Error(), wrong) {
			t.Errorf("%s: %v, want %q", probe, err, wrong)
		}
	}
	if (Probe{NoVersion: true}).Runs() || !(Probe{NoVersion: true, Arguments: []string{"-h"}}).Runs() {
		t.Error("a probe without a version runs only with arguments")
	}
}
