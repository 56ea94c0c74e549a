package api

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"vexillum/internal/wire"
)

// scene writes a scene of the practice renderer and makes its folders.
func (w *world) scene(name, text string) {
	w.t.Helper()
	file := filepath.Join(w.dir, "scenes", filepath.FromSlash(name))
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		w.t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		w.t.Fatal(err)
	}
}

// submitted submits and returns the receipt.
func (w *world) submitted(in wire.Submit) (out wire.Receipt) {
	w.t.Helper()
	in.Project = "salt-clock"
	w.must("POST", "/api/v1/runs", in, &out)
	return out
}

// refused submits what has to be refused for a field, and returns what is said.
func (w *world) refused(in wire.Submit, status int, field string) string {
	w.t.Helper()
	in.Project = "salt-clock"
	got, body := w.call(w.tokens[admin], "POST", "/api/v1/runs", in)
	var p wire.Problem
	if err := json.Unmarshal(body, &p); err != nil || got != status || p.Field != field {
		w.t.Fatalf("%+v: %d %s, want %d for %s", in, got, body, status, field)
	}
	return p.Detail
}

// TestAJobIsOneScene submits scenes that are called alike: they are different jobs, and
// none takes anything over from another.
func TestAJobIsOneScene(t *testing.T) {
	w := newWorld(t)
	for _, name := range []string{"sq010/cam.practice", "sq020/cam.practice", "old/sq020/cam.practice"} {
		w.scene(name, "")
	}
	first := w.submitted(wire.Submit{Scene: "sq010/cam.practice", Frames: "1-100"})
	if first.Name != "cam/final-1" || first.Shot != "1-100" {
		t.Fatalf("the first is %s, of the shot %s", first.Name, first.Shot)
	}
	second := w.submitted(wire.Submit{Scene: "sq020/cam.practice", Frames: "1-10"})
	if second.Name != "sq020_cam/final-1" || second.Shot != "1-10" || second.FrameCount != 10 {
		t.Errorf("the second is %s, of the shot %s, %d frames", second.Name, second.Shot, second.FrameCount)
	}
	if !strings.HasSuffix(second.Output, "/frames/sq020_cam/final-1") {
		t.Errorf("it goes to %s", second.Output)
	}
	if remark := "It is called sq020_cam, as cam renders sq010/cam.practice."; !slices.Contains(second.Remarks, remark) {
		t.Errorf("the receipt says %q, not %q", second.Remarks, remark)
	}
	if third := w.submitted(wire.Submit{Scene: "old/sq020/cam.practice", Frames: "5"}); third.Name != "old_sq020_cam/final-1" {
		t.Errorf("the third is %s", third.Name)
	}
	// A scene that says nothing of its length has none of another scene.
	w.scene("sq030/cam.practice", "")
	w.refused(wire.Submit{Scene: "sq030/cam.practice"}, 422, "frames")
	// Each goes on as what it was, and says from where it has its shot range.
	again := w.submitted(wire.Submit{Scene: "sq020/cam.practice"})
	if again.Name != "sq020_cam/final-2" || again.Shot != "1-10" ||
		!strings.Contains(strings.Join(again.Remarks, " "), "as in sq020_cam/final-1") {
		t.Errorf("again it is %s, of the shot %s: %q", again.Name, again.Shot, again.Remarks)
	}
	if said := w.refused(
		wire.Submit{Job: "cam", Scene: "sq020/cam.practice", Frames: "1-10"}, 409, "job",
	); !strings.Contains(said, "sq010/cam.practice") {
		t.Errorf("a name of another scene is refused with %q", said)
	}
	// What a form or a job file would show says the same.
	var scene wire.Scene
	w.must("GET", "/api/v1/projects/salt-clock/scene?path=sq020/cam.practice", nil, &scene)
	if scene.Job != "sq020_cam" || scene.Shot != "1-10" {
		t.Errorf("the form says %s, of the shot %s", scene.Job, scene.Shot)
	}
	w.must("GET", "/api/v1/projects/salt-clock/scene?path=sq030/cam.practice", nil, &scene)
	if scene.Job != "sq030_cam" || scene.Shot != "" {
		t.Errorf("of the scene that was never rendered the form says %s, of the shot %q", scene.Job, scene.Shot)
	}
}

