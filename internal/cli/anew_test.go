//go:build unix

package cli

import (
	"slices"
	"testing"
)

// TestASecretIsTakenOffTheCommandLine leaves everything but the secret where it is.
func TestASecretIsTakenOffTheCommandLine(t *testing.T) {
	for _, c := range []struct {
		name string
		args []string
		rest []string
	}{
		{"apart", []string{"vexillum", "join", "--key", "vxk_1", "--name", "a"}, []string{"vexillum", "join", "--name", "a"}},
		{"with a sign", []string{"vexillum", "join", "--key=vxk_1", "http://a"}, []string{"vexillum", "join", "http://a"}},
		{"twice", []string{"vexillum", "--key=vxk_1", "--key", "vxk_1"}, []string{"vexillum"}},
		{"another value", []string{"vexillum", "--name", "vxk_1"}, []string{"vexillum", "--name", "vxk_1"}},
		{"of a file", []string{"vexillum", "--key-file", "vxk_1"}, []string{"vexillum", "--key-file", "vxk_1"}},
	} {
		rest, shown := withoutArgument(c.args, "--key", "vxk_1")
		if !slices.Equal(rest, c.rest) || shown != (len(rest) != len(c.args)) {
			t.Errorf("%s: %v, %v", c.name, rest, shown)
		}
	}
	if rest, shown := withoutArgument([]string{"vexillum", "join", "--key", ""}, "--key", ""); shown || len(rest) != 4 {
		t.Error("an empty key is no key")
	}
}
