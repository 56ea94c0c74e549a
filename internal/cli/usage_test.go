package cli

import (
	"bytes"
	"strings"
	"testing"

	"github.com/spf13/cobra"
)

// TestMistakesInUsageExitWith2 calls commands wrongly: each names the mistake and what was meant,
// before any service is asked.
func TestMistakesInUsageExitWith2(t *testing.T) {
	t.Setenv("VEXILLUM_ACCESS", t.TempDir()+"/none.json")
	for call, says := range map[string]string{
		"help nonsense":                       `vexillum has no command "nonsense"`,
		"help nodes hodl":                     "did you mean hold?",
		"queu":                                "did you mean queue?",
		"nodes hodl":                          "did you mean hold?",
		"rendr":                               `vexillum has no command "rendr"; see vexillum --help`,
		"place frob":                          "it has drop",
		"recipe chekc":                        "did you mean check?",
		"why":                                 "needs the name of a run or node",
		"diff a b c":                          "needs the name of a run",
		"show":                                "needs the name",
		"change salt_010 --priority nonsense": `"nonsense" is not a priority`,
		"submit a.pov --project salt-clock --frames 1 --priority x": `"x" is not a priority`,
		"trouble --since 5x": "it takes a time",
	} {
		out, errs := &bytes.Buffer{}, &bytes.Buffer{}
		a := &app{out: screen{to: out}, err: screen{to: errs}}
		args := strings.Fields(call)
		root := a.root()
		root.PersistentPreRunE = func(c *cobra.Command, _ []string) error { return priorityFlag(c) }
		root.SetArgs(args)
		err := root.ExecuteContext(t.Context())
		if err == nil {
			t.Errorf("vexillum %s: no mistake was found", call)
			continue
		}
		err = unknownCommand(root, args, err)
		if code := exitCode(err); code != exitUsage || !strings.Contains(err.Error(), says) {
			t.Errorf("vexillum %s: exit code %d, %v; want %q", call, code, err, says)
		}
	}
}