// TestMissingFramesAreOfTheScene leaves out what is there, and nothing of another scene.
func TestMissingFramesAreOfTheScene(t *testing.T) {
	w := newWorld(t)
	run, lease, session := w.atWork() // of a.practice, called job
	data := []byte("a picture")
	item := w.accepted(lease, session, 1, data)
	item.Outcome = wire.OutcomeDelivered
	w.scene("frames-are-elsewhere/a.practice", "")
	file := filepath.Join(w.dir, "frames", filepath.FromSlash(run.Output), "job.0001.png")
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, data, 0o644); err != nil {
		t.Fatal(err)
	}
	w.as(aNode, "POST", "/node/v1/report", wire.Report{Session: session, Items: []wire.ReportItem{item}}, nil)
	same := w.submitted(wire.Submit{Job: "job", Scene: "a.practice", Frames: "1-3", Missing: true, DryRun: true})
	if same.FrameCount != 2 {
		t.Errorf("of the same scene %d frames are missing, not 2: %q", same.FrameCount, same.Remarks)
	}
	other := w.submitted(
		wire.Submit{Scene: "frames-are-elsewhere/a.practice", Frames: "1-3", Missing: true, DryRun: true},
	)
	if other.FrameCount != 3 {
		t.Errorf("of the other scene %d frames are missing, not 3: %q", other.FrameCount, other.Remarks)
	}
}

// TestALookIsAJobOfItsOwn renders one scene with two cameras, and stills of it.
func TestALookIsAJobOfItsOwn(t *testing.T) {
	w := newWorld(t)
	w.scene("dome.practice", "cameras:\n  - {camera: left}\n  - {camera: right}\n")
	camera := func(name, job, frames string) wire.Submit {
		return wire.Submit{Job: job, Scene: "dome.practice", Frames: frames, Values: map[string]string{"camera": name}}
	}
	for _, c := range []struct {
		in   wire.Submit
		name string
		shot string
	}{
		{camera("left", "", "1-20"), "dome_left/final-1", "1-20"},
		{camera("right", "", "1-5"), "dome_right/final-1", "1-5"},
		{camera("left", "", "2"), "dome_left/final-2", "1-20"},
		{wire.Submit{Scene: "dome.practice", Frames: "7"}, "dome/final-1", "7"},
		{
			wire.Submit{Scene: "dome.practice", Frames: "7", Variant: []string{"a", "b"}}, "dome_a_b/final-1", "7",
		},
	} {
		got := w.submitted(c.in)
		if got.Name != c.name || got.Shot != c.shot {
			t.Errorf("%+v is %s, of the shot %s; want %s and %s", c.in, got.Name, got.Shot, c.name, c.shot)
		}
	}
	w.refused(camera("right", "dome", "1"), 409, "job")
	for _, part := range []string{"", "..", "a/b", strings.Repeat("x", 100)} {
		w.refused(wire.Submit{Scene: "dome.practice", Frames: "1", Variant: []string{part}}, 422, "variant")
	}
	w.refused(wire.Submit{Scene: "dome.practice", Frames: "1", Origin: "/tmp/dome.practice"}, 422, "origin")
}

// TestAlikeScenesOfAFileAreApart submits a job file whose scenes are called alike.
func TestAlikeScenesOfAFileAreApart(t *testing.T) {
	w := newWorld(t)
	text := "job_file: 1\nproject: salt-clock\njobs:\n"
	for i := range 4 {
		name := fmt.Sprintf("sq%d/cam.practice", i)
		w.scene(name, "")
		text += fmt.Sprintf("  - {scene: %s, frames: 1-%d, each: {camera: [l, r]}}\n", name, i+1)
	}
	var out wire.JobsSubmitted
	w.must("POST", "/api/v1/jobs", wire.SubmitJobs{Text: text}, &out)
	var names []string
	for _, r := range out.Receipts {
		folder := strings.TrimSuffix(strings.SplitN(r.Output, "/frames/", 2)[1], "/final-1")
		names = append(names, fmt.Sprintf("%s %s %s", r.Name, r.Shot, folder))
	}
	want := []string{
		"cam_l/final-1 1 cam/l", "cam_r/final-1 1 cam/r", "sq1_cam_l/final-1 1-2 sq1_cam/l",
		"sq1_cam_r/final-1 1-2 sq1_cam/r", "sq2_cam_l/final-1 1-3 sq2_cam/l", "sq2_cam_r/final-1 1-3 sq2_cam/r",
		"sq3_cam_l/final-1 1-4 sq3_cam/l", "sq3_cam_r/final-1 1-4 sq3_cam/r",
	}
	if !slices.Equal(names, want) {
		t.Errorf("they are\n%s\nwant\n%s", strings.Join(names, "\n"), strings.Join(want, "\n"))
	}
}
