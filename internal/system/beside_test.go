package system

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"syscall"
	"testing"

	"vexillum/internal/wire"
)

// jig is a renderer that is a shell script: it takes what it is told to own by
// making folders, which two cannot do at once, and writes down what it found.
const jig = `recipe: 1
name: jig
title: Jig
mode: single
stop: kill
grace: 1s
repeatable: true
program: PROGRAM
probe: {arguments: ["--version"], version: 'jig (\S+)'}
scenes: [".jig"]
picture: png
takes: {cores: 1, memory: 64MiB, devices: 1}
arguments: ["{scene}", "{first}", "{cores}", "{devices}", "{device_numbers}"]
frame_file: '^frame\.(-?\d+)\.png$'
read: {begins: '^begin (-?\d+)'}
`

const jigScene = `set -e
locks="$JIG_FOLDER"
for c in core-$LEASE_CORE_LIST device-$LEASE_DEVICES; do
  if ! mkdir "$locks/$c"; then echo "two own $c"; exit 1; fi
done
echo "begin $1"
echo "$LEASE_CORES $LEASE_CORE_LIST=$2 $LEASE_MEMORY_BYTES $LEASE_DEVICES=$3 $LEASE_DEVICE_NUMBERS=$4 $(grep Cpus_allowed_list /proc/self/status | cut -f2) $JIG_WORD $(umask) $(id -un)" > "$locks/frame-$1"
sleep 0.2
cp "$JIG_PICTURE" frame.$1.png
rmdir "$locks/core-$LEASE_CORE_LIST" "$locks/device-$LEASE_DEVICES"
`

// TestWhatLeasesOwnIsTheirsAlone renders with leases side by side, kills the
// node process meanwhile, and looks that no two renderers ever owned the same
// core or device, that each was told the truth, and ran as it was said for its
// project and recipe.
func TestWhatLeasesOwnIsTheirsAlone(t *testing.T) {
	t.Parallel()
	if runtime.NumCPU() < 2 {
		t.Skip("two cores are needed")
	}
	program := filepath.Join(tools(t), "jig")
	script := "#!/bin/sh\n[ \"$1\" = --version ] && echo jig 1.0 && exit\nexec /bin/sh \"$@\"\n"
	if err := os.WriteFile(program, []byte(script), 0o755); err != nil {
		t.Fatal(err)
	}
	f := newFarmWith(t, map[string]string{"jig.yaml": strings.Replace(jig, "PROGRAM", program, 1)})
	f.signIn()
	locks := filepath.Join(f.dir, "locks")
	for _, dir := range []string{locks} {
		if err := os.Mkdir(dir, 0o777); err != nil {
			t.Fatal(err)
		}
	}
	for _, dir := range []string{f.dir, locks} {
		if err := os.Chmod(dir, 0o777); err != nil {
			t.Fatal(err)
		}
	}
	f.scene("salt.jig", jigScene)
	picture := filepath.Join(f.dir, "scenes", "salt.png")
	f.paintPicture(picture, 64, 36)
	account := "root"
	if os.Geteuid() == 0 {
		account = "nobody"
	}
	must := f.must
	must("launch", "set", "--set", "JIG_WORD=farm", "--set", "JIG_FOLDER="+locks)
	must("launch", "set", "--recipe", "jig", "--set", "JIG_WORD=recipe", "--set", "JIG_PICTURE={scene_folder}/salt.png")
	must("launch", "set", "--project", "salt-clock", "--set", "JIG_WORD=project", "--mask", "027")
	if os.Geteuid() == 0 {
	}
	if out := must("launch", "list"); !strings.Contains(out, "recipe jig") ||
		!strings.Contains(out, "JIG_WORD=project") {
		t.Error(out)
	}
	if _, stderr, code := f.vexillum("launch", "set", "--set", "VEXILLUM_NODE=x"); code != 1 ||
		!strings.Contains(stderr, "set by the farm itself") {
		t.Errorf("a name of our own: %d %s", code, stderr)
	}

	devices := []string{"--device", "Practice=2GiB", "--device", "Practice=2GiB"}
	if os.Geteuid() == 0 {
		devices = append(devices, "--permit", "account="+account)
	}
	node := f.join("kiln-01", devices...)
	if os.Geteuid() == 0 {
		must("nodes", "set", "kiln-01", "--permit", "account="+account)
		must("launch", "set", "--project", "salt-clock", "--recipe", "jig", "--account", account)
	}
	id := f.submit(wire.Submit{Job: "salt", Scene: "salt.jig", Frames: "1-40", Width: 64, Height: 36})
	f.done(id, 6)
	beside := f.count(`SELECT count(*) FROM lease WHERE run = $1 AND share->>'cores' = '1'`, id)
	if beside == 0 {
		t.Error("no two leases were side by side")
	}
	node.end(syscall.SIGKILL) // its renderers go on, and the next process adopts them
	f.join("kiln-01", devices...)
	run := f.ended(id)
	if run.State != "done" {
		t.Fatalf("%s: %s", run.State, run.Why)
	}
	if run.Takes != (wire.Amounts{Cores: 1, MemoryBytes: 64 << 20, Devices: 1}) {
		t.Errorf("it takes %+v", run.Takes)
	}
	f.wantOnce(id, 40)
	if n := f.count(`SELECT count(*) FROM attempt WHERE message LIKE '%two own%'`); n != 0 {
		t.Errorf("%d times two renderers owned the same", n)
	}
	if os.Geteuid() != 0 {
		account = os.Getenv("USER")
	}
	want := regexp.MustCompile(
		fmt.Sprintf(
			`^1 ([01])=([01]) 67108864 told-([01])=told-([01]) ([01])=([01]) ([01]) project 0027 %s\n$`,
			account,
		),
	)
	for frame := 1; frame <= 40; frame++ {
		data, err := os.ReadFile(filepath.Join(locks, fmt.Sprintf("frame-%d", frame)))
		m := want.FindStringSubmatch(string(data))
		if err != nil || m == nil || m[1] != m[2] || m[3] != m[4] || m[5] != m[6] || m[1] != m[7] {
			t.Errorf("frame %d was told %q %v", frame, data, err)
		}
		info, err := os.Stat(filepath.Join(f.dir, "frames", run.Output, fmt.Sprintf("salt.%04d.png", frame)))
		if err != nil || info.Mode().Perm() != 0o640 {
			t.Errorf("frame %d stands with %v %v, want permissions 640", frame, info.Mode(), err)
		}
	}
	if left, _ := filepath.Glob(filepath.Join(locks, "core-*")); len(left) > 0 {
		t.Errorf("%v were not given back", left)
	}
}

