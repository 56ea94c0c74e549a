package system

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"vexillum/internal/wire"
)

// plugged is a recipe that needs a file which is not there at first.
func plugged(t *testing.T) map[string]string {
	t.Helper()
	practice, err := os.ReadFile("../recipe/builtin/practice-single.yaml")
	if err != nil {
		t.Fatal(err)
	}
	return map[string]string{"glass.yaml": strings.NewReplacer(
		"name: practice-single\n", "name: glass\n",
		".practice\"]", ".glass\"]\nplugins: [\"{scene_root}/lens.plug\"]",
	).Replace(string(practice))}
}

// TestRunsAreAskedAboutByThemselves holds a run that would fail, and mends in the evening what
// is missing.
func TestRunsAreAskedAboutByThemselves(t *testing.T) {
	t.Parallel()
	f := newFarmWith(t, plugged(t))
	f.signIn()
	f.scene("salt.glass", "practice: 1\npicture: salt\ncost: 30ms\n")
	f.join("kiln-01", "--renderers", "practice-single,glass")
	f.join("kiln-02", "--renderers", "practice-single")
	in := wire.Submit{Job: "salt", Recipe: "glass", Scene: "salt.glass", Frames: "1-4", Held: true}
	id := f.submit(in)
	in.Job = "pepper"
	f.submit(in)
	f.wait("nodes were asked", func() bool { return f.run(id).Preflight != nil })
	told := f.run(id).Preflight
	if told.Passing != 0 || told.Failing != 1 || !strings.Contains(told.Sentence, "kiln-01") ||
		!strings.Contains(told.Sentence, "lens.plug") || !strings.Contains(told.Sentence, "To mend it") {
		t.Errorf("%+v", told)
	}
	hands := func() (out []string) {
		var farm wire.Farm
		if err := f.admin.Do(t.Context(), "GET", "/api/v1/farm", nil, &farm); err != nil {
			t.Fatal(err)
		}
		for _, h := range farm.Hands {
			if h.Kind == "preflight" {
				out = append(out, h.Sentence)
			}
		}
		return out
	}
	want := "No node would render salt/final-1: the only one that could fails the preflight. 1 other run has the same."
	f.wait("they need a hand as one", func() bool { return slices.Equal(hands(), []string{want}) })
	if out := f.must("show", "salt"); !strings.Contains(out, "0 of 1 node pass, asked") {
		t.Error(out)
	}

	if err := os.WriteFile(filepath.Join(f.dir, "scenes", "lens.plug"), []byte("x"), 0o644); err != nil {
		t.Fatal(err)
	}
	evening := time.Now().UTC().Add(time.Minute)
	out := f.must("preflight", "when", "--night", evening.Format("15:04"), "--zone", "UTC")
	if !strings.Contains(out, evening.Format("at 15:04 (UTC)")) {
		t.Error(out)
	}
	f.wait("they are asked anew in the evening", func() bool { return f.run(id).Preflight.Passing == 1 })
	if got := f.run(id).Preflight; got.Failing != 0 || got.Sentence != "" || len(hands()) != 0 {
		t.Errorf("%+v, %v", got, hands())
	}
	for _, args := range [][]string{{"--night", "8"}, {"--night", ""}, {"--zone", "Pellmarsh"}} {
		if _, stderr, code := f.vexillum(append([]string{"preflight", "when"}, args...)...); code == 0 {
			t.Errorf("%v is taken: %s", args, stderr)
		}
	}
	f.must("release", "salt")
	f.must("preflight", "when", "--held=false", "--night", "never")
	f.wait("it is done", func() bool { return f.run(id).State == "done" })
	if f.run(id).Preflight != nil {
		t.Error("a run that is done tells of a preflight")
	}
}

