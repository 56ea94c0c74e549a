package system

import (
	"fmt"
	"image"
	"image/png"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"vexillum/internal/practice"
	"vexillum/internal/wire"
)

func readPNG(t *testing.T, path string) image.Image {
	t.Helper()
	file, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	img, err := png.Decode(file)
	if err != nil {
		t.Fatalf("%s: %v", path, err)
	}
	return img
}

func samePixels(t *testing.T, what string, got, want image.Image) {
	t.Helper()
	if got.Bounds() != want.Bounds() {
		t.Fatalf("%s: %v, want %v", what, got.Bounds(), want.Bounds())
	}
	for y := got.Bounds().Min.Y; y < got.Bounds().Max.Y; y++ {
		for x := got.Bounds().Min.X; x < got.Bounds().Max.X; x++ {
			r1, g1, b1, a1 := got.At(x, y).RGBA()
			r2, g2, b2, a2 := want.At(x, y).RGBA()
			if r1 != r2 || g1 != g2 || b1 != b2 || a1 != a2 {
				t.Fatalf("%s: the pixel at %d,%d differs", what, x, y)
			}
		}
	}
}

// practicePixels checks that each file holds the picture that the practice
// renderer draws for its frame.
func (f *farm) practicePixels(run wire.Run, picture string) {
	f.t.Helper()
	for _, name := range f.files(run) {
		var frame int
		if _, err := fmt.Sscanf(strings.TrimPrefix(name, run.Job), ".%d.png", &frame); err != nil {
			f.t.Fatalf("unexpected file %s", name)
		}
		samePixels(
			f.t.(*testing.T), name, readPNG(f.t.(*testing.T), filepath.Join(f.dir, "frames", run.Output, name)),
			practice.Paint(picture, frame, run.Width, run.Height),
		)
	}
}

// TestPOVRayFramesEqualDirectRenders renders on two nodes through the farm
// and compares every pixel with frames that POV-Ray rendered directly.
func TestPOVRayFramesEqualDirectRenders(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	scene, err := os.ReadFile("../../examples/pellmarsh/scenes/tidal-room/tidal_floor.pov")
	if err != nil {
		t.Fatal(err)
	}
	f.scene("tidal_floor.pov", string(scene))
	f.join("kiln-01", "--renderers", "povray", "--threads", "1")
	f.join("kiln-02", "--renderers", "povray", "--threads", "1")
	id := f.submit(
		wire.Submit{Job: "tidal_floor", Scene: "tidal_floor.pov", Frames: "1-6,9-12/3", Width: 160, Height: 90},
	)
	run := f.ended(id)
	if run.State != "done" {
		t.Fatalf("the run is %s: %s %+v", run.State, run.Why, run.Troubles)
	}
	f.wantFiles(run, append(frameNames("tidal_floor", 1, 6), "tidal_floor.0009.png", "tidal_floor.0012.png"))
	f.wantOnce(id, 8)
	direct := t.TempDir()
	cmd := exec.Command(
		"povray", "+I"+filepath.Join(f.dir, "scenes", "tidal_floor.pov"), "+Oframe", "+FN", "+W160", "+H90", "+Q9",
		"+A0.3", "+AM2", "+R1", "+WT1", "+KFI1", "+KFF12", "+SF1", "+EF12", "-D", "-P",
	)
	cmd.Dir, cmd.Env = direct, append(os.Environ(), "HOME="+filepath.Join(f.dir, "scenes"))
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	for _, frame := range []int{1, 2, 3, 4, 5, 6, 9, 12} {
		samePixels(t, fmt.Sprint("frame ", frame),
			readPNG(t, filepath.Join(f.dir, "frames", run.Output, fmt.Sprintf("tidal_floor.%04d.png", frame))),
			readPNG(t, filepath.Join(direct, fmt.Sprintf("frame%02d.png", frame))))
	}
	if n := f.count(`SELECT count(DISTINCT node) FROM frame WHERE run = $1`, id); n != 2 {
		t.Errorf("%d nodes rendered it, want 2", n)
	}
	if n := f.count(`SELECT count(*) FROM thumbnail WHERE run = $1`, id); n != 8 {
		t.Errorf("%d thumbnails, want 8", n)
	}
}

const steady = "practice: 1\npicture: salt\nstartup: 20ms\ncost: 150ms\n"

