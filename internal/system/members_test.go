package system

import (
	"strings"
	"testing"

	"vexillum/internal/wire"
)

// TestMembersOnTheCommandLine names members, takes them out, and opens and closes a project.
func TestMembersOnTheCommandLine(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	for _, name := range []string{"nadia", "ines", "tobin"} {
		f.patch("/api/v1/people/"+name, wire.PersonChange{Role: "artist", Password: password})
	}
	for _, c := range []struct {
		flags string // of vexillum project members salt-clock
		says  []string
	}{
		{"", []string{"is open: everybody sees it"}},
		{"--closed", []string{"is closed and has no members: only wranglers see it"}},
		{"--closed=false", []string{"is open"}},
		{"--artist nadia,tobin --lead ines", []string{"only its members and wranglers", "nadia", "artist", "ines", "lead"}},
		{"--open", []string{"is open", "ines", "lead"}},
		{"--remove tobin", []string{"is open", "nadia"}}, // who goes, or is something else, closes nothing
		{"--lead nadia", []string{"is open", "nadia   lead"}},
		{"--artist tobin", []string{"is closed"}},
		{"--open=false --remove tobin,ines,nadia", []string{"is closed and has no members"}},
	} {
		out := f.must(append([]string{"project", "members", "salt-clock"}, strings.Fields(c.flags)...)...)
		for _, text := range c.says {
			if !strings.Contains(out, text) {
				t.Errorf("members %s does not say %q: %s", c.flags, text, out)
			}
		}
		if strings.Contains(c.flags, "--remove tobin") && strings.Contains(out, "tobin") {
			t.Errorf("members %s leaves tobin: %s", c.flags, out)
		}
	}
	if out := f.must("project", "list"); !strings.Contains(out, "wranglers") {
		t.Error(out)
	}
	for flags, says := range map[string]string{
		"--artist nobody":               `there is nobody called "nobody"`,
		"--artist nadia --lead nadia":   "nadia is named twice",
		"--remove tobin":                `"tobin" does not belong to salt-clock`,
		"--open --closed":               "either open or closed",
		"--artist=":                     "--artist is empty",
		"--artist nadia, --lead= --yes": "unknown flag",
	} {
		args := append([]string{"project", "members", "salt-clock"}, strings.Fields(flags)...)
		if _, stderr, code := f.vexillum(args...); code == 0 || !strings.Contains(stderr, says) {
			t.Errorf("members %s: %d %s", flags, code, stderr)
		}
	}
}
