package system

import (
	"errors"
	"fmt"
	"image"
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"vexillum/internal/wire"
)

func (f *farm) pictureOf(run wire.Run, name string) image.Image {
	f.t.Helper()
	file, err := os.Open(filepath.Join(f.dir, "frames", run.Output, name))
	if err != nil {
		f.t.Fatal(err)
	}
	defer file.Close()
	img, err := png.Decode(file)
	if err != nil {
		f.t.Fatal(err)
	}
	return img
}

// alike compares two pictures pixel by pixel.
func (f *farm) alike(what string, a, b image.Image) {
	f.t.Helper()
	if a.Bounds().Size() != b.Bounds().Size() {
		f.t.Fatalf("%s: %v and %v", what, a.Bounds(), b.Bounds())
	}
	for y := range a.Bounds().Dy() {
		for x := range a.Bounds().Dx() {
			r, g, bl, al := a.At(x, y).RGBA()
			r2, g2, bl2, al2 := b.At(x, y).RGBA()
			if r != r2 || g != g2 || bl != bl2 || al != al2 {
				f.t.Fatalf("%s: pixel %d,%d is %v and %v", what, x, y, a.At(x, y), b.At(x, y))
			}
		}
	}
}

const sphere = `global_settings { assumed_gamma 1 }
camera { location <0,1,-4> look_at <0,0.5,0> rotate y*40*clock }
light_source { <9,9,-9> rgb 1 }
plane { y, 0 pigment { checker rgb 0.2 rgb 0.8 } }
sphere { <0,0.7,0>, 0.7 pigment { rgb <1,clock,0.2> } finish { reflection 0.3 phong 1 } }
`

