package system

import (
	"fmt"
	"net/http"
	"os"
	"os/user"
	"path/filepath"
	"runtime"
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
		var uid, gid, usual int
		if n, _ := fmt.Sscan(as, &uid, &gid, &usual); n != 3 || uid < 61184 || uid > 65519 || gid != uid ||
			fmt.Sprint(usual) != who.Gid {
			t.Errorf("the %s ran as %s; it should have a number of its own, in the group %s", what, as, who.Gid)
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
	for _, r := range f.node("kiln-01").Renderers {
		if usable := r.Unfit == ""; usable != (r.Recipe == "practice") || len(r.Printed) > 1000 {
			t.Errorf("it offers %+v", r)
		}
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

// apart is a recipe of which two renderers run side by side: one waits, and the other tries to
// read, change and end what it does.
const apart = `recipe: 2
name: apart
title: Apart
mode: single
stop: kill
repeatable: true
program: TOOL
probe: {arguments: ["--version"], version: 'apart (\S+)'}
scenes: [".apart"]
picture: data
ending: .txt
takes: {cores: 1, memory: 64MiB}
arguments: ["{scene}", "NOTES"]
frame_file: '^out\.(\d+)\.txt$'
`

const apartTool = `#!/bin/sh
[ "$1" = --version ] && echo apart 1.0 && exit
notes=$2
wait_for() { i=0; until grep -q "$1" "$notes"; do i=$((i+1)); [ $i -gt 300 ] && exit 9; sleep 0.1; done; }
if grep -q victim "$1"; then
	echo untouched > mine.txt
	echo "victim $PWD $$" >> "$notes"
	wait_for "attacker done"
	cp mine.txt out.1.txt
	exit
fi
wait_for "^victim"
set -- $(grep "^victim" "$notes")
cat "$2/mine.txt" && echo "attacker read" >> "$notes"
cat "/proc/$3/environ" && echo "attacker read environment" >> "$notes"
echo changed > "$2/mine.txt" && echo "attacker wrote" >> "$notes"
rm -rf "$2/mine.txt" "$2" && echo "attacker removed" >> "$notes"
ls "$2/.." && echo "attacker listed" >> "$notes"
kill -9 "$3" && echo "attacker killed" >> "$notes"
join=$(for p in /proc/[0-9]*/cmdline; do tr '\000' ' ' <"$p"; echo; done | grep -aF -- "--data ${PWD%/staging/*} ")
[ -n "$join" ] || echo "attacker sees no node process" >> "$notes"
case $join in *vxk_*) echo "attacker read the enrolment key" >> "$notes";; esac
echo "attacker done" >> "$notes"
echo harmless > out.1.txt
`

// TestRenderersSideBySideAreApart lets a renderer of one run attack that of another, which the
// same node renders under the same usual account.
func TestRenderersSideBySideAreApart(t *testing.T) {
	t.Parallel()
	if os.Geteuid() != 0 || runtime.NumCPU() < 2 {
		t.Skip("two cores and root are needed")
	}
	dir := tools(t)
	program, notes := filepath.Join(dir, "apart"), filepath.Join(dir, "notes")
	for name, text := range map[string]string{program: apartTool, notes: ""} {
		if err := os.WriteFile(name, []byte(text), 0o777); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(name, 0o777); err != nil {
			t.Fatal(err)
		}
	}
	f := newFarmWith(t, map[string]string{"apart.yaml": strings.NewReplacer("TOOL", program, "NOTES", notes).Replace(apart)})
	f.scene("a.apart", "victim")
	f.scene("b.apart", "attacker")
	f.join("kiln-01", "--renderers", "apart")
	victim := f.submit(wire.Submit{Job: "a", Scene: "a.apart", Frames: "1", StartOn: new(0)})
	attacker := f.submit(wire.Submit{Job: "b", Scene: "b.apart", Frames: "1", StartOn: new(0)})
	for _, id := range []int64{attacker, victim} {
		if run := f.ended(id); run.State != "done" {
			t.Fatalf("%s is %s: %s", run.Name, run.State, run.Why)
		}
	}
	said, err := os.ReadFile(notes)
	if err != nil {
		t.Fatal(err)
	}
	if n := strings.Count(string(said), "attacker"); n != 1 || !strings.Contains(string(said), "attacker done") {
		t.Errorf("what the attacker could do:\n%s", said)
	}
	text, err := os.ReadFile(filepath.Join(f.dir, "frames", f.run(victim).Output, "a.0001.txt"))
	if err != nil || string(text) != "untouched\n" {
		t.Errorf("the frame of the other run is %q, %v", text, err)
	}
}