// TestServiceKilledInMidRun kills the service, lets the nodes go on without
// it, and starts it again.
func TestServiceKilledInMidRun(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.scene("salt.practice", steady)
	f.join("kiln-01", "--renderers", "practice")
	f.join("kiln-02", "--renderers", "practice")
	id := f.submit(wire.Submit{Job: "salt", Scene: "salt.practice", Frames: "1-40"})
	for _, atLeast := range []int{5, 15} {
		f.done(id, atLeast)
		f.service.end(syscall.SIGKILL)
		time.Sleep(300 * time.Millisecond) // frames finish while nobody listens
		f.serve()
	}
	f.wantDone(id, 1, 40, "salt")
	if n := f.count(`SELECT max(session) FROM node`); n != 1 {
		t.Errorf("a node opened %d sessions; a killed service shall not cost one", n)
	}
}

// TestNodeKilledInMidRun kills a node process and starts it again: its
// renderer dies with it, and its frames are rendered by the first node that asks.
func TestNodeKilledInMidRun(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.scene("salt.practice", steady)
	first := f.join("kiln-01", "--renderers", "practice")
	f.join("kiln-02", "--renderers", "practice")
	id := f.submit(wire.Submit{Job: "salt", Scene: "salt.practice", Frames: "1-40"})
	f.done(id, 6)
	first.end(syscall.SIGKILL)
	f.join("kiln-01", "--renderers", "practice")
	f.wantDone(id, 1, 40, "salt")
}

func TestEveryMode(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.scene("gannet.practice", "practice: 1\npicture: gannet\ncost: 40ms\n")
	f.join("kiln-01", "--renderers", "practice,practice-single,practice-feed")
	for _, recipe := range []string{"practice", "practice-single", "practice-feed"} {
		id := f.submit(wire.Submit{Job: recipe, Scene: "gannet.practice", Recipe: recipe, Frames: "-2-6/2,9"})
		run := f.ended(id)
		if run.State != "done" {
			t.Errorf("%s: %s: %s %+v", recipe, run.State, run.Why, run.Troubles)
			continue
		}
		var names []string
		for _, frame := range []string{"-0002", "0000", "0002", "0004", "0006", "0009"} {
			names = append(names, fmt.Sprintf("%s.%s.png", recipe, frame))
		}
		f.wantFiles(run, names)
		f.practicePixels(run, "gannet")
		f.wantOnce(id, 6)
		launches := f.count(`SELECT count(DISTINCT (lease, launch)) FROM frame WHERE run = $1`, id)
		if want := map[string]int{"practice": 6, "practice-single": 6, "practice-feed": 1}[recipe]; launches != want {
			t.Errorf("%s: %d launches, want %d", recipe, launches, want)
		}
	}
}

// TestEveryTroubleIsNamed renders frames that fail in every scripted way.
func TestEveryTroubleIsNamed(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("bad.practice", `
practice: 1
picture: tidal
cost: 20ms
trouble:
  - {frame: 2, does: error}
  - {frame: 3, does: crash}
  - {frame: 4, does: memory}
  - {frame: 5, does: no file}
  - {frame: 6, does: cut off}
  - {frame: 7, does: wrong size}
  - {frame: 8, does: error, on: [kiln-01]}
  - {frame: 10, does: no file}
  - {frame: 11, does: hang}
`)
	f.join("kiln-01", "--renderers", "practice", "--stall", "2s")
	f.join("kiln-02", "--renderers", "practice", "--stall", "2s")
	id := f.submit(wire.Submit{Job: "bad", Scene: "bad.practice", Frames: "1-12", Tries: 2})
	run := f.ended(id)
	if run.State != "done with gaps" || run.Sets.Done != "1,8-9,12" || run.Sets.Parked != "2-7,10-11" {
		t.Fatalf("%s: done %s, parked %s", run.State, run.Sets.Done, run.Sets.Parked)
	}
	want := map[int]string{
		2: "crash", 3: "crash", 4: "out of memory", 5: "no frame", 6: "wrong output", 7: "wrong output",
		10: "no frame", 11: "stalled",
	}
	for _, trouble := range run.Troubles {
		if n := len(trouble.Failed); n < 2 || n > 4 { // more than its 2 tries where one was put down to something else
			t.Errorf("frame %d failed %d times, want its 2 tries", trouble.Frame, n)
			continue
		}
		if trouble.Failed[0].Node == trouble.Failed[1].Node {
			t.Errorf("frame %d was tried twice on %s", trouble.Frame, trouble.Failed[0].Node)
		}
		for _, a := range trouble.Failed {
			if a.Cause != want[trouble.Frame] {
				t.Errorf("frame %d: cause %q, want %q (%s)", trouble.Frame, a.Cause, want[trouble.Frame], a.Message)
			}
		}
	}
	f.wantFiles(run, []string{"bad.0001.png", "bad.0008.png", "bad.0009.png", "bad.0012.png"})
	if _, _, code := f.vexillum("follow", "bad"); code != 1 {
		t.Errorf("follow of a run with gaps ended with %d, want 1", code)
	}
	// The scene is mended and the parked frames are tried again.
	f.scene("bad.practice", "practice: 1\npicture: tidal\ncost: 20ms\n")
	if _, stderr, code := f.vexillum("retry", "bad"); code != 0 {
		t.Fatalf("retry: %s", stderr)
	}
	// What is done is of the old state, and going on is for a person to say.
	f.wait("the run is held", func() bool { return f.run(id).State == "held" })
	if why := f.run(id).Why; !strings.Contains(why, "frames 1,8-9,12 are of the old state") {
		t.Errorf("it is held as %q", why)
	}
	f.must("release", "bad")
	f.wait("all frames are done", func() bool { return f.run(id).State == "done" })
	f.wantFiles(run, frameNames("bad", 1, 12))
	f.practicePixels(run, "tidal")
	if _, _, code := f.vexillum("follow", "bad"); code != 0 {
		t.Errorf("follow of a finished run ended with %d", code)
	}
}

