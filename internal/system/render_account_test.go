package system

import (
	"fmt"
	"net/http"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"vexillum/internal/account"
	"vexillum/internal/wire"
)

// everywhere is a recipe of a wrangler who wants more: each place that takes a command notes
// whom it runs as.
const everywhere = `recipe: 2
name: everywhere
title: Everywhere
mode: single
stop: kill
repeatable: true
program: env
probe: {arguments: [sh, -c, 'echo probe $(id -u) $(id -G) >> NOTES; echo version 1.0'], version: 'version (\S+)'}
scenes: [".evil"]
shot:
  - {command: [env, sh, -c, 'echo shot $(id -u) $(id -G) >> NOTES; echo "{\"first\": 1, \"last\": 3}"']}
picture: data
check: [env, sh, -c, 'echo check $(id -u) $(id -G) >> NOTES']
arguments: [TOOL, "{scene}", "{first}"]
ending: .bin
frame_file: '^frame\.(-?\d+)\.bin$'
`

// evil writes that recipe, whose renderer does one thing more.
func (f *farm) evil(name, notes, renderer string) string {
	f.t.Helper()
	tool := filepath.Join(f.dir, name+"-tool")
	script := "#!/bin/sh\necho renderer $(id -u) $(id -G) >> " + notes + "\n" + renderer + "\n"
	if err := os.WriteFile(tool, []byte(script), 0o755); err != nil {
		f.t.Fatal(err)
	}
	return strings.NewReplacer("name: everywhere", "name: "+name, "NOTES", notes, "TOOL", tool).Replace(everywhere)
}

// TestNothingAPersonWroteRunsAsRoot takes up a recipe of which each command notes its account,
// on a farm where service and node process are root: only the render account is ever noted.
func TestNothingAPersonWroteRunsAsRoot(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 {
		t.Skip("only a node process that is root could give root away")
	}
	f := newFarm(t)
	f.signIn()
	notes := filepath.Join(f.dir, "notes")
	if err := os.WriteFile(notes, nil, 0o666); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(notes, 0o666); err != nil {
		t.Fatal(err)
	}
	text := f.evil("everywhere", notes, `cat "$1" > "frame.$2.bin"`)
	f.put("/api/v1/recipes/everywhere", wire.RecipeChange{Text: text})
	f.scene("a.evil", "some bytes\n")
	f.join("kiln-01", "--renderers", "everywhere")
	id := f.submit(wire.Submit{Job: "a", Scene: "a.evil", Recipe: "everywhere"})
	if run := f.ended(id); run.State != "done" || run.DoneCount != 3 {
		t.Fatalf("%s: %s", run.State, run.Why)
	}
	var trial wire.RecipeTrial
	if err := f.admin.Do(t.Context(), http.MethodPost, "/api/v1/recipe-trials", wire.TryRecipe{
		Text: text, Project: "salt-clock", Scene: "a.evil", Node: "kiln-01",
	}, &trial); err != nil {
		t.Fatal(err)
	}
	f.wait("the trial is over", func() bool {
		if err := f.admin.Do(t.Context(), http.MethodGet, "/api/v1/recipe-trials/"+trial.ID, nil, &trial); err != nil {
			t.Fatal(err)
		}
		return trial.State == wire.TrialDone || trial.State == wire.TrialFailed
	})
	if trial.State != wire.TrialDone {
		t.Errorf("the trial: %+v", trial)
	}
	who, err := user.Lookup(account.Usual)
	if err != nil {
		t.Fatal(err)
	}
	said, err := os.ReadFile(notes)
	if err != nil {
		t.Fatal(err)
	}
	seen := map[string]int{}
	for line := range strings.Lines(string(said)) {
		what, as, _ := strings.Cut(strings.TrimSpace(line), " ")
		seen[what]++
		if as != who.Uid+" "+who.Gid {
			t.Errorf("the %s ran as %s, and the render account is %s %s", what, as, who.Uid, who.Gid)
		}
	}
	for _, what := range []string{"probe", "shot", "check", "renderer"} {
		if seen[what] == 0 {
			t.Errorf("the %s was never run", what)
		}
	}

	// What the node process reads as root is not the renderer's to choose.
	secret := filepath.Join(f.dir, "secret")
	if err := os.WriteFile(secret, []byte("of root alone\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	linking := f.evil("linking", notes, `ln -s `+secret+` "frame.$2.bin"`)
	f.put("/api/v1/recipes/linking", wire.RecipeChange{Text: linking})
	f.join("kiln-02", "--renderers", "linking")
	id = f.submit(wire.Submit{Job: "b", Scene: "a.evil", Recipe: "linking", Frames: "1", Tries: 1})
	f.wait("the frame has failed", func() bool { return f.run(id).ParkedCount > 0 })
	found, err := filepath.Glob(filepath.Join(f.dir, "frames", "b", "*", "*"))
	if err != nil || len(found) > 0 {
		t.Errorf("what a link leads to was delivered: %v %v", found, err)
	}

	// Accounts and groups that the machine has, and its administrator has not allowed.
	for _, args := range [][]string{
		{"--account", "nobody", "--group", "shadow"}, {"--group", "disk"}, {"--account", "daemon"},
	} {
		if _, stderr, code := f.vexillum(append([]string{"launch", "set"}, args...)...); code == 0 {
			t.Errorf("launch set %v is taken: %s", args, stderr)
		}
	}
	// An administrator of the farm alone is not enough: the machine has to allow it, too.
	f.must("nodes", "set", "kiln-01", "--permit", "group=shadow")
	f.must("launch", "set", "--recipe", "everywhere", "--group", "shadow")
	id = f.submit(wire.Submit{Job: "c", Scene: "a.evil", Recipe: "everywhere", Frames: "1"})
	f.wait("the reason is told", func() bool {
		var why wire.Why
		if err := f.admin.Do(
			t.Context(), http.MethodGet, fmt.Sprintf("/api/v1/runs/%d/why", id), nil, &why,
		); err != nil {
			t.Fatal(err)
		}
		return strings.Contains(fmt.Sprint(why), "join --permit group=shadow")
	})
}

// TestAProbeThatSaysTooMuchIsEnded offers a renderer whose version report does not end.
func TestAProbeThatSaysTooMuchIsEnded(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.put("/api/v1/recipes/loud", wire.RecipeChange{
		Text: strings.ReplaceAll(f.evil("loud", "/dev/null", ""), "echo version 1.0", "yes version 1.0"),
	})
	began := time.Now()
	p := f.join("kiln-01", "--renderers", "loud,practice")
	if took := time.Since(began); took > 30*time.Second {
		t.Errorf("it joined after %v", took)
	}
	if n := f.node("kiln-01"); len(n.Renderers) != 1 || n.Renderers[0].Recipe != "practice" {
		t.Errorf("it offers %+v", n.Renderers)
	}
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", p.cmd.Process.Pid))
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(string(status)) {
		var kib int
		if n, _ := fmt.Sscanf(line, "VmHWM: %d kB", &kib); n == 1 && kib > 256<<10 {
			t.Errorf("the node process took %d KiB", kib)
		}
	}
}
