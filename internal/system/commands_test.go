package system

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"vexillum/internal/wire"
)

// TestManyRunsAtOnce lists, chooses and steers many runs from the command line.
func TestManyRunsAtOnce(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	if _, stderr, code := f.vexillum("drill", "--from-farm"); code != 1 || !strings.Contains(
		stderr, "nothing in the queue has frames left",
	) {
		t.Errorf("a drill from an empty queue: %d %s", code, stderr)
	}
	f.patch("/api/v1/projects/gannet", wire.ProjectChange{Title: new("Gannet"), Scenes: "scenes", Frames: "frames"})
	f.scene("salt.practice", "practice: 1\npicture: salt\n")
	for i := range 60 {
		f.submit(wire.Submit{Job: fmt.Sprintf("salt_%02d", i+1), Scene: "salt.practice", Frames: "1-3", Held: i >= 3})
	}
	f.submit(wire.Submit{Job: "gannet_open", Project: "gannet", Scene: "salt.practice", Frames: "1-3"})

	// Lists: filtered, counted, whole.
	if out := f.must(
		"queue", "--state", "queued", "--project", "salt-clock",
	); strings.Count(out, "salt_") != 3 || strings.Contains(out, "gannet_open") {
		t.Errorf("queued runs of a project:\n%s", out)
	}
	if out := f.must("queue", "--state", "held"); !strings.Contains(out, "50 of 57; --all lists them all") {
		t.Errorf("held runs:\n%s", out)
	}
	if out := f.must(
		"queue", "--state", "held", "--all", "--sort", "name", "--down",
	); strings.Count(out, "salt_") != 57 || !strings.Contains(strings.Split(out, "\n")[1], "salt_60") {
		t.Errorf("all held runs:\n%s", out)
	}
	if out := f.must("queue", "--search", "nowhere to be found"); out != "No run matches.\n" {
		t.Errorf("what nobody finds: %q", out)
	}
	if _, stderr, code := f.vexillum("queue", "--state", "asleep"); code != 1 ||
		!strings.Contains(stderr, `"asleep" is not a state of a run`) {
		t.Errorf("an unknown state: %d %s", code, stderr)
	}
	// No reason is cut in a pipe.
	if out := f.must("queue", "--search", "salt_01"); !strings.Contains(
		out, "no node has practice; install it on one, then run: vexillum nodes probe NODE",
	) {
		t.Errorf("the reason is cut:\n%s", out)
	}

	f.dropsWhatIsSetUp()
	f.triesASubmit()
	f.steersManyFromTheCommandLine()
	f.asksBeforeMachinesAreLost()

	// One recipe in full, and all that happened to a run.
	if out := f.must("recipe", "show", "povray"); !strings.Contains(out, "mode") || !strings.Contains(out, "SETTING") {
		t.Errorf("a recipe in full:\n%s", out)
	}
	if _, stderr, code := f.vexillum("recipe", "show", "povrey"); code != 1 ||
		!strings.Contains(stderr, `there is no recipe "povrey"`) {
		t.Errorf("an unknown recipe: %d %s", code, stderr)
	}
	file := filepath.Join(f.dir, "glass.yaml")
	if err := os.WriteFile(file, []byte("recipe: 2\nname: glass\nmode: sideways\n"), 0o644); err != nil {
		f.t.Fatal(err)
	}
	if out, _, code := f.vexillum("recipe", "check", file); code != 1 ||
		!strings.Contains(out, file+":3:1: mode: sideways is not one of range") {
		t.Errorf("a recipe with a mistake: %d\n%s", code, out)
	}
	scene := filepath.Join(f.dir, "try me.practice")
	if err := os.WriteFile(scene, []byte("practice: 1\npicture: salt\ncost: 50ms\n"), 0o644); err != nil {
		f.t.Fatal(err)
	}
	if out := f.must("recipe", "try", "practice", scene, "--frame", "4-5", "--size", "64x36"); !strings.Contains(
		out, "    ^ frame 4 begins",
	) || !strings.Contains(out, "frame 5  good: 64×36") || !strings.Contains(out, "'--scene="+scene+"'") {
		t.Errorf("a recipe is tried:\n%s", out)
	}
	here, err := os.Getwd()
	if err != nil {
		f.t.Fatal(err)
	}
	kept, err := filepath.Rel(here, filepath.Join(f.dir, "kept"))
	if err != nil {
		f.t.Fatal(err)
	}
	f.must("recipe", "try", "practice", scene, "--frame", "4", "--size", "64x36", "--keep", kept)
	if files, err := filepath.Glob(filepath.Join(kept, "*", "*.png")); err != nil || len(files) != 1 {
		f.t.Errorf("in the folder %s is kept %v, %v", kept, files, err)
	}
	if _, stderr, code := f.vexillum("recipe", "try", "povray", scene); code != 1 ||
		!strings.Contains(stderr, `the recipe povray reads scenes that end in .pov, not ".practice"`) {
		t.Errorf("a scene of another renderer: %d %s", code, stderr)
	}
	if out := f.must("show", "salt_03", "--history"); !strings.Contains(out, "the filer is moved") ||
		!strings.Contains(out, "submitted by admin") {
		t.Errorf("all that happened:\n%s", out)
	}
	if list := f.must("nodes", "export"); f.mustSaying(list, "nodes", "import", "-", "--dry-run") == "" {
		t.Error("a list from standard input says nothing")
	}

	// Names are completed, those of runs that are there.
	if out := f.must(
		"__complete", "cancel", "salt_01/final-1", "salt_0",
	); !strings.Contains(out, "salt_02/final-1\n") || strings.Contains(out, "salt_01/final-1\n") {
		t.Errorf("completed are:\n%s", out)
	}
	if out := f.must("__complete", "submit", "--project", "g"); !strings.Contains(out, "gannet\n") {
		t.Errorf("completed projects are:\n%s", out)
	}
	if out := f.must("__complete", "queue", "--state", "held,do"); !strings.Contains(out, "held,done\n") {
		t.Errorf("completed states are:\n%s", out)
	}

	f.refusesTheImpossible()

	// A run is followed as lines of JSON, from the submit on.
	f.join("kiln-01", "--renderers", "practice")
	out := f.must(
		"submit", "salt.practice", "--project", "salt-clock", "--job", "salt_followed", "--frames", "1-5", "--size",
		"64x36", "--priority", "high", "--follow", "--json",
	)
	lines := strings.Split(strings.TrimSpace(out), "\n")
	var last struct {
		State string `json:"state"`
		Done  int    `json:"done"`
	}
	for _, line := range lines {
		if !json.Valid([]byte(line)) {
			t.Errorf("this line is no JSON: %s", line)
		}
	}
	if err := json.Unmarshal([]byte(lines[len(lines)-1]), &last); err != nil || last.State != "done" || last.Done != 5 {
		t.Errorf("the last line is %s", lines[len(lines)-1])
	}
	f.followsWhatIsHeld()
	f.asksOnATerminal()
}

