package system

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"vexillum/internal/wire"
)

// TestAFailedProbeIsShownAndRepeated adds a recipe whose renderer reports no version yet: the
// queue says what its probe printed, raises no alarm at once, and a probe on demand finds it.
func TestAFailedProbeIsShownAndRepeated(t *testing.T) {
	f := newFarm(t)
	f.signIn()
	f.join("kiln-01", "--renderers", "practice,grade")
	tool := filepath.Join(f.dir, "grade")
	renderer := func(text string) {
		if err := os.WriteFile(tool, []byte("#!/bin/sh\n"+text+"\n"), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	renderer("echo grade: licence file not found; exit 4")
	recipe := filepath.Join(f.dir, "grade.yaml")
	if err := os.WriteFile(recipe, []byte(`recipe: 2
name: grade
title: Grade
mode: single
stop: kill
program: `+tool+`
probe: {arguments: ["-v"], version: 'grade (\d+\.\d+)', least: "2.0"}
scenes: [".grade"]
picture: png
frame_name: "{frame}.png"
arguments: ["{scene}"]
`), 0o644); err != nil {
		t.Fatal(err)
	}
	if out, _, code := f.vexillum("recipe", "check", recipe); code != 1 ||
		!strings.Contains(out, "its probe printed no version and ended with exit status 4") ||
		!strings.Contains(out, "licence file not found") {
		t.Errorf("recipe check ended with %d: %s", code, out)
	}
	f.scene("look.grade", "a scene")
	f.must("recipe", "add", recipe)
	f.must("submit", "look.grade", "--project", "salt-clock", "--frames", "1-3")
	if out := f.must("hands"); strings.Contains(out, "No node can take") {
		t.Errorf("an alarm right after the recipe was added: %s", out)
	}
	f.wait("the node has probed", func() bool { return len(f.node("kiln-01").Renderers) > 1 })
	if out := f.must("why", "look"); !strings.Contains(out, "licence file not found") {
		t.Errorf("why does not show what the probe printed: %s", out)
	}
	if out, _, code := f.vexillum("nodes", "probe", "kiln-01"); code != 1 ||
		!strings.Contains(out, "licence file not found") {
		t.Errorf("nodes probe ended with %d: %s", code, out)
	}
	renderer("echo grade 1.5")
	if out, errs, code := f.vexillum("recipe", "try", recipe, filepath.Join(f.dir, "scenes", "look.grade")); code == 0 ||
		!strings.Contains(out+errs, "needs 2.0 or later") {
		t.Errorf("recipe try ended with %d: %s", code, out)
	}
	renderer("echo grade 2.1")
	if out := f.must("nodes", "probe", "kiln-01"); !strings.Contains(out, "2.1") {
		t.Errorf("nodes probe: %s", out)
	}
	f.wait("the run has a node", func() bool {
		for _, r := range f.node("kiln-01").Renderers {
			if r.Recipe == "grade" {
				return r.Version == "2.1" && r.Unfit == ""
			}
		}
		return false
	})
	var none []wire.NodeProbe
	if err := f.admin.Do(t.Context(), "POST", "/api/v1/node-probes", wire.Selection{}, &none); err == nil {
		t.Error("nodes are probed without being named")
	}
}
