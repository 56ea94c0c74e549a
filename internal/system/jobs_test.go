package system

import (
	"fmt"
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"vexillum/internal/client"
	"vexillum/internal/movie"
	"vexillum/internal/wire"
)

func (f *farm) file(name, text string) string {
	f.t.Helper()
	path := filepath.Join(f.dir, name)
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		f.t.Fatal(err)
	}
	return path
}

// TestAJobFileFromSceneToFrames writes a job file from a scene, makes a chain of it,
// submits it, kills the service in the middle, and looks at what came in which order.
func TestAJobFileFromSceneToFrames(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 100ms\n")
	text := f.must("job", "init", "salt.practice", "--project", "salt-clock")
	for _, want := range []string{"name: salt\n", "scene: salt.practice\n", "recipe: practice "} {
		if !strings.Contains(text, want) {
			t.Errorf("the file is without %q:\n%s", want, text)
		}
	}
	if out := f.must("job", "check", f.file("one.yaml", text)); !strings.Contains(
		out,
		"is fine: 1 job that comes to 1 run",
	) {
		t.Error(out)
	}
	chain := f.file("chain.yaml", `job_file: 1
project: salt-clock
all: {scene: salt.practice, frames: 1-6, size: 64x36, recipe: practice-single, start_on: all}
jobs:
  - {name: comp, after: [{job: render, by: frame}]}
  - {name: sim, frames: 1-2}
  - {name: render, after: [sim], each: {}}
`)
	_, stderr, code := f.vexillum("job", "submit", chain)
	if code != 1 || !strings.Contains(stderr, "nothing was submitted") {
		t.Errorf("a file with a mistake: %d %s", code, stderr)
	}
	chain = f.file("chain.yaml", strings.Replace(f.read(chain), ", each: {}", "", 1))
	if out := f.must("job", "submit", chain, "--dry-run"); !strings.Contains(
		out,
		"3 runs with 14 frames would be submitted",
	) {
		t.Error(out)
	}
	out := f.must("job", "submit", chain)
	if !strings.Contains(out, "3 runs with 14 frames are submitted") {
		t.Error(out)
	}
	sim, render, comp := f.newestOf("sim"), f.newestOf("render"), f.newestOf("comp")
	if !(sim < render && render < comp) {
		t.Errorf("they are submitted as #%d, #%d, #%d", sim, render, comp)
	}
	if why := f.must("why", "render"); !strings.Contains(why, "waits for sim/final-1, which is queued") {
		t.Error(why)
	}
	f.join("kiln-01", "--renderers", "practice-single")
	f.done(render, 1)
	f.service.end(syscall.SIGKILL)
	f.serve()
	for _, id := range []int64{sim, render, comp} {
		if run := f.ended(id); run.State != "done" {
			t.Errorf("%s is %s: %s", run.Name, run.State, run.Why)
		}
	}
	first, last := f.run(comp), f.run(render)
	if first.StartedAt.Before(*f.run(sim).EndedAt) || last.StartedAt.Before(*f.run(sim).EndedAt) {
		t.Error("something began before what it waits for was done")
	}
}

func (f *farm) read(path string) string {
	f.t.Helper()
	data, err := os.ReadFile(path)
	if err != nil {
		f.t.Fatal(err)
	}
	return string(data)
}

