package system

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"vexillum/internal/wire"
)

// TestAFarmInWhichNoNodeSeesAnyPlace renders a scene with all that it needs from a folder
// that nobody else knows: it is sent by content, nodes pass the pieces on, and frames come
// back through the service. The pictures are those that the renderer makes by itself.
func TestAFarmInWhichNoNodeSeesAnyPlace(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	for _, name := range []string{"kiln-01", "kiln-02", "kiln-03"} {
		f.join(name, "--renderers", "povray", "--threads", "1", "--upload", "--peers", "127.0.0.1:0")
	}
	home := t.TempDir()
	put := func(name string, data []byte) {
		t.Helper()
		path := filepath.Join(home, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, data, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	put("shots/lamp.pov", []byte(`// +KFF6
#version 3.7; global_settings { assumed_gamma 1.0 }
#include "../lib/stand.inc"
camera { location <0, 1, -4> look_at <0, 0.5, 0> } light_source { <3, 5, -4> rgb 1.2 }
object { Stand rotate y * clock * 90 } plane { y, 0 pigment { image_map { png "tex/tiles.png" } rotate x * 90 } }
`))
	put(
		"lib/stand.inc",
		[]byte("#declare Stand = box { <-0.5, 0, -0.5>, <0.5, 1, 0.5> pigment { rgb <0.8, 0.3, 0.1> } };\n"),
	)
	tiles := filepath.Join(home, "shots/tex/tiles.png")
	if err := os.MkdirAll(filepath.Dir(tiles), 0o755); err != nil {
		t.Fatal(err)
	}
	f.paintPicture(tiles, 64, 64)
	volume := make([]byte, 9<<20)
	_, _ = rand.NewChaCha8([32]byte{1}).Read(volume)
	put("shots/cache/smoke.0001.df3", volume)

	scene := filepath.Join(home, "shots/lamp.pov")
	out, stderr, code := f.vexillum("bundle", scene)
	if code != 1 || !strings.Contains(out+stderr, "outside  ../lib/stand.inc, which lamp.pov names") {
		t.Errorf("from the scene's folder alone: %d %s%s", code, out, stderr)
	}
	shown := f.must("bundle", scene, "--folder", home, "--with", "cache/*.df3")
	for _, want := range []string{"lib/stand.inc", "shots/tex/tiles.png", "shots/cache/smoke.0001.df3", "4 files"} {
		if !strings.Contains(shown, want) {
			t.Errorf("the bundle is shown without %s: %s", want, shown)
		}
	}
	submit := []string{
		"submit", scene, "--bundle", "--folder", home, "--with", "cache/*.df3", "--project", "salt-clock",
		"--frames", "1-6", "--size", "96x64", "--start-on", "all",
	}
	f.nothingIsSent(submit, scene)
	f.must(submit...)
	run := f.ended(f.newestOf("lamp"))
	if run.State != "done" || run.Bundle == "" || run.Shot != "1-6" {
		t.Fatalf(
			"the run is %s with the bundle %q, shot %s: %s %+v", run.State, run.Bundle, run.Shot, run.Why, run.Troubles,
		)
	}
	f.samePixels(
		"lamp", "lamp.0004.png", "povray", "+I"+scene, "+L"+filepath.Dir(scene), "+OFILE", "+FN", "+W96", "+H64", "+Q9",
		"+A0.3", "+AM2", "+R1", "+WT1", "+KFI1", "+KFF6", "+KI0", "+KF1", "+SF4", "+EF4", "-D", "-P",
	)
	if got := f.fetchedBytes(run.ID); got < 9<<20 {
		t.Errorf("nodes say that they got %d bytes of the bundle, want what it has at least", got)
	}
	if out, stderr, code := f.vexillum("try", "lamp", "--frame", "4", "--node", "kiln-01"); code != 0 ||
		!strings.Contains(out, "frame 4  good: 96×64") {
		t.Errorf("a frame of a bundle, rendered by hand, ends with %d: %s%s", code, out, stderr)
	}
	f.againWithAChange(submit, home)
	changed := f.newestOf("lamp")
	f.asTheProjectSays(submit)
	if got := f.fetchedBytes(changed); got >= 1<<20 {
		t.Errorf("nodes say that they got %d bytes of a bundle of which little is new", got)
	}
}

// asTheProjectSays submits to a project whose scenes are always sent.
func (f *farm) asTheProjectSays(submit []string) {
	f.t.Helper()
	if out := f.must("project", "set", "salt-clock", "--bundles"); !strings.Contains(out, "scenes are sent") {
		f.t.Errorf("the project is set: %s", out)
	}
	without := slices.DeleteFunc(slices.Clone(submit), func(a string) bool { return a == "--bundle" })
	f.must(append(without, "--kind", "correction", "--held")...)
	if run := f.run(f.newestOf("lamp")); run.Bundle == "" {
		f.t.Error("the scene is not sent, though the project says so")
	}
	f.must("cancel", "lamp")
	for _, c := range []struct {
		args []string
		says string
	}{
		{[]string{"--bundle"}, "there is no scene none.pov on this machine"},
		{nil, "there is no scene none.pov on this machine; --bundle=false takes"},
		{[]string{"--bundle=false"}, "there is no scene none.pov in"},
	} {
		c.args = append([]string{"submit", "none.pov", "--project", "salt-clock", "--frames", "1"}, c.args...)
		if _, stderr, code := f.vexillum(c.args...); code == 0 || !strings.Contains(stderr, c.says) {
			f.t.Errorf("%q: %d %s", c.args, code, stderr)
		}
	}
	f.must("project", "set", "salt-clock", "--bundles=false")
}

// fetchedBytes returns what nodes got of the bundle of a run.
func (f *farm) fetchedBytes(run int64) (bytes int64) {
	f.t.Helper()
	var results []wire.Result
	if err := f.admin.Do(f.t.Context(), "GET", fmt.Sprintf("/api/v1/runs/%d/results", run), nil, &results); err != nil {
		f.t.Fatal(err)
	}
	for _, r := range results {
		bytes += r.FetchedBytes
	}
	return bytes
}

// nothingIsSent submits with mistakes that are told before anything goes out.
func (f *farm) nothingIsSent(submit []string, scene string) {
	f.t.Helper()
	for _, c := range []struct {
		args []string
		says string
	}{
		{append(submit, "--project", "nope"), `there is no project "nope"`},
		{append(submit, "--tries", "9999"), "tries"},
		{append(submit, "--dry-run"), "the farm lacks 9.0 MiB of the bundle, and a dry run sends nothing"},
		{append(submit, "--with", ""), "--with is empty"},
		{append(submit, "--with", "none/*"), "1 file cannot go along"},
		{[]string{"submit", "", "--bundle", "--project", "salt-clock", "--frames", "1"}, "the scene is empty"},
		{[]string{"submit", scene, "--folder", "a", "--project", "salt-clock", "--frames", "1"}, "add --bundle"},
		{[]string{"submit", scene, "--project", "salt-clock", "--frames", "1"}, "--bundle sends it"},
	} {
		_, stderr, code := f.vexillum(c.args...)
		if code == 0 || !strings.Contains(stderr, c.says) || strings.Contains(stderr, "Sent ") {
			f.t.Errorf("%q: %d %s", c.args, code, stderr)
		}
	}
}

// againWithAChange submits the scene again: as it is, when nothing is sent, and with a
// change.
func (f *farm) againWithAChange(submit []string, home string) {
	f.t.Helper()
	before := f.run(f.newestOf("lamp"))
	if _, stderr, code := f.vexillum(append(submit, "--kind", "proof")...); code != 0 ||
		strings.Contains(stderr, "Sent ") {
		f.t.Errorf("what the farm has is sent again: %s", stderr)
	}
	lib := filepath.Join(home, "lib/stand.inc")
	text, err := os.ReadFile(lib)
	if err == nil {
		err = os.WriteFile(lib, []byte(strings.Replace(string(text), "0.8, 0.3, 0.1", "0.1, 0.3, 0.8", 1)), 0o644)
	}
	if err != nil {
		f.t.Fatal(err)
	}
	_, stderr, code := f.vexillum(submit...)
	if code != 0 || !strings.Contains(stderr, " B of 9.0 MiB.\nSent ") {
		f.t.Errorf("a change of a small file: %d %s", code, stderr)
	}
	after := f.ended(f.newestOf("lamp"))
	if after.State != "done" || after.Bundle == before.Bundle {
		f.t.Errorf("the changed scene is %s with the bundle %q, before %q", after.State, after.Bundle, before.Bundle)
	}
	var m struct{ Files []struct{ Path string } }
	if err := f.admin.Do(f.t.Context(), "GET", "/api/v1/projects/salt-clock/bundles/"+after.Bundle, nil, &m); err != nil ||
		len(m.Files) != 4 {
		f.t.Errorf("the manifest has %d files, %v", len(m.Files), err)
	}
	var none wire.BundleState
	if err := f.admin.Do(f.t.Context(), "POST", "/api/v1/projects/salt-clock/bundles", struct{}{}, &none); err == nil {
		f.t.Error("a manifest of nothing was taken")
	}
}