// TestTheMemoryGuardOfAFarm lets a renderer eat memory, and looks that no
// second one is begun beside it before it is known how much it takes, nor when
// that is too much; and that one which eats more than it may is ended.
func TestTheMemoryGuardOfAFarm(t *testing.T) {
	t.Parallel()
	if runtime.NumCPU() < 2 {
		t.Skip("two cores are needed")
	}
	f := newFarm(t)
	f.signIn()
	f.scene("tidal.practice", "practice: 1\npicture: tidal\ncost: 1200ms\nmemory: 300MiB\n")
	f.join(
		"kiln-01", "--renderers", "practice-single,practice", "--speed", "2",
	) // a lease on one of two cores has half of that
	one := &wire.Amounts{Cores: 1}
	id := f.submit(
		wire.Submit{
			Job: "tidal", Recipe: "practice-single", Scene: "tidal.practice", Frames: "1-60", Width: 64,
			Height: 36, Takes: one,
		},
	)
	f.done(id, 1)
	if n := f.count(
		`SELECT count(*) FROM lease WHERE run = $1 AND opened_at < (SELECT min(accepted_at) FROM frame WHERE run = $1)`,
		id,
	); n != 1 {
		t.Errorf("%d leases were begun before anybody knew what one takes", n)
	}
	f.wait("two are side by side", func() bool { return len(f.node("kiln-01").Works) == 2 })
	f.wait("their memory is measured", func() bool {
		for _, w := range f.node("kiln-01").Works {
			if w.MemoryBytes < 300<<20 {
				return false
			}
		}
		return true
	})
	if peak := f.count(`SELECT max(memory_bytes)/1048576 FROM frame WHERE run = $1`, id); peak < 300 || peak > 600 {
		t.Errorf("a launch is on record with %d MiB, want some 300", peak)
	}

	// When nearly all memory shall stay free, the second is not begun again.
	n := f.node("kiln-01")
	if out, stderr, code := f.vexillum("nodes", "set", "kiln-01", "--spare", fmt.Sprint(n.Memory-200<<20)); code != 0 {
		t.Fatalf("%s%s", out, stderr)
	}
	f.wait("one goes on alone", func() bool { return len(f.node("kiln-01").Works) == 1 })
	seen := f.run(id).DoneCount
	f.done(id, seen+3)
	if w := f.node("kiln-01").Works; len(w) > 1 {
		t.Errorf("%d leases side by side", len(w))
	}
	if _, _, code := f.vexillum("cancel", "tidal"); code != 0 {
		t.Fatal("the run cannot be cancelled")
	}

	// One that says less than it takes meets its limit.
	less := &wire.Amounts{Cores: 1, MemoryBytes: 200 << 20}
	id = f.submit(
		wire.Submit{
			Job: "tidal", Recipe: "practice-single", Scene: "tidal.practice", Frames: "1", Width: 64, Height: 36,
			Takes: less, Tries: 1,
		},
	)
	if run := f.ended(id); run.State != "failed" {
		t.Errorf("with 200 MiB it is %s: %s", run.State, run.Why)
	}
	if n := f.count(`SELECT count(*) FROM attempt WHERE run = $1 AND cause = 'out of memory'`, id); n != 1 {
		t.Errorf("%d attempts failed because memory ran out", n)
	}
}

// TestAWholeNodeIsNoLicenceForMemory lets a renderer eat more than its run says on a node that it
// has for itself.
func TestAWholeNodeIsNoLicenceForMemory(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.scene("greedy.practice", "practice: 1\npicture: tidal\ncost: 100ms\nmemory: 700MiB\n")
	f.join("kiln-01", "--renderers", "practice")
	run := wire.Submit{Job: "within", Scene: "greedy.practice", Frames: "1", Tries: 1}
	run.Takes = &wire.Amounts{MemoryBytes: 2 << 30}
	if done := f.ended(f.submit(run)); done.State != "done" {
		t.Fatalf("with room enough it is %s: %+v", done.State, done.Troubles)
	}
	run.Job, run.Takes = "over", &wire.Amounts{MemoryBytes: 256 << 20}
	id := f.submit(run)
	f.wait("it meets its limit", func() bool {
		return f.count(`SELECT count(*) FROM attempt WHERE run = $1 AND cause = 'out of memory'`, id) > 0
	})
	if n := f.count(`SELECT count(*) FROM frame WHERE run = $1 AND memory_bytes > 400000000`, id); n != 0 {
		t.Errorf("%d frames took more memory than the run says", n)
	}
}
