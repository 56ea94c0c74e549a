package system

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"vexillum/internal/wire"
)

// TestASceneThatChangesUnderWay writes to a scene while it is rendered: the run is held,
// says since when and which frames are of the old state, also after the service was
// killed, and goes on when somebody says so.
func TestASceneThatChangesUnderWay(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 200ms\n")
	f.join("kiln-01", "--renderers", "practice-single")
	id := f.submit(wire.Submit{Job: "salt_010", Recipe: "practice-single", Scene: "salt.practice", Frames: "1-30"})
	f.done(id, 4)
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 201ms\n")
	f.wait("the run is held", func() bool { return f.run(id).State == "held" })
	f.service.end(syscall.SIGKILL)
	f.serve()
	run := f.run(id)
	if run.State != "held" ||
		!strings.Contains(run.Why, "the scene salt.practice has changed since the run was submitted, at 20") ||
		!strings.Contains(run.Why, "are of the old state") || len(run.Troubles) != 1 || run.Troubles[0].Tried != 0 {
		t.Errorf("the run is %s: %q, troubles %+v", run.State, run.Why, run.Troubles)
	}
	var all wire.Farm
	if err := f.admin.Do(t.Context(), "GET", "/api/v1/farm", nil, &all); err != nil {
		t.Fatal(err)
	}
	if len(all.Hands) == 0 ||
		!strings.Contains(all.Hands[0].Sentence, "salt_010/final-1 is held, as its scene has changed") {
		t.Errorf("what needs a hand: %+v", all.Hands)
	}
	f.must("release", "salt_010")
	if run = f.ended(id); run.State != "done" || run.DoneCount != 30 {
		t.Errorf("the run is %s with %d frames: %s", run.State, run.DoneCount, run.Why)
	}
	other := f.submit(wire.Submit{Job: "salt_010", Recipe: "practice-single", Scene: "salt.practice", Frames: "1-2"})
	if run = f.ended(other); run.State != "done" {
		t.Errorf("a new run is %s: %s", run.State, run.Why)
	}
}