// followsWhatIsHeld follows a run that waits for a release, and says that it
// does.
func (f *farm) followsWhatIsHeld() {
	f.t.Helper()
	followed := start(
		f.t, "follow", "--service", "http://"+f.listen, "--token", f.token(), "submit", "salt.practice", "--project",
		"salt-clock", "--job", "salt_waits", "--frames", "1-2", "--held", "--follow",
	)
	f.wait("the run is there", func() bool { return f.count(`SELECT count(*) FROM run WHERE job = 'salt_waits'`) == 1 })
	f.must("release", "salt_waits")
	<-followed.gone
	if code := followed.cmd.ProcessState.ExitCode(); code != 0 || !strings.Contains(
		followed.out.String(), "nothing happens until somebody releases it, with: vexillum release salt_waits/final-1",
	) {
		f.t.Errorf("a held run that is followed ended with %d:\n%s", code, followed.out)
	}
}

// asksOnATerminal cancels a run whose frames are in flight: not without a yes.
func (f *farm) asksOnATerminal() {
	f.t.Helper()
	f.scene("slow.practice", "practice: 1\npicture: salt\ncost: 60s\n")
	run := f.submit(wire.Submit{Job: "salt_slow", Scene: "slow.practice", Frames: "1-2", Priority: "high"})
	f.wait("a frame is in flight", func() bool { return f.run(run).InFlight == 1 })
	asked := func(answer string) string {
		cmd := exec.Command("script", "-qec", binary+" cancel salt_slow", "/dev/null")
		cmd.Env = append(os.Environ(), "VEXILLUM_ACCESS="+filepath.Join(f.dir, "access.json"), "HOME="+f.dir)
		cmd.Stdin = strings.NewReader(answer + "\n")
		out, _ := cmd.CombinedOutput()
		return string(out)
	}
	for _, answer := range []string{"no", "", "y"} {
		if out := asked(answer); !strings.Contains(out, "1 frame in flight would be lost. Type yes") ||
			!strings.Contains(out, "nothing was changed") || f.run(run).State != "rendering" {
			f.t.Errorf("the answer %q: %s\n%s", answer, f.run(run).State, out)
		}
	}
	if out := asked("yes"); f.run(run).State != "cancelled" {
		f.t.Errorf("after a yes the run is %s:\n%s", f.run(run).State, out)
	}
}

