package node

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"vexillum/internal/recipe"
	"vexillum/internal/wire"
)

// program writes a shell script and returns its path.
func program(t *testing.T, path, text string) string {
	t.Helper()
	if err := os.WriteFile(path, []byte("#!/bin/sh\n"+text+"\n"), 0o755); err != nil {
		t.Fatal(err)
	}
	return path
}

func TestRenderersAreFoundByRunningThem(t *testing.T) {
	dir := t.TempDir()
	tool := program(t, filepath.Join(dir, "tool"), "echo tool version 4.2 >&2; exit 3")
	mute := program(t, filepath.Join(dir, "mute"), "echo no licence; exit 9")
	probe := recipe.Probe{Version: `version (\S+)`}
	recipes := []recipe.Recipe{
		{Name: "there", Program: recipe.ProgramNamed(tool), Probe: probe},
		{Name: "gone", Program: recipe.ProgramNamed(filepath.Join(dir, "gone")), Probe: probe},
		{Name: "mute", Program: recipe.ProgramNamed(mute), Probe: probe},
		{Name: "plain", Program: recipe.ProgramNamed(mute), Probe: recipe.Probe{NoVersion: true}},
	}
	c := commandsHere(t)
	found := c.findRenderers(t.Context(), recipes, nil)
	want := []wire.Renderer{
		{Recipe: "there", Version: "4.2", Path: tool},
		{
			Recipe: "mute", Path: mute, Unfit: "its probe printed no version and ended with exit status 9", Failed: true,
			Printed: "no licence",
		},
		{Recipe: "plain", Path: mute},
	}
	if len(found) != len(want) {
		t.Fatalf("found %+v", found)
	}
	for i := range want {
		if found[i] != want[i] {
			t.Errorf("found %+v, want %+v", found[i], want[i])
		}
	}
	if found := c.findRenderers(t.Context(), recipes, []string{"gone"}); len(found) != 0 {
		t.Errorf("found %+v", found)
	}
}

// TestFailedProbesAreRepeated repeats a probe that failed and looks again for a program that was
// not there; a renderer that was found is left alone.
func TestFailedProbesAreRepeated(t *testing.T) {
	dir := t.TempDir()
	runs := filepath.Join(dir, "runs")
	good := program(t, filepath.Join(dir, "good"), "echo run >> "+runs+"; echo version 1.0")
	late := program(t, filepath.Join(dir, "late"), "echo starting up")
	probe := recipe.Probe{Version: `version (\S+)`}
	known := &knownRecipes{}
	for name, path := range map[string]string{"good": good, "late": late, "new": filepath.Join(dir, "new")} {
		*known = append(*known, knownRecipe{
			recipe.Recipe{Name: name, Program: recipe.ProgramNamed(path), Probe: probe}, wire.RecipeMarks{Newest: true},
		})
	}
	c := commandsHere(t)
	a := &Agent{starter: c.launcher, accounts: c.accounts, search: newSearch(), o: Options{Dir: c.staging}}
	a.o.Told = func(string) {}
	a.recipes.Store(known)
	if err := os.MkdirAll(a.staging(), 0o700); err != nil {
		t.Fatal(err)
	}
	if found := a.findAll(t.Context()); len(found) != 2 {
		t.Fatalf("found at first: %+v", found)
	}
	if found, changed := a.searchFailed(t.Context()); changed {
		t.Errorf("nothing changed, and other renderers were found: %+v", found)
	}
	program(t, filepath.Join(dir, "late"), "echo version 2.0")
	program(t, filepath.Join(dir, "new"), "echo version 3.0")
	found, changed := a.searchFailed(t.Context())
	versions := map[string]string{}
	for _, r := range found {
		versions[r.Recipe] = r.Version
	}
	if !changed || versions["good"] != "1.0" || versions["late"] != "2.0" || versions["new"] != "3.0" {
		t.Errorf("changed %v, found %+v", changed, found)
	}
	if text, err := os.ReadFile(runs); err != nil || strings.Count(string(text), "run") != 1 {
		t.Errorf("the probe of a renderer that was found ran again: %q, %v", text, err)
	}
}

// TestProbePausesGrow checks the pauses between tries: short at first, and bounded.
func TestProbePausesGrow(t *testing.T) {
	last := time.Duration(0)
	for try := range 40 {
		pause := probePause(try)
		if pause < last || pause > mostProbePause || try == 0 && pause != firstProbePause {
			t.Fatalf("before try %d: %v after %v", try, pause, last)
		}
		last = pause
	}
	if last != mostProbePause {
		t.Errorf("the longest pause is %v, want %v", last, mostProbePause)
	}
}
