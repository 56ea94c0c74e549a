package system

import (
	"bytes"
	"fmt"
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"vexillum/internal/picture"
	"vexillum/internal/wire"
)

// TestPOVRayWritesOpenEXR renders through the whole path by a recipe of the studio's
// own: checked, delivered, seen small, and shown to a page that knows no OpenEXR.
func TestPOVRayWritesOpenEXR(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../recipe/builtin/povray.yaml")
	if err != nil {
		t.Fatal(err)
	}
	own := strings.NewReplacer(
		"name: povray",
		"name: povray-light",
		"picture: png",
		"picture: exr",
		`"+FN"`,
		`"+FE"`,
		"tiles: whole",
		"#",
		"  - {when: tile",
		"  # - {when: tile",
		`\.png`,
		`\.exr`,
		"\nprogram: povray",
		"\nprogram: {linux: [povray-of-our-own, povray]}",
	).Replace(string(text))
	f := newFarmWith(t, map[string]string{"povray-light.yaml": own})
	f.signIn()
	scene, err := os.ReadFile("../../examples/pellmarsh/scenes/tidal-room/tidal_floor.pov")
	if err != nil {
		t.Fatal(err)
	}
	f.scene("tidal_floor.pov", string(scene))
	f.join("kiln-01", "--renderers", "povray-light", "--threads", "1")
	id := f.submit(wire.Submit{
		Job: "tidal_floor", Recipe: "povray-light", Scene: "tidal_floor.pov", Frames: "1-3", Width: 96, Height: 54,
	})
	run := f.ended(id)
	if run.State != "done" {
		t.Fatalf("the run is %s: %s %+v", run.State, run.Why, run.Troubles)
	}
	f.wantFiles(run, []string{"tidal_floor.0001.exr", "tidal_floor.0002.exr", "tidal_floor.0003.exr"})
	name := filepath.Join(f.dir, "frames", run.Output, "tidal_floor.0002.exr")
	if v, err := picture.Verify(name, "exr", 96, 54); err != nil || v.Blank {
		t.Errorf("what was delivered: %v", err)
	}
	if n := f.count(`SELECT count(*) FROM thumbnail WHERE run = $1`, id); n != 3 {
		t.Errorf("%d thumbnails, want 3", n)
	}
	var shown bytes.Buffer
	if err := f.admin.Fetch(t.Context(), fmt.Sprintf("/api/v1/runs/%d/frames/2/picture?as=shown", id), &shown); err != nil {
		t.Fatal(err)
	}
	if img, err := png.Decode(&shown); err != nil || img.Bounds().Dx() != 96 || img.Bounds().Dy() != 54 {
		t.Errorf("shown to a page: %v", err)
	}
	copied := filepath.Join(f.dir, "copy")
	f.must("fetch", "tidal_floor", "--to", copied)
	if _, err := picture.Verify(filepath.Join(copied, "tidal_floor.0003.exr"), "exr", 96, 54); err != nil {
		t.Errorf("what was fetched: %v", err)
	}
}