// TestAProofCostsNothingToSetBack makes the proof of a shot by a preset, and its final.
func TestAProofCostsNothingToSetBack(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene(
		"salt.pov",
		"camera { location <0,0,-5> look_at 0 } sphere { 0, 1 pigment { rgb <clock,1,0> } }\nlight_source { <9,9,-9> rgb 1 }\n",
	)
	f.scene("salt.ini", "Final_Frame=40\nInitial_Frame=1\n")
	preset := f.file(
		"final.yaml",
		"size: 64x36\nvalues: {quality: 11}\ntries: 4\nproof: {every: 8, scale: 50%, values: {quality: 4}}\n",
	)
	f.must("preset", "set", "final", preset, "--project", "salt-clock", "--recipe", "povray", "--note", "first")
	f.must("preset", "use", "final", "--project", "salt-clock", "--recipe", "povray")
	f.join("kiln-01", "--renderers", "povray")
	out := f.must("submit", "salt.pov", "--project", "salt-clock", "--proof", "--set", "quality=10")
	if !strings.Contains(out, "From the preset final, version 1; changed here: values.quality.") {
		t.Error(out)
	}
	proof := f.ended(f.newestOf("salt"))
	if proof.State != "done" || proof.Frames != "1-21/10,30,40" || proof.Kind != "proof" || proof.Width != 32 ||
		proof.Values["quality"] != "4" ||
		proof.Shot != "1-40" ||
		!proof.HasFinal {
		t.Fatalf(
			"the proof is %s, %s, %d wide, quality %s, of %s: %s",
			proof.State,
			proof.Frames,
			proof.Width,
			proof.Values["quality"],
			proof.Shot,
			proof.Why,
		)
	}
	// A further version of the preset does not change what was asked for.
	f.file("final.yaml", "size: 80x46\n")
	f.must("preset", "set", "final", preset, "--project", "salt-clock", "--recipe", "povray")
	f.must("final", "salt")
	final := f.ended(f.newestOf("salt"))
	if final.State != "done" || final.Frames != "1-40" || final.Kind != "final" || final.Width != 64 ||
		final.Values["quality"] != "10" ||
		final.Tries != 4 ||
		final.Preset.Version != 1 ||
		final.HasFinal {
		t.Errorf(
			"the final is %s, %s, %d wide, quality %s, %d tries, %v",
			final.State,
			final.Frames,
			final.Width,
			final.Values["quality"],
			final.Tries,
			final.Preset,
		)
	}
	picture, err := os.Open(filepath.Join(f.dir, "frames", final.Output, "salt.0040.png"))
	if err != nil {
		t.Fatal(err)
	}
	defer picture.Close()
	if config, err := png.DecodeConfig(picture); err != nil || config.Width != 64 {
		t.Errorf("the picture is %d wide (%v)", config.Width, err)
	}
	if _, stderr, code := f.vexillum("final", "salt"); code != 1 ||
		!strings.Contains(stderr, "was not made as the proof of a final") {
		t.Errorf("the final of a final: %d %s", code, stderr)
	}
	if out := f.must("diff", "salt"); !strings.Contains(out, "setting quality") || !strings.Contains(out, "32×18") {
		t.Error(out)
	}
}

// TestJobFilesAreAllOrNothing submits files of which one job cannot be: nothing of them is
// submitted, and the place of the mistake is told.
func TestJobFilesAreAllOrNothing(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 100ms\n")
	const head = "job_file: 1\nproject: salt-clock\njobs:\n  - {name: good, scene: salt.practice, frames: 1-4}\n  - "
	for _, c := range []struct{ job, says string }{
		{"{scene: none.practice, frames: 1}", ":5:6: jobs[1].scene: there is no scene none.practice"},
		{"{scene: ../salt.practice, frames: 1}", "jobs[1].scene: the scene \"../salt.practice\" is outside its place"},
		{"{name: b, scene: salt.practice, frames: 9-1}", "jobs[1].frames"},
		{"{name: b, scene: salt.practice, frames: 1, values: {colour: 3}}", "jobs[1].values"},
		{"{name: b, scene: salt.practice, frames: 1, preset: grand}", "jobs[1].preset: salt-clock has no preset \"grand\""},
		{"{name: b, scene: salt.practice, frames: 1, after: [nobody]}", "jobs[1].after: it waits for \"nobody\", and there is no run"},
		{"{name: b, scene: salt.practice, frames: 1-9, after: [{job: good, by: frame}]}", "frames 5-9 wait for frames that good/final-1 does not have"},
		{"{name: b, scene: salt.practice, frames: 1, output: good}", "jobs[1].output: two jobs would write into the folder good/final-1"},
		{"{name: b, scene: salt.practice, frames: 1, project: gannet}", "there is no project \"gannet\""},
		{"{name: b, scene: salt.practice, frames: 1, due: 2001-01-01T00:00:00Z}", "jobs[1].due"},
		{"{name: b, scene: salt.practice, frames: 1, needs: os=linux}", "jobs[1].needs: a single = means nothing"},
		{"{name: GOOD, scene: salt.practice, frames: 1}", "two jobs"},
		{"{name: b c, scene: salt.practice, frames: 1}", "jobs[1].name: a job cannot be called"},
	} {
		file := f.file("jobs.yaml", head+c.job+"\n")
		_, stderr, code := f.vexillum("job", "submit", file)
		if code != 1 || !strings.Contains(stderr, c.says) ||
			!strings.Contains(stderr, "was refused; nothing was submitted") {
			t.Errorf("%s: %d %s", c.job, code, stderr)
		}
	}
	var runs []wire.Run
	if err := f.admin.Do(t.Context(), "GET", "/api/v1/runs", nil, &runs); err != nil || len(runs) != 0 {
		t.Errorf("%d runs are submitted (%v)", len(runs), err)
	}
	// The same under a key is submitted once.
	in := wire.SubmitJobs{Text: head + "{name: other, scene: salt.practice, frames: 1-4}\n"}
	for i := range 2 {
		var out wire.JobsSubmitted
		if err := f.keyed("once", in, &out); err != nil || len(out.Receipts) != 2 || out.Receipts[0].Run != 1 {
			t.Errorf("submit %d: %+v, %v", i, out, err)
		}
	}
	in.Text = strings.Replace(in.Text, "other", "another", 1)
	if err := f.keyed("once", in, nil); err == nil || !strings.Contains(err.Error(), "something else was asked for") {
		t.Errorf("something else under the same key: %v", err)
	}
}