// refusesTheImpossible gives values that can never be.
func (f *farm) refusesTheImpossible() {
	f.t.Helper()
	t := f.t
	// What can never be is refused at once.
	for _, c := range []struct{ want, args string }{
		{"at most 64.0 TiB of memory", "submit salt.practice --project salt-clock --frames 1-3 --memory 100TiB"},
		{"0 cores or more", "submit salt.practice --project salt-clock --frames 1-3 --cores -1"},
		{"a renderer may use 1 to 4096 threads", "join http://127.0.0.1:1 --threads -3"},
	} {
		if _, stderr, code := f.vexillum(strings.Fields(c.args)...); code != 2 || !strings.Contains(stderr, c.want) {
			t.Errorf("%s: %d %s", c.args, code, stderr)
		}
	}
	key := filepath.Join(f.dir, "key")
	if err := os.WriteFile(key, []byte(f.key()), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, stderr, code := f.vexillum(
		"join", "http://"+f.listen, "--key-file", key, "--name", "kiln-77", "--data", filepath.Join(f.dir, "kiln-77"),
		"--renderers", "practise",
	); code != 1 || !strings.Contains(stderr, "no such recipe; there are") {
		t.Errorf("an unknown renderer: %d %s", code, stderr)
	}
}

// steersManyFromTheCommandLine tries on paper, without a yes, and with one.
func (f *farm) steersManyFromTheCommandLine() {
	f.t.Helper()
	t := f.t
	// Many at once: tried on paper, refused without a yes, done with one.
	if out := f.must("hold", "--project", "salt-clock", "--dry-run"); strings.Count(out, "would be held") != 3 {
		t.Errorf("a dry run says:\n%s", out)
	}
	if _, stderr, code := f.vexillum("hold", "--project", "salt-clock"); code != 2 || !strings.Contains(
		stderr, "3 runs would be held; give --yes",
	) {
		t.Errorf("without a yes: %d %s", code, stderr)
	}
	if n := f.count(`SELECT count(*) FROM run WHERE state = 'held'`); n != 57 {
		t.Errorf("%d runs are held before the yes", n)
	}
	f.must("hold", "--project", "salt-clock", "--yes", "--reason", "the filer is moved")
	if n := f.count(`SELECT count(*) FROM run WHERE reason = 'held by admin: the filer is moved'`); n != 3 {
		t.Errorf("%d runs are held for the reason", n)
	}
	if out := f.must(
		"hold", "--project", "salt-clock", "--yes",
	); out != "None of these runs can be held; nothing was changed.\n" {
		t.Errorf("nothing to do: %q", out)
	}
	var released, none []wire.Run
	if out := f.must(
		"release", "salt_01", "salt_02/final-1", "--json",
	); json.Unmarshal([]byte(out), &released) != nil ||
		len(released) != 2 {
		t.Errorf("two runs for a program:\n%s", out)
	}
	if _, stderr, code := f.vexillum("hold", "--project", "nowhere", "--yes"); code != 1 || !strings.Contains(
		stderr, `no project "nowhere"`,
	) {
		t.Errorf("a project that is not there: %d %s", code, stderr)
	}
	out := f.must("hold", "--project", "short", "--yes", "--json")
	if json.Unmarshal([]byte(out), &none) != nil || len(none) != 0 {
		t.Errorf("no run for a program:\n%s", out)
	}
	if out := f.must("cancel", "salt_03", "--dry-run", "--json"); json.Unmarshal([]byte(out), &none) != nil ||
		len(none) != 1 {
		t.Errorf("a dry run for a program:\n%s", out)
	}
	if out, stderr, code := f.vexillum(
		"cancel", "salt_01", "salt_99",
	); code != 1 || !strings.Contains(stderr, `no run called "salt_99"`) ||
		f.runNamed("salt_01").EndedAt != nil {
		t.Errorf("one of two names is wrong: %d %s%s", code, out, stderr)
	}
	if _, stderr, code := f.vexillum("cancel"); code != 2 || !strings.Contains(stderr, "names of runs") {
		t.Errorf("cancel without a name: %d %s", code, stderr)
	}
}

// dropsWhatIsSetUp sets up a project with its place, a person and launch
// settings, and does away with them.
func (f *farm) dropsWhatIsSetUp() {
	f.t.Helper()
	t := f.t
	f.must("place", "set", "loft", "--linux", filepath.Join(f.dir, "loft"))
	f.must("project", "set", "short", "--scenes", "loft", "--frames", "loft")
	f.must("person", "set", "oona")
	f.must("launch", "set", "--project", "short", "--mask", "002", "--set", "TABLE={scene_root}/t.csv")
	if out := f.must("launch", "list"); !strings.Contains(out, "project short") ||
		!strings.Contains(out, "TABLE={scene_root}/t.csv") {
		t.Errorf("launch settings:\n%s", out)
	}
	for _, c := range []struct{ want, args string }{
		{"the place loft is used by the project short", "place drop loft"},
		{"57 more on record", "project drop salt-clock"},
	} {
		if _, stderr, code := f.vexillum(strings.Fields(c.args)...); code != 1 || !strings.Contains(stderr, c.want) {
			t.Errorf("%s: %d %s", c.args, code, stderr)
		}
	}
	for _, c := range []struct{ want, args string }{
		{"Nothing is set for project short any more.", "launch drop --project short"},
		{"Nothing is set there; nothing to do.", "launch drop --project short"},
		{"The person oona is dropped", "person drop oona"},
		{`There is no person "oona"; nothing to do.`, "person drop oona"},
	} {
		if out := f.must(strings.Fields(c.args)...); !strings.Contains(out, c.want) {
			t.Errorf("%s: %s", c.args, out)
		}
	}
	f.must("launch", "set", "--project", "short", "--mask", "002")
	f.must("project", "drop", "short")
	f.must("place", "drop", "loft")
	if n := f.count(
		`SELECT (SELECT count(*) FROM project WHERE name = 'short') + (SELECT count(*) FROM place WHERE name = 'loft')
		+ (SELECT count(*) FROM launch_settings WHERE project = 'short')`,
	); n != 0 {
		t.Errorf("%d of what was dropped are left", n)
	}
	f.must("place", "set", "loft", "--linux", filepath.Join(f.dir, "loft"))
	f.must("project", "set", "short", "--scenes", "loft", "--frames", "loft")
}

// triesASubmit checks a submission, and puts nothing into the queue.
func (f *farm) triesASubmit() {
	f.t.Helper()
	t := f.t
	before := f.count(`SELECT count(*) FROM run`)
	args := []string{
		"submit", "salt.practice", "--project", "salt-clock", "--frames", "1-3", "--job", "salt_01", "--dry-run",
	}
	if out := f.must(
		args...); !strings.Contains(out, "queued; nothing is submitted yet") || !strings.Contains(out, "1-3 (3)") ||
		!strings.Contains(out, "No node can take it as it is: no node has practice") ||
		strings.Contains(out, "Watch it") {
		t.Errorf("a submit that is only tried says:\n%s", out)
	}
	var receipt wire.Receipt
	if err := json.Unmarshal(
		[]byte(f.must(append(args, "--json", "--held")...)), &receipt,
	); err != nil || !receipt.DryRun || receipt.Run != 0 ||
		receipt.State != "held" {
		t.Errorf("for a program: %+v, %v", receipt, err)
	}
	if _, stderr, code := f.vexillum(append(args, "--scene-is-gone")...); code != 2 {
		t.Errorf("an unknown flag: %d %s", code, stderr)
	}
	args[1] = "gone.practice"
	if _, stderr, code := f.vexillum(
		args...); code != 1 ||
		!strings.Contains(stderr, "there is no scene gone.practice") {
		t.Errorf("a scene that is gone: %d %s", code, stderr)
	}
	if after := f.count(`SELECT count(*) FROM run`); after != before {
		t.Errorf("%d runs were submitted", after-before)
	}
}

// asksBeforeMachinesAreLost retires nodes that were only picked: not without a
// yes.
func (f *farm) asksBeforeMachinesAreLost() {
	f.t.Helper()
	t := f.t
	if out := f.mustSaying("name,kind\nkiln-81,rack\nkiln-82,rack\n", "nodes", "import", "-"); !strings.Contains(
		out, "kiln-82",
	) {
		t.Errorf("two nodes are announced:\n%s", out)
	}
	retired := func() int { return f.count(`SELECT count(*) FROM node WHERE retired_at IS NOT NULL`) }
	if out := f.must("nodes", "retire", "kiln-81", "--dry-run"); !strings.Contains(out, "1 node would be retired") ||
		retired() != 0 {
		t.Errorf("a dry run:\n%s", out)
	}
	if _, stderr, code := f.vexillum(
		"nodes", "retire", "--where", "rack",
	); code != 2 || !strings.Contains(stderr, "2 nodes would be retired; give --yes") ||
		retired() != 0 {
		t.Errorf("picked nodes without a yes: %d %s", code, stderr)
	}
	f.must("nodes", "retire", "kiln-81")
	f.must("nodes", "retire", "--where", "rack", "--yes")
	if retired() != 2 {
		t.Errorf("%d nodes are retired, want both", retired())
	}
}

// mustSaying is must with a text on standard input.
func (f *farm) mustSaying(text string, args ...string) string {
	f.t.Helper()
	cmd := exec.Command(binary, args...)
	cmd.Env = append(os.Environ(), "VEXILLUM_ACCESS="+filepath.Join(f.dir, "access.json"), "HOME="+f.dir)
	cmd.Stdin = strings.NewReader(text)
	out, err := cmd.CombinedOutput()
	if err != nil {
		f.t.Fatalf("vexillum %s: %v\n%s", strings.Join(args, " "), err, out)
	}
	return string(out)
}

// TestWhatCannotBeWrittenIsAFailure writes to a disk that is full: a script must not take half
// a table for all of it.
func TestWhatCannotBeWrittenIsAFailure(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	for _, args := range []string{
		"queue", "queue --json", "nodes", "project list", "key list", "--help", "exit-codes", "job schema", "recipe list",
		"--version",
	} {
		full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
		if err != nil {
			t.Skip("there is no full device here")
		}
		cmd := exec.Command(binary, strings.Fields(args)...)
		cmd.Env = append(os.Environ(), "VEXILLUM_ACCESS="+filepath.Join(f.dir, "access.json"), "HOME="+f.dir)
		var said strings.Builder
		cmd.Stdout, cmd.Stderr = full, &said
		err = cmd.Run()
		_ = full.Close()
		if err == nil || cmd.ProcessState.ExitCode() != 1 || !strings.Contains(said.String(), "no space left on device") {
			t.Errorf("vexillum %s > /dev/full: %v, %q", args, err, said.String())
		}
	}
}