// TestNothingIsReplaced puts a foreign file where a frame shall go, after the
// run was submitted: before, it would have got another folder.
func TestNothingIsReplaced(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 20ms\n")
	id := f.submit(wire.Submit{Job: "salt", Scene: "salt.practice", Frames: "1-3"})
	folder := filepath.Join(f.dir, "frames", filepath.FromSlash(f.run(id).Output))
	if err := os.MkdirAll(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	foreign := filepath.Join(folder, "salt.0002.png")
	if err := os.WriteFile(foreign, []byte("somebody's own"), 0o644); err != nil {
		t.Fatal(err)
	}
	f.join("kiln-01", "--renderers", "practice")
	run := f.ended(id)
	if run.State != "done with gaps" || run.Sets.Parked != "2" {
		t.Errorf("%s: parked %s", run.State, run.Sets.Parked)
	}
	if data, err := os.ReadFile(foreign); err != nil || string(data) != "somebody's own" {
		t.Errorf("the foreign file is %q now, %v", data, err)
	}
	f.wantFiles(run, frameNames("salt", 1, 3))
}

// TestCancelEndsTheWholeTree cancels a run whose renderer has started a
// process of its own.
func TestCancelEndsTheWholeTree(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("long.practice", "practice: 1\npicture: salt\ncost: 60s\ntrouble:\n  - {frame: 1, does: leaves child}\n")
	f.join("kiln-01", "--renderers", "practice")
	id := f.submit(wire.Submit{Job: "long", Scene: "long.practice", Frames: "1-5"})
	var tree []int
	f.wait("the renderer and its child are up", func() bool {
		tree = descendants(t, f.launcherOf("kiln-01"))
		return len(tree) >= 2
	})
	began := time.Now()
	if out, stderr, code := f.vexillum("cancel", "long"); code != 0 || !strings.Contains(out, "cancelled") {
		t.Fatalf("cancel: %s%s", out, stderr)
	}
	for _, pid := range tree {
		f.wait("the whole tree is gone", func() bool { return !alive(pid) })
	}
	t.Logf("the processes were gone %v after the command began", time.Since(began).Round(10*time.Millisecond))
	if run := f.run(id); run.State != "cancelled" {
		t.Errorf("the run is %s", run.State)
	}
	f.wait("the node is free again", func() bool { return f.node("kiln-01").State == "ready" })
}

func TestHoldFinishesFramesInFlight(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 250ms\n")
	f.join("kiln-01", "--renderers", "practice")
	id := f.submit(wire.Submit{Job: "salt", Scene: "salt.practice", Frames: "1-20"})
	f.done(id, 2)
	f.wait("a frame is in flight", func() bool { return f.run(id).Sets.Rendering != "" })
	if _, stderr, code := f.vexillum("hold", "salt"); code != 0 {
		t.Fatal(stderr)
	}
	f.wait("the node is free", func() bool { return f.node("kiln-01").State == "ready" })
	held := f.run(id)
	if held.State != "held" || held.Sets.Rendering != "" || held.Sets.Dealt != "" || held.DoneCount >= 20 {
		t.Errorf("held: %+v", held.Sets)
	}
	if n := f.count(`SELECT count(*) FROM attempt`); n != 0 {
		t.Errorf("the hold cost %d tries", n)
	}
	if _, stderr, code := f.vexillum("release", "salt/final-1"); code != 0 {
		t.Fatal(stderr)
	}
	f.ended(id)
	f.wantOnce(id, 20)
	// At once: the frame in flight is thrown away, and rendered again later.
	id = f.submit(wire.Submit{Job: "salt", Scene: "salt.practice", Frames: "1-8"})
	f.done(id, 1)
	if _, stderr, code := f.vexillum("hold", "--now", "salt"); code != 0 {
		t.Fatal(stderr)
	}
	f.wait("the node is free", func() bool { return f.node("kiln-01").State == "ready" })
	if _, stderr, code := f.vexillum("release", fmt.Sprintf("#%d", id)); code != 0 {
		t.Fatal(stderr)
	}
	f.ended(id)
	f.wantOnce(id, 8)
}

// TestNodeThatLeavesGivesItsWorkBack stops a node process politely.
func TestNodeThatLeavesGivesItsWorkBack(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.scene("salt.practice", steady)
	first := f.join("kiln-01", "--renderers", "practice")
	id := f.submit(wire.Submit{Job: "salt", Scene: "salt.practice", Frames: "1-12"})
	f.done(id, 2)
	first.end(syscall.SIGTERM)
	f.wait("kiln-01 is shown as away", func() bool { return f.node("kiln-01").State == "away" })
	if run := f.run(id); run.Sets.Dealt != "" || run.Sets.Rendering != "" {
		t.Errorf("it still holds frames: %+v", run.Sets)
	}
	f.join("kiln-02", "--renderers", "practice")
	f.ended(id)
	f.wantOnce(id, 12)
}

// TestASecondProcessOfANodeWins starts the same node twice.
func TestASecondProcessOfANodeWins(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	first := f.join("kiln-01", "--renderers", "practice")
	same := start(
		t, "in the same folder", "join",
		"http://"+f.listen,
		"--data", filepath.Join(f.dir, "kiln-01"), "--renderers", "practice",
	)
	<-same.gone
	if code := same.cmd.ProcessState.ExitCode(); code != 1 ||
		!strings.Contains(same.out.String(), "works in this folder") {
		t.Errorf("a second process in the same folder ended with %d", code)
	}
	identity, err := os.ReadFile(filepath.Join(f.dir, "kiln-01", "node.json"))
	if err != nil {
		t.Fatal(err)
	}
	copied := filepath.Join(f.dir, "copy")
	if err := os.Mkdir(copied, 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(copied, "node.json"), identity, 0o600); err != nil {
		t.Fatal(err)
	}
	second := start(t, "second", "join", "http://"+f.listen, "--data", copied, "--renderers", "practice")
	select {
	case <-first.gone:
	case <-time.After(60 * time.Second):
		t.Fatal("the first process goes on")
	}
	if code := first.cmd.ProcessState.ExitCode(); code != 1 ||
		!strings.Contains(first.out.String(), "newer node process") {
		t.Errorf("the first ended with %d", code)
	}
	if !alive(second.cmd.Process.Pid) {
		t.Error("the second process has ended, too")
	}
	var n wire.Node
	if err := f.admin.Do(t.Context(), http.MethodGet, "/api/v1/nodes/1", nil, &n); err != nil || n.Reach != "online" {
		t.Errorf("the node is %s, %v", n.Reach, err)
	}
}

// TestPOVRayErrorsAreRecognised breaks a scene in some of its frames.
func TestPOVRayErrorsAreRecognised(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.scene("broken.pov", `#version 3.7;
global_settings { assumed_gamma 1.0 }
#if (frame_number = 3) sphere { #end
#if (frame_number = 5) #include "gone.inc" #end
camera { location <0, 1, -4> look_at 0 }
light_source { <4, 9, -5> 1 }
sphere { 0, 1 pigment { rgb <1, clock, 0> } }
`)
	f.join("kiln-01", "--renderers", "povray", "--threads", "1")
	run := f.ended(f.submit(wire.Submit{Job: "broken", Scene: "broken.pov", Frames: "1-6", Tries: 1}))
	if run.State != "done with gaps" || run.Sets.Done != "1-2,4,6" {
		t.Fatalf("%s: done %s, shot %s, troubles %+v", run.State, run.Sets.Done, run.Shot, run.Troubles)
	}
	want := map[int][2]string{3: {"scene error", "Parse Error"}, 5: {"missing file", "gone.inc"}}
	for _, trouble := range run.Troubles {
		first, _, _ := strings.Cut(trouble.Failed[0].Message, "\n")
		if w := want[trouble.Frame]; trouble.Failed[0].Cause != w[0] || !strings.Contains(first, w[1]) {
			t.Errorf("frame %d: %s, said %q; want %q", trouble.Frame, trouble.Failed[0].Cause, trouble.Failed[0].Message, w)
		}
	}
}