// keyed submits a job file under a key.
func (f *farm) keyed(key string, in wire.SubmitJobs, out any) error {
	return f.admin.Do(client.Repeatable(f.t.Context(), key), "POST", "/api/v1/jobs", in, out)
}

// TestAChainThatEndsInAMovie renders a sequence with a pass and makes movies of it, one of
// which waits while a frame is missing.
func TestAChainThatEndsInAMovie(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 30ms\n")
	chain := f.file("chain.yaml", `job_file: 1
project: salt-clock
jobs:
  - {name: salt_movie, from: salt, recipe: movie, values: {fps: 23.976}}
  - {name: salt_depth, from: salt, recipe: movie, values: {from_pass: depth, container: webm, quality: 40}}
  - {name: salt, scene: salt.practice, frames: 1-12, size: 64x36, recipe: practice-single, passes: [depth], start_on: all}
`)
	f.must("job", "submit", chain)
	if why := f.must("why", "salt_movie"); !strings.Contains(why, "waits for salt/final-1, which is queued") {
		t.Error(why)
	}
	f.join("kiln-01", "--renderers", "practice-single,movie")
	for job, c := range map[string]struct{ file, fps, codec string }{
		"salt_movie": {"salt_movie.0001.mp4", "24000/1001", "h264"}, "salt_depth": {"salt_depth.0001.webm", "24", "vp9"},
	} {
		run := f.ended(f.newestOf(job))
		if run.State != "done" || run.Width != 64 {
			t.Fatalf("%s is %s, %d wide: %s", job, run.State, run.Width, run.Why)
		}
		facts, err := movie.Probe(t.Context(), filepath.Join(f.dir, "frames", run.Output, c.file))
		if err != nil || facts.Frames != 12 || facts.Rate.RatString() != c.fps || facts.Codec != c.codec {
			t.Errorf("%s: %+v, %v", job, facts, err)
		}
	}
	// A movie of part of a shot is refused until somebody says that it may have gaps.
	f.must(
		"submit",
		"salt.practice",
		"--project",
		"salt-clock",
		"--job",
		"part",
		"--frames",
		"1-3,7-9",
		"--recipe",
		"practice-single",
		"--size",
		"64x36",
	)
	f.must("submit", "--recipe", "movie", "--from", "part", "--project", "salt-clock", "--tries", "1")
	if run := f.ended(f.newestOf("part_movie")); run.State != "failed" || len(run.Troubles) != 1 ||
		!strings.Contains(run.Troubles[0].Failed[0].Message, "the sequence has gaps: frames 4-6 are not in it") {
		t.Errorf("a movie with gaps is %s: %+v", run.State, run.Troubles)
	}
	f.must("submit", "--recipe", "movie", "--from", "part", "--project", "salt-clock", "--set", "gaps=held")
	if run := f.ended(f.newestOf("part_movie")); run.State != "done" {
		t.Errorf("with gaps held it is %s: %s", run.State, run.Why)
	}
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"--recipe", "movie"}, "needs the scene"},
		{[]string{"salt.practice", "--recipe", "movie", "--job", "x"}, "reads scenes"},
		{[]string{"--from", "salt"}, "its recipe has to be named"},
		{[]string{"--from", "nobody", "--recipe", "movie"}, "there is no run of that name"},
		{[]string{"--from", "salt", "--recipe", "movie", "--frames", "1-9"}, "makes one file of all frames"},
		{[]string{"--from", "salt", "--recipe", "movie", "--set", "from_pass=matte"}, "salt/final-1 has no pass \"matte\""},
		{[]string{"--from", "salt", "--recipe", "movie", "--set", "fps=0"}, "fps"},
		{[]string{"--from", "salt", "--recipe", "practice"}, "reads a scene; name it"},
	} {
		if _, stderr, code := f.vexillum(append([]string{"submit", "--project", "salt-clock"}, c.args...)...); code == 0 ||
			!strings.Contains(stderr, c.says) {
			t.Errorf("%v: %d %s", c.args, code, stderr)
		}
	}
}

