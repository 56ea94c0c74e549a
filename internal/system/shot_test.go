package system

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"vexillum/internal/wire"
)

// A scene in which all moves with the clock.
const clocked = `camera { location <0, 0, -3> look_at 0 }
light_source { <2, 4, -3> rgb 1 }
plane { z, 3 pigment { checker rgb <0.2, 0.2, 0.5> rgb <0.8, 0.7, 0.4> scale 0.5 } rotate clock * 90 * z }
sphere { <2 * clock - 1, sin(clock * 6.2831853), 0>, 0.4 pigment { rgb <1, clock, 0.2> } }
`

// direct renders a whole animation by POV-Ray alone and returns where its frames
// are.
func direct(t *testing.T, f *farm, scene string, options ...string) string {
	t.Helper()
	to := t.TempDir()
	cmd := exec.Command(
		"povray",
		append(
			[]string{
				"+I" + filepath.Join(f.dir, "scenes", scene), "+Oframe", "+FN", "+W80", "+H45", "+Q9", "+A0.3", "+AM2",
				"+R1", "+WT1", "-D", "-P",
			},
			options...,
		)...,
	)
	cmd.Dir, cmd.Env = to, append(os.Environ(), "HOME="+filepath.Join(f.dir, "scenes"))
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	return to
}

// TestAFrameIsTheSameInEveryRun renders parts of an animation, and compares each
// frame with that of a direct render of the whole.
func TestAFrameIsTheSameInEveryRun(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.scene("said.pov", clocked)
	f.scene("told.pov", clocked)
	f.scene(
		"told.ini",
		"; of this scene\nInput_File_Name=told.pov\nInitial_Frame=1\nFinal_Frame=24\nInitial_Clock=0.25\n"+
			"Final_Clock=1.25\nCyclic_Animation=on\n",
	)
	f.join("kiln-01", "--renderers", "povray", "--threads", "1")
	f.join("kiln-02", "--renderers", "povray", "--threads", "1")
	whole := map[string]string{
		"said": direct(t, f, "said.pov", "+KFI1", "+KFF60"),
		"told": direct(t, f, "told.pov", "+KFI1", "+KFF24", "+KI0.25", "+KF1.25", "+KC"),
	}
	compared := 0
	for _, c := range []struct{ job, kind, frames, shot, want string }{
		{"said", "proof", "1-60/20", "1-60", "1-60"},
		{"said", "correction", "31-33", "", "1-60"}, // as was said for the run before
		{"said", "final", "58-60", "", "1-60"},
		{"told", "proof", "1-24/8", "", "1-24"}, // as the file beside it says
		{"told", "correction", "7", "", "1-24"},
		{"told", "final", "20-24", "", "1-24"},
	} {
		run := f.ended(f.submit(wire.Submit{
			Job: c.job, Kind: c.kind, Scene: c.job + ".pov", Frames: c.frames, Shot: c.shot, Width: 80, Height: 45,
		}))
		if run.State != "done" || run.Shot != c.want {
			t.Fatalf("%s of the shot range %s is %s: %s %+v", run.Name, run.Shot, run.State, run.Why, run.Troubles)
		}
		for _, name := range f.files(run) {
			var frame int
			if _, err := fmt.Sscanf(strings.TrimPrefix(name, c.job), ".%d.png", &frame); err != nil {
				t.Fatalf("unexpected file %s", name)
			}
			samePixels(
				t, run.Name+" "+name, readPNG(t, filepath.Join(f.dir, "frames", run.Output, name)),
				readPNG(t, filepath.Join(whole[c.job], fmt.Sprintf("frame%02d.png", frame))),
			)
			compared++
		}
	}
	if compared != 3+3+3+3+1+5 {
		t.Errorf("%d frames were compared", compared)
	}
	f.signIn()
	out := f.must("submit", "told.pov", "--project", "salt-clock", "--frames", "3", "--size", "80x45", "--held")
	if !strings.Contains(out, "The shot range is 1-24, as told.ini says; another can be given.") {
		t.Errorf("the receipt does not tell where the shot range is from: %s", out)
	}
}