// TestPreflight asks nodes of which each lacks something else, and submits to those that
// pass.
func TestPreflight(t *testing.T) {
	t.Parallel()
	f := newFarmWith(t, plugged(t))
	f.signIn()
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 30ms\n")
	f.scene("salt.glass", "practice: 1\npicture: salt\ncost: 30ms\n")
	f.join("kiln-01", "--renderers", "practice-single,glass")
	f.join("kiln-02", "--renderers", "povray,practice-single,glass")
	held := f.join("kiln-03", "--renderers", "practice-single,glass")
	f.must("nodes", "hold", "kiln-03")
	seen := func(in wire.Preflighting) (out wire.Preflight) {
		t.Helper()
		if err := f.admin.Do(t.Context(), "POST", "/api/v1/preflights", in, &out); err != nil {
			t.Fatal(err)
		}
		return out
	}
	answer := func(p wire.Preflight, node, question string) wire.PreflightAnswer {
		t.Helper()
		for _, n := range p.Nodes {
			for _, a := range n.Answers {
				if n.Name == node && a.Question == question {
					return a
				}
			}
		}
		t.Fatalf("%s has no answer to %s: %+v", node, question, p)
		return wire.PreflightAnswer{}
	}
	submit := wire.Submit{
		Job: "salt_010", Project: "salt-clock", Scene: "salt.practice", Recipe: "practice-single", Frames: "1-4", Width: 64, Height: 36,
	}
	p := seen(wire.Preflighting{Submit: &submit, Frame: true})
	if p.Passing != 2 || p.Failing != 1 || p.Nodes[0].Name != "kiln-03" {
		t.Fatalf("%d pass and %d fail: %+v", p.Passing, p.Failing, p.Nodes)
	}
	for _, question := range []string{
		wire.AskReach, wire.AskScene, wire.AskOutput, wire.AskRenderer, wire.AskAccount, wire.AskMemory, wire.AskDisk, wire.AskClock,
		wire.AskFrame,
	} {
		if a := answer(p, "kiln-01", question); !a.Passes || a.Skipped {
			t.Errorf("kiln-01, %s: %+v", question, a)
		}
	}
	if a := answer(p, "kiln-03", wire.AskReach); a.Passes || !strings.Contains(a.Remedy, "nodes release kiln-03") {
		t.Errorf("a held node: %+v", a)
	}

	// A plug-in that is nowhere, and an account that nobody has.
	submit.Scene, submit.Recipe = "salt.glass", "glass"
	f.must("nodes", "set", "kiln-01", "kiln-02", "--permit", "group=nobodys-group")
	f.must("launch", "set", "--recipe", "glass", "--group", "nobodys-group")
	p = seen(wire.Preflighting{Submit: &submit, Nodes: []string{"kiln-01"}})
	if a := answer(p, "kiln-01", wire.AskPlugins); a.Passes || !strings.Contains(a.Says, "lens.plug") {
		t.Errorf("a plug-in that is not there: %+v", a)
	}
	if a := answer(p, "kiln-01", wire.AskAccount); a.Passes || !strings.Contains(a.Says, "nobodys-group") {
		t.Errorf("a group that is not there: %+v", a)
	}
	stdout, _, code := f.vexillum(
		"preflight",
		"salt.glass",
		"--project",
		"salt-clock",
		"--frames",
		"1-4",
		"--nodes",
		"kiln-01,kiln-02",
	)
	if code != 1 || !strings.Contains(stdout, "kiln-01 and 1 more") || !strings.Contains(stdout, "0 of 2 nodes pass") ||
		!strings.Contains(stdout, "To mend it: install them there.") {
		t.Errorf("%d %s", code, stdout)
	}
	f.must("launch", "drop", "--recipe", "glass")
	receipt := f.must(
		"submit", "salt.glass", "--project", "salt-clock", "--frames", "1-4", "--dry-run", "--nodes", "kiln-01,kiln-02",
		"--without", "kiln-02",
	)
	if !strings.Contains(receipt, "1 node that is online may") {
		t.Errorf("nodes by name: %s", receipt)
	}
	_, stderr, code := f.vexillum(
		"submit",
		"salt.glass",
		"--project",
		"salt-clock",
		"--frames",
		"1-4",
		"--preflight",
		"1",
	)
	if code == 0 || !strings.Contains(stderr, "0 of 3 nodes pass the preflight") ||
		!strings.Contains(stderr, "nothing was submitted") {
		t.Errorf("%d %s", code, stderr)
	}
	f.must("launch", "set", "--recipe", "glass", "--group", "")
	if err := os.WriteFile(filepath.Join(f.dir, "scenes", "lens.plug"), []byte("x"), 0o644); err != nil {
		t.Fatal(err)
	}
	out := f.must(
		"submit",
		"salt.glass",
		"--project",
		"salt-clock",
		"--frames",
		"1-4",
		"--size",
		"64x36",
		"--preflight",
		"2",
	)
	if !strings.Contains(out, "1 of 3 nodes does not pass the preflight, and gets nothing of it.") {
		t.Error(out)
	}
	if run := f.ended(f.newestOf("salt")); run.State != "done" || !strings.Contains(run.Needs, "kiln-03") {
		t.Errorf("%s is %s and needs %q: %s", run.Name, run.State, run.Needs, run.Why)
	}

	// A node that does not answer any more, and a scene that has changed since.
	id := f.submit(
		wire.Submit{Job: "late", Recipe: "practice-single", Scene: "salt.practice", Frames: "1-4", Held: true},
	)
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 31ms\n")
	if err := held.cmd.Process.Signal(syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = held.cmd.Process.Signal(syscall.SIGCONT) }()
	p = seen(wire.Preflighting{Run: id})
	if a := answer(p, "kiln-01", wire.AskScene); a.Passes || !strings.Contains(a.Says, "another content") {
		t.Errorf("a scene that has changed: %+v", a)
	}
	if p.Seconds > 15 {
		t.Errorf("it took %.1f s", p.Seconds)
	}
	if _, stderr, code := f.vexillum("preflight", "--run", "late", "--nodes", "kiln-09"); code == 0 ||
		!strings.Contains(stderr, "there is no node") {
		t.Errorf("%d %s", code, stderr)
	}
}