// TestAnInboxTakesFiles drops job files into an inbox, kills the service in the middle, and
// looks that each was submitted once.
func TestAnInboxTakesFiles(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 100ms\n")
	f.service.end(syscall.SIGKILL)
	f.inbox = filepath.Join(f.dir, "inbox")
	if err := os.Mkdir(f.inbox, 0o755); err != nil {
		t.Fatal(err)
	}
	for i := range 6 {
		text := fmt.Sprintf(
			"job_file: 1\nproject: salt-clock\njobs: [{name: shot_%d, scene: salt.practice, frames: 1-4}]\n",
			i,
		)
		f.file(fmt.Sprintf("inbox/shot_%d.yaml", i), text)
	}
	f.file("inbox/bad.yaml", "job_file: 1\nproject: salt-clock\njobs:\n  - {scene: none.practice, frames: 1-4}\n")
	f.serve()
	there := func(name string) func() bool {
		return func() bool { _, err := os.Stat(filepath.Join(f.inbox, name)); return err == nil }
	}
	f.wait("the first is taken", there("taken/shot_0.yaml"))
	f.service.end(syscall.SIGKILL)
	f.serve()
	f.wait("the last is taken", there("taken/shot_5.yaml.receipt.json"))
	f.wait("a file that cannot be is refused", there("refused/bad.yaml.reason.txt"))
	if reason := f.read(filepath.Join(f.inbox, "refused/bad.yaml.reason.txt")); !strings.Contains(
		reason,
		"line 4, column 6: jobs[0].scene: there is no scene none.practice",
	) {
		t.Errorf("the reason is %q", reason)
	}
	var runs []wire.Run
	if err := f.admin.Do(t.Context(), "GET", "/api/v1/runs", nil, &runs); err != nil || len(runs) != 6 {
		t.Errorf("%d runs are submitted (%v)", len(runs), err)
	}
	if receipt := f.read(filepath.Join(f.inbox, "taken/shot_3.yaml.receipt.json")); !strings.Contains(
		receipt,
		"shot_3/final-1",
	) {
		t.Error(receipt)
	}
}

// TestFramesThatAreNotThere loses and spoils delivered frames, finds them, and renders just
// those: in their run, or in a new one beside it.
func TestFramesThatAreNotThere(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 30ms\n")
	f.join("kiln-01", "--renderers", "practice-single")
	id := f.submit(
		wire.Submit{
			Job:    "salt_010",
			Recipe: "practice-single",
			Scene:  "salt.practice",
			Frames: "1-12",
			Width:  64,
			Height: 36,
		},
	)
	run := f.ended(id)
	folder := filepath.Join(f.dir, "frames", run.Output)
	if out := f.must("redo", "salt_010", "--missing"); !strings.Contains(out, "has no such frame") {
		t.Error(out)
	}
	spoil := func() {
		t.Helper()
		if err := os.Remove(filepath.Join(folder, "salt_010.0003.png")); err != nil {
			t.Fatal(err)
		}
		data := []byte(f.read(filepath.Join(folder, "salt_010.0007.png")))
		data[len(data)/2] ^= 1 // as long as before
		if err := os.WriteFile(filepath.Join(folder, "salt_010.0007.png"), data, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	spoil()
	if out := f.must("redo", "salt_010", "--missing", "--dry-run"); !strings.Contains(
		out,
		"2 frames of salt_010/final-1 would be rendered again: 3,7",
	) {
		t.Error(out)
	}
	list := f.file("list.txt", "# from the review\n3: too dark\n5-6 the horn\n\n")
	f.must("redo", "salt_010", "--missing", "--list", list)
	f.wait("they are there again", func() bool { return f.run(id).State == "done" })
	if out := f.must("redo", "salt_010", "--missing"); !strings.Contains(out, "has no such frame") {
		t.Error(out)
	}
	if out := f.must("redo", "salt_010", "--node", "kiln-01", "--dry-run"); !strings.Contains(out, "12 frames") {
		t.Error(out)
	}

	spoil()
	submit := []string{
		"submit", "salt.practice", "--project", "salt-clock", "--job", "salt_010", "--recipe", "practice-single", "--frames", "1-14",
		"--size", "64x36", "--missing",
	}
	out := f.must(submit...)
	if !strings.Contains(out, "10 frames are in salt_010/final-1 and whole, and left out: 1-2,4-6,8-12.") {
		t.Error(out)
	}
	beside := f.ended(f.newestOf("salt_010"))
	if beside.State != "done" || beside.Frames != "3,7,13-14" || beside.Name != "salt_010/final-2" {
		t.Errorf("%s has the frames %s", beside.Name, beside.Frames)
	}
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"redo", "salt_010"}, "say which frames"}, {[]string{"redo", "salt_010", "--node", "kiln-09"}, "there is no node"},
		{[]string{"redo", "salt_010", "--list", f.file("none.txt", "#\n")}, "names no frame"},
		{[]string{"redo", "salt_010", "--list", f.file("odd.txt", "1\nthe third\n")}, "odd.txt:2:"},
	} {
		if _, stderr, code := f.vexillum(c.args...); code == 0 || !strings.Contains(stderr, c.says) {
			t.Errorf("%v: %d %s", c.args, code, stderr)
		}
	}
}