// TestAFramePlaceThatIsAway looks that no submit takes the empty mount point of a
// storage for the storage.
func TestAFramePlaceThatIsAway(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("salt.practice", steady)
	frames := filepath.Join(f.dir, "frames")
	submit := []string{"submit", "salt.practice", "--project", "salt-clock", "--frames", "1", "--size", "64x36"}
	f.must(submit...)
	if err := os.Rename(frames, frames+".away"); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(frames, 0o755); err != nil {
		t.Fatal(err)
	}
	if _, stderr, code := f.vexillum(submit...); code != 1 || !strings.Contains(stderr, "vexillum place mark frames") {
		t.Errorf("an empty mount point: exit code %d, %s", code, stderr)
	}
	f.must("place", "set", "frames", "--loads", "3") // changes nothing about that
	if entries, _ := os.ReadDir(frames); len(entries) > 0 {
		t.Errorf("%s was written into the mount point", entries[0].Name())
	}
	if out := f.must("place", "list"); !strings.Contains(out, "not marked") {
		t.Errorf("the list of places does not tell: %s", out)
	}
	f.must("place", "mark", "frames") // a person says that it is the one
	f.must(submit...)
}

// TestSomebodyElsesFolder looks that a run never writes beside what stands in its
// folder already.
func TestSomebodyElsesFolder(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("salt.practice", steady)
	for _, n := range []string{"final-1", "final-2"} {
		if err := os.MkdirAll(filepath.Join(f.dir, "frames", "salt", n), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(
			filepath.Join(f.dir, "frames", "salt", n, "salt.0001.png"), []byte("an older one"), 0o644,
		); err != nil {
			t.Fatal(err)
		}
	}
	submit := []string{"submit", "salt.practice", "--project", "salt-clock", "--frames", "1-3", "--size", "64x36"}
	out := f.must(submit...)
	if !strings.Contains(out, "salt/final-3") || !strings.Contains(
		out, "The folders salt/final-1 to salt/final-2 hold files already",
	) {
		t.Errorf("the receipt: %s", out)
	}
	if out := f.must(submit...); !strings.Contains(out, "salt/final-4") {
		t.Errorf("the next: %s", out)
	}
	if err := os.WriteFile(filepath.Join(f.dir, "frames", "taken"), []byte("a file"), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, stderr, code := f.vexillum(
		append(submit, "--output", "taken")...); code != 1 ||
		!strings.Contains(stderr, "cannot be used") {
		t.Errorf("a file where a folder should be: %d %s", code, stderr)
	}
	f.join("kiln-01", "--renderers", "practice")
	f.wantDone(f.named("salt/final-3").ID, 1, 3, "salt")
}

// named returns the one run of a name.
func (f *farm) named(name string) wire.Run {
	f.t.Helper()
	var runs []wire.Run
	if err := f.admin.Do(f.t.Context(), "GET", "/api/v1/runs?name="+name, nil, &runs); err != nil || len(runs) != 1 {
		f.t.Fatalf("%s means %d runs, %v", name, len(runs), err)
	}
	return runs[0]
}

// TestNamesOfRuns: a name wins over a number, and what may mean several is
// refused with the list.
func TestNamesOfRuns(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.patch("/api/v1/projects/gannet", wire.ProjectChange{Scenes: "scenes", Frames: "frames"})
	f.scene("a.practice", steady)
	for range 3 {
		f.submit(wire.Submit{Job: "other", Scene: "a.practice", Frames: "1"})
	}
	f.submit(wire.Submit{Job: "2", Scene: "a.practice", Frames: "1"})
	f.must("cancel", "2")
	if second, named := f.run(2), f.named("2"); second.State == "cancelled" || named.State != "cancelled" ||
		named.ID != 4 {
		t.Errorf("cancel 2: run 2 is %s, the job named 2 is %s", second.State, named.State)
	}
	f.must("cancel", "#2")
	if f.run(2).State != "cancelled" {
		t.Error("cancel #2 did not cancel run 2")
	}
	f.submit(wire.Submit{Job: "other", Project: "gannet", Scene: "a.practice", Frames: "1"})
	_, stderr, code := f.vexillum("cancel", "other")
	if code != 1 || !strings.Contains(stderr, "may mean 2 runs") || !strings.Contains(stderr, "gannet/other/") {
		t.Errorf("a name of two projects: %d %s", code, stderr)
	}
	f.must("cancel", "gannet/other")
	var r wire.Receipt
	err := f.admin.Do(
		t.Context(), "POST", "/api/v1/runs",
		wire.Submit{Job: "Other", Project: "gannet", Scene: "a.practice", Frames: "1"}, &r,
	)
	if err == nil || !strings.Contains(err.Error(), "some file systems cannot tell the two names apart") {
		t.Errorf("a job that differs in capitals: %v", err)
	}
	if err := f.admin.Do(t.Context(), "GET", "/api/v1/runs?name=", nil, &[]wire.Run{}); err == nil {
		t.Error("the API takes an empty name")
	}
}