// TestAStillInTiles renders stills in tiles on two nodes, kills the service meanwhile, and
// compares the picture and each pass, pixel by pixel, with a whole rendering.
func TestAStillInTiles(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("ball.pov", sphere)
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 1500ms\n")
	f.join("kiln-01", "--renderers", "povray,practice")
	f.join("kiln-02", "--renderers", "povray,practice")
	submit := func(job string, in wire.Submit) wire.Run {
		t.Helper()
		in.Job, in.Width, in.Height, in.Frames = job, 331, 187, "17"
		in.Shot = "1-40"
		return f.ended(f.submit(in))
	}
	whole := submit("ball", wire.Submit{Scene: "ball.pov"})
	tiled := submit("ball_tiles", wire.Submit{Scene: "ball.pov", Tiles: "4x3"})
	if tiled.State != "done" || tiled.FrameCount != 12 || !tiled.Tiles.Stitched ||
		tiled.Tiles.File != "ball_tiles.0017.png" {
		t.Fatalf("the still is %s with %d tiles: %s (%+v)", tiled.State, tiled.FrameCount, tiled.Why, tiled.Tiles)
	}
	f.alike("POV-Ray", f.pictureOf(whole, "ball.0017.png"), f.pictureOf(tiled, "ball_tiles.0017.png"))
	one := f.pictureOf(tiled, "tiles/ball_tiles.0001.png")
	if r := tiled.Tiles.Rects[0]; one.Bounds().Dx() != r[2]-r[0] || one.Bounds().Dy() != r[3]-r[1] {
		t.Errorf("the first tile is %v, and its rectangle %v", one.Bounds(), r)
	}

	// The service is killed in the middle; parts are dropped; tiles overlap; passes come along.
	plain := submit(
		"salt",
		wire.Submit{Scene: "salt.practice", Recipe: "practice", Passes: []string{"depth", "normal"}},
	)
	id := f.submit(wire.Submit{
		Job: "salt_tiles", Scene: "salt.practice", Recipe: "practice", Passes: []string{"depth", "normal"}, Width: 331, Height: 187,
		Frames: "17", Shot: "1-40", Tiles: "100x60px", Overlap: 5, DropTiles: true,
	})
	f.done(id, 3)
	f.service.end(syscall.SIGKILL)
	f.serve()
	still := f.ended(id)
	if still.State != "done" || still.FrameCount != 16 {
		t.Fatalf("the still is %s with %d tiles: %s", still.State, still.FrameCount, still.Why)
	}
	f.alike("the picture", f.pictureOf(plain, "salt.0017.png"), f.pictureOf(still, "salt_tiles.0017.png"))
	f.alike(
		"depth",
		f.pictureOf(plain, "depth/salt.depth.0017.png"),
		f.pictureOf(still, "depth/salt_tiles.depth.0017.png"),
	)
	f.alike(
		"normal",
		f.pictureOf(plain, "normal/salt.normal.0017.png"),
		f.pictureOf(still, "normal/salt_tiles.normal.0017.png"),
	)
	if _, err := os.Stat(filepath.Join(f.dir, "frames", still.Output, "tiles")); err == nil {
		t.Error("the tiles were to be dropped, and are there")
	}

	// By speed: tiles of unlike size, which are dealt as they cost.
	fitted := submit("salt_fit", wire.Submit{Scene: "salt.practice", Recipe: "practice", Tiles: "by-speed"})
	if fitted.State != "done" || len(fitted.Tiles.Rects) < 4 {
		t.Errorf("the still is %s with %d tiles", fitted.State, len(fitted.Tiles.Rects))
	}
	f.alike("by speed", f.pictureOf(plain, "salt.0017.png"), f.pictureOf(fitted, "salt_fit.0017.png"))

	// Several, one after the other: a run of each, and nothing where one of them cannot be.
	out := f.must(
		"submit",
		"salt.practice",
		"--project",
		"salt-clock",
		"--recipe",
		"practice",
		"--job",
		"salt_stills",
		"--size",
		"64x36",
		"--frames",
		"17-19/2",
		"--tiles",
		"2x2",
		"--one-by-one",
	)
	if !strings.Contains(out, "salt_stills_0019/final-1") ||
		!strings.Contains(
			out,
			"It is the last of 2 stills that are rendered one after the other, the first of them salt_stills_0017/final-1.",
		) {
		t.Error(out)
	}
	last := f.ended(f.named("salt_stills_0019").ID)
	first := f.run(f.named("salt_stills_0017").ID)
	if last.State != "done" || first.State != "done" || last.StartedAt.Before(*first.EndedAt) ||
		first.Output != "salt_stills/0017/final-1" || first.Tiles.Frame != 17 || last.Tiles.Frame != 19 {
		t.Errorf("%+v\n%+v", first, last)
	}
	count := func() int {
		var runs []wire.Run
		if err := f.admin.Do(t.Context(), "GET", "/api/v1/runs", nil, &runs); err != nil {
			t.Fatal(err)
		}
		return len(runs)
	}
	before := count()
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"--frames", "1-3", "--one-by-one"}, "say which tiles"},
		{[]string{"--tiles", "2x2", "--one-by-one"}, "say which frames"},
		{[]string{"--frames", "1-3", "--tiles", "99x99", "--one-by-one"}, "more tiles than the picture"},
		{[]string{"--frames", "1-2000", "--tiles", "2x2", "--one-by-one"}, "at most 1000 stills"},
	} {
		args := append([]string{
			"submit", "salt.practice", "--project", "salt-clock", "--recipe", "practice", "--job", "none", "--size", "64x36",
		}, c.args...)
		if _, stderr, code := f.vexillum(args...); code == 0 || !strings.Contains(stderr, c.says) {
			t.Errorf("%v: %s", c.args, stderr)
		}
	}
	if now := count(); now != before {
		t.Errorf("%d runs were made although none could be", now-before)
	}

	file := wire.SubmitJobs{Text: `job_file: 1
project: salt-clock
all: {scene: salt.practice, recipe: practice, size: 64x36, held: true}
jobs:
  - {name: behind, frames: 1-2, after: [filed]}
  - {name: filed, frames: 17-19, tiles: 2x1, one_by_one: true}
`}
	var jobs wire.JobsSubmitted
	if err := f.admin.Do(t.Context(), "POST", "/api/v1/jobs", file, &jobs); err != nil || len(jobs.Receipts) != 4 {
		t.Fatalf("%v: %+v", err, jobs)
	}
	for name, after := range map[string]string{"behind": "filed_0019", "filed_0019": "filed_0018", "filed_0018": "filed_0017"} {
		if waits := f.named(name).After; len(waits) != 1 || waits[0].Name != after+"/final-1" {
			t.Errorf("%s waits for %v", name, waits)
		}
	}
	file.Text = strings.Replace(file.Text, "tiles: 2x1, ", "", 1)
	err := f.admin.Do(t.Context(), "POST", "/api/v1/jobs", file, nil)
	var p *wire.Problem
	if !errors.As(err, &p) || len(p.Mistakes) != 1 || p.Mistakes[0].Line != 6 ||
		!strings.Contains(p.Mistakes[0].What, "say which tiles") {
		t.Errorf("%+v", err)
	}

	// One tile again: the picture is put together anew, and the old one is kept.
	f.must("redo", "ball_tiles", "--frames", "5")
	f.wait(
		"the picture is put together anew",
		func() bool { return f.run(tiled.ID).State == "done" && f.run(tiled.ID).Tiles.Stitched },
	)
	f.alike("once more", f.pictureOf(whole, "ball.0017.png"), f.pictureOf(tiled, "ball_tiles.0017.png"))
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"--frames", "1-9", "--tiles", "2x2"}, "tiles are of one frame, and 9 frames are asked for"},
		{[]string{"--frames", "1", "--tiles", "400x2"}, "more tiles than the picture of 64×36"},
		{[]string{"--frames", "1", "--tiles", "two"}, "is no way to divide a picture"},
		{[]string{"--frames", "1", "--tiles", "2x2", "--overlap", "5000"}, "0 to 1024 pixels"},
		{[]string{"--frames", "1", "--overlap", "5"}, "say which"},
		{[]string{"--frames", "1", "--tiles", "2x2", "--recipe", "practice-feed"}, "renders whole pictures alone"},
	} {
		args := append(
			[]string{"submit", "salt.practice", "--project", "salt-clock", "--size", "64x36", "--job", "x"},
			c.args...)
		if !strings.Contains(fmt.Sprint(c.args), "--recipe") {
			args = append(args, "--recipe", "practice")
		}
		if _, stderr, code := f.vexillum(args...); code == 0 || !strings.Contains(stderr, c.says) {
			t.Errorf("%v: %d %s", c.args, code, stderr)
		}
	}
}