// TestAFileOfASceneThatChangesUnderWay changes, while a run is rendered, a file that its
// scene names, and one that was told besides.
func TestAFileOfASceneThatChangesUnderWay(t *testing.T) {
	t.Parallel()
	practice, err := os.ReadFile("../recipe/builtin/practice-single.yaml")
	if err != nil {
		t.Fatal(err)
	}
	text := strings.Replace(string(practice), "name: practice-single\n", "name: glass\n", 1) +
		"inputs:\n  - {match: '# needs (\\S+)'}\n  - {match: '# cache (\\S+)', cache: true}\n"
	f := newFarmWith(t, map[string]string{"glass.yaml": strings.ReplaceAll(text, ".practice", ".glass")})
	f.signIn()
	scene := "practice: 1\npicture: salt\ncost: 200ms\n# needs tex/salt.txt\n# cache smoke.##.vol\n"
	f.scene("salt.glass", scene)
	for _, folder := range []string{"tex", "luts"} {
		if err := os.Mkdir(filepath.Join(f.dir, "scenes", folder), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	f.scene("tex/salt.txt", "white\n")
	f.scene("luts/day.cube", "1\n")
	for _, n := range []string{"01", "02", "04"} {
		f.scene("smoke."+n+".vol", n)
	}
	f.join("kiln-01", "--renderers", "glass")
	submit := []string{
		"submit", "salt.glass", "--project", "salt-clock", "--frames", "1-40", "--with", "luts/*.cube", "--with",
		"none.cube", "--with", "../outside.txt", "--size", "64x36",
	}
	out := f.must(submit...)
	for _, want := range []string{
		"Of the simulation cache smoke.##.vol there is no 3 between 1 and 4.", "Not in the scene place is none.cube.",
		"Outside the scene place, and not watched for changes, is ../outside.txt.",
	} {
		if !strings.Contains(out, want) {
			t.Errorf("the receipt is without %q:\n%s", want, out)
		}
	}
	id := f.newestOf("salt")
	for i, change := range []struct{ name, text string }{{"tex/salt.txt", "grey!\n"}, {"luts/day.cube", "10\n"}} {
		f.done(id, 3+6*i)
		f.scene(change.name, change.text)
		f.wait("the run is held", func() bool { return f.run(id).State == "held" })
		run := f.run(id)
		if !strings.Contains(run.Why, change.name+" of the scene salt.glass has changed since the run was submitted") ||
			!strings.Contains(run.Why, "of the old state") {
			t.Errorf("%s has changed, and the run is held: %s", change.name, run.Why)
		}
		f.must("release", "salt")
	}
	if run := f.ended(id); run.State != "done" || run.DoneCount != 40 {
		t.Errorf("the run is %s with %d frames: %s", run.State, run.DoneCount, run.Why)
	}
	for _, c := range []struct{ with, says string }{
		{"", "--with is empty"}, {"[", "is neither a file's name nor a pattern"},
	} {
		_, stderr, code := f.vexillum(append(submit, "--with", c.with)...)
		if code == 0 || !strings.Contains(stderr, c.says) {
			t.Errorf("--with %q: %d %s", c.with, code, stderr)
		}
	}
}

// TestAShotIsOfOneVersionOfItsRenderer brings the renderer of the only node up to date
// while a run is under way: no frame comes from the new one until a person says so.
func TestAShotIsOfOneVersionOfItsRenderer(t *testing.T) {
	t.Parallel()
	practice, err := os.ReadFile("../recipe/builtin/practice-single.yaml")
	if err != nil {
		t.Fatal(err)
	}
	dir := tools(t)
	version := func(text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, "version"), []byte("glass "+text+"\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	version("4.1")
	program := filepath.Join(dir, "glass-render")
	script := fmt.Sprintf("#!/bin/sh\n[ \"$2\" = --version ] && exec cat %s/version\nexec %s \"$@\"\n", dir, binary)
	if err := os.WriteFile(program, []byte(script), 0o755); err != nil {
		t.Fatal(err)
	}
	text := strings.NewReplacer(
		"name: practice-single", "name: glass", `"{vexillum}"`, program, `'practice renderer (\S+)'`, `'glass (\S+)'`,
	).Replace(string(practice))
	f := newFarmWith(t, map[string]string{"glass.yaml": text})
	f.signIn()
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 200ms\n")
	node := f.join("kiln-01", "--renderers", "glass")
	id := f.submit(wire.Submit{Job: "salt_010", Recipe: "glass", Scene: "salt.practice", Frames: "1-30"})
	f.done(id, 3)
	if run := f.run(id); run.Renderer != "4.1" {
		t.Errorf("the run's frames come from %q", run.Renderer)
	}
	node.end(syscall.SIGTERM)
	version("4.2")
	f.join("kiln-01", "--renderers", "glass")
	f.wait("it is said why nothing goes on", func() bool {
		return strings.Contains(f.run(id).Why, "kiln-01 has glass 4.2, and frames of salt_010/final-1 come from 4.1")
	})
	done := f.run(id).DoneCount
	if shown := f.must("show", "salt_010"); !strings.Contains(shown, "4.1") {
		t.Errorf("the run is shown without its version:\n%s", shown)
	}
	if _, stderr, code := f.vexillum("change", "salt_010", "--renderer", ""); code == 0 ||
		!strings.Contains(stderr, "--renderer is empty") {
		t.Errorf("an empty version: %d %s", code, stderr)
	}
	if _, stderr, code := f.vexillum("change", "salt_010", "--renderer", "9"); code == 0 ||
		!strings.Contains(stderr, `no node has glass "9"; there is 4.2`) {
		t.Errorf("a version that nobody has: %d %s", code, stderr)
	}
	out := f.must("change", "salt_010", "--renderer", "any")
	if !strings.Contains(out, "renderer of any version instead of 4.1") {
		t.Errorf("the change says %s", out)
	}
	run := f.ended(id)
	if run.State != "done" || run.DoneCount != 30 || run.Renderer != "4.2" || done >= 30 {
		t.Errorf(
			"the run is %s with %d frames from %q, %d before: %s", run.State, run.DoneCount, run.Renderer, done,
			run.Why,
		)
	}
}

// TestAMendedSceneGoesOn puts the file there that a scene lacks, and says so once: nothing is held
// again for it.
func TestAMendedSceneGoesOn(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("pot.pov", `#version 3.7;
global_settings { assumed_gamma 1.0 }
#if (frame_number = 3) #include "tex.inc" #end
camera { location <0, 1, -4> look_at 0 }
light_source { <4, 9, -5> 1 }
sphere { 0, 1 pigment { rgb <1, clock, 0> } }
`)
	f.join("kiln-01", "--renderers", "povray", "--threads", "1")
	id := f.submit(wire.Submit{Scene: "pot.pov", Frames: "1-4", Tries: 1})
	if run := f.ended(id); run.Sets.Parked != "3" {
		t.Fatalf("%s: parked %q, %+v", run.State, run.Sets.Parked, run.Troubles)
	}
	if out := f.must("trouble"); !strings.Contains(out, "vexillum mended") {
		t.Errorf("the trouble is said to be mended otherwise: %s", out)
	}
	if _, stderr, code := f.vexillum("mended", "nobody"); code == 0 || !strings.Contains(stderr, "nobody") {
		t.Errorf("a run that is not there: %d %s", code, stderr)
	}
	if out := f.must("mended", "pot", "--dry-run"); !strings.Contains(out, "Nothing of the scene has changed") {
		t.Errorf("before it is mended it says %s", out)
	}
	f.scene("tex.inc", "#declare Nothing = 1;\n")
	out := f.must("mended", "pot", "--dry-run")
	for _, want := range []string{
		"Changed: tex.inc.", "Tried again: frame 3.", "Frames 1-2,4 are of the old state. To render that again, too: " +
			"vexillum mended pot/final-1 --redo.", "nothing is changed yet",
	} {
		if !strings.Contains(out, want) {
			t.Errorf("it says nothing of %q:\n%s", want, out)
		}
	}
	if run := f.run(id); run.State != "done with gaps" {
		t.Errorf("after a dry run it is %s", run.State)
	}
	f.must("mended", "pot")
	f.wait("all frames are done", func() bool { return f.run(id).State == "done" })
	if n := f.count(`SELECT count(*) FROM event WHERE run = $1 AND body->>'held' = 'changed'`, id); n != 0 {
		t.Errorf("it was held %d times", n)
	}
	if _, stderr, code := f.vexillum("mended", "pot"); code == 0 || !strings.Contains(stderr, "nothing of the scene") {
		t.Errorf("once more: %d %s", code, stderr)
	}
	// What is done can be rendered again with the scene as it is now.
	before := f.count(`SELECT max(seq) FROM frame WHERE run = $1`, id)
	f.scene("tex.inc", "#declare Nothing = 2;\n")
	if out := f.must("mended", "pot", "--redo"); !strings.Contains(out, "Rendered again: frames 1-4") {
		t.Errorf("with --redo it says %s", out)
	}
	f.wait("all frames are done again", func() bool {
		return f.run(id).State == "done" && f.count(`SELECT count(*) FROM frame WHERE run = $1 AND seq > $2`, id, before) == 4
	})
}

// TestAReleaseTakesTheSceneAsItIs changes a scene once more after its run was held for that.
func TestAReleaseTakesTheSceneAsItIs(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 200ms\n")
	f.join("kiln-01", "--renderers", "practice-single")
	id := f.submit(wire.Submit{Recipe: "practice-single", Scene: "salt.practice", Frames: "1-20"})
	f.done(id, 2)
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 201ms\n")
	f.wait("the run is held", func() bool { return f.run(id).State == "held" })
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 2ms\n")
	f.must("release", "salt")
	if run := f.ended(id); run.State != "done" || run.DoneCount != 20 {
		t.Errorf("the run is %s with %d frames: %s", run.State, run.DoneCount, run.Why)
	}
	// One that a person holds stays held.
	id = f.submit(wire.Submit{Recipe: "practice-single", Scene: "salt.practice", Frames: "1-3", Held: true})
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 3ms\n")
	if out := f.must("mended", "salt"); !strings.Contains(out, "It stays held") || !strings.Contains(out, "Changed: salt.practice") {
		t.Errorf("of one that is held it says %s", out)
	}
	f.must("release", "salt")
	if run := f.ended(id); run.State != "done" {
		t.Errorf("the run is %s: %s", run.State, run.Why)
	}
	// Nor is one released that is held because a step before it does not come.
	first := f.submit(wire.Submit{Recipe: "practice-single", Scene: "salt.practice", Frames: "1", Held: true})
	next := f.submit(wire.Submit{
		Job: "next", Recipe: "practice-single", Scene: "salt.practice", Frames: "1-2",
		After: []wire.SubmitAfter{{Run: f.run(first).Name}},
	})
	f.must("cancel", f.run(first).Name, "--yes")
	f.wait("it is held for its step", func() bool { return f.run(next).State == "held" })
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 4ms\n")
	if out := f.must("mended", "next"); !strings.Contains(out, "It stays held") || f.run(next).State != "held" {
		t.Errorf("one that is held for its step is %s: %s", f.run(next).State, out)
	}
}
