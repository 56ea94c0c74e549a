package system

import (
	"fmt"
	"image"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"vexillum/internal/wire"
)

// TestTheExamplesRender adds the recipes of the guide's end to a farm that runs, and
// renders by them through the whole path. What is delivered has the pixels of what the
// renderers make by themselves.
func TestTheExamplesRender(t *testing.T) {
	t.Parallel()
	for _, program := range []string{"openscad", "xvfb-run", "synfig"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skipf("%s is not here; scripts/deps installs it", program)
		}
	}
	f := newFarm(t)
	f.signIn()
	f.join("kiln-01")
	f.must(
		"recipe", "add", "../../examples/recipes/openscad.yaml", "../../examples/recipes/synfig.yaml", "--note",
		"tried",
	)
	f.wait("the node has found both renderers", func() bool {
		n := f.node("kiln-01")
		has := func(recipe string) bool {
			return slices.ContainsFunc(
				n.Renderers, func(r wire.Renderer) bool { return r.Recipe == recipe && r.Unfit == "" },
			)
		}
		return n != nil && has("openscad") && has("synfig")
	})
	if err := os.Mkdir(filepath.Join(f.dir, "scenes", "parts"), 0o755); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"vase.scad", "parts/stand.scad", "sea.sif"} {
		text, err := os.ReadFile("../../examples/recipes/scenes/" + name)
		if err != nil {
			t.Fatal(err)
		}
		f.scene(name, string(text))
	}
	f.must("project", "set", "salt-clock", "--names", "{job}[_{pass}]_#####{ending}")
	f.must("submit", "vase.scad", "--project", "salt-clock", "--frames", "2-4", "--shot", "1-10", "--size", "160x90")
	f.must("submit", "sea.sif", "--project", "salt-clock", "--frames", "5-7,20") // size and shot as the scene says
	for job, want := range map[string][]string{
		"vase": {"vase_00002.png", "vase_00003.png", "vase_00004.png"},
		"sea":  {"sea_00005.png", "sea_00006.png", "sea_00007.png", "sea_00020.png"},
	} {
		run := f.ended(f.newestOf(job))
		if run.State != "done" {
			t.Fatalf("%s is %s: %s %+v", run.Name, run.State, run.Why, run.Troubles)
		}
		f.wantFiles(run, want)
		if job == "sea" && (run.Shot != "0-47" || run.Width != 320 || run.Height != 180) {
			t.Errorf("the scene says 0-47 at 320×180, and the run has %s at %d×%d", run.Shot, run.Width, run.Height)
		}
	}
	scenes := filepath.Join(f.dir, "scenes")
	f.samePixels("vase", "vase_00003.png", "xvfb-run", "-a", "openscad", "-o", "FILE", "--imgsize=160,90",
		"-D", "$t=2/10", filepath.Join(scenes, "vase.scad"))
	f.samePixels("sea", "sea_00020.png", "synfig", "--target=png", "--width=320", "--height=180", "--time=20f",
		"--output-file=FILE", filepath.Join(scenes, "sea.sif"))

	// The recipe for any command line, which wranglers alone may have.
	f.must(
		"submit", "sea.sif", "--job", "copied", "--recipe", "command", "--project", "salt-clock", "--frames", "1-2",
		"--set",
		`line=cp {scene} "the copy.{frame}.sif"`, "--set", "result=the copy.{frame}.sif",
	)
	run := f.ended(f.newestOf("copied"))
	f.wantFiles(run, []string{"copied_00001.sif", "copied_00002.sif"})
}

// newestOf returns the number of the newest run of a job.
func (f *farm) newestOf(job string) int64 {
	f.t.Helper()
	var runs []wire.Run
	if err := f.admin.Do(f.t.Context(), "GET", "/api/v1/runs", nil, &runs); err != nil {
		f.t.Fatal(err)
	}
	newest := int64(0)
	for _, r := range runs {
		if r.Job == job {
			newest = max(newest, r.ID)
		}
	}
	if newest == 0 {
		f.t.Fatalf("there is no run of %s", job)
	}
	return newest
}

// samePixels compares a delivered picture with what a command makes.
func (f *farm) samePixels(job, name, program string, args ...string) {
	f.t.Helper()
	direct := filepath.Join(f.t.TempDir(), "direct.png")
	for i, a := range args {
		args[i] = strings.ReplaceAll(a, "FILE", direct)
	}
	if out, err := exec.Command(program, args...).CombinedOutput(); err != nil {
		f.t.Fatalf("%s: %v: %s", program, err, out)
	}
	if written, _ := filepath.Glob(strings.TrimSuffix(direct, ".png") + "*.png"); len(written) == 1 {
		direct = written[0] // some add the number
	}
	delivered := filepath.Join(f.dir, "frames", f.run(f.newestOf(job)).Output, name)
	a, b := f.decoded(delivered), f.decoded(direct)
	if a.Bounds() != b.Bounds() {
		f.t.Fatalf("%s is %v, made directly %v", name, a.Bounds(), b.Bounds())
	}
	different := 0
	for y := a.Bounds().Min.Y; y < a.Bounds().Max.Y; y++ {
		for x := a.Bounds().Min.X; x < a.Bounds().Max.X; x++ {
			if fmt.Sprint(a.At(x, y)) != fmt.Sprint(b.At(x, y)) {
				different++
			}
		}
	}
	if different > 0 {
		f.t.Errorf("%d pixels of %s are not as %s makes them", different, name, program)
	}
}

func (f *farm) decoded(name string) image.Image {
	f.t.Helper()
	file, err := os.Open(name)
	if err != nil {
		f.t.Fatal(err)
	}
	defer file.Close()
	img, err := png.Decode(file)
	if err != nil {
		f.t.Fatalf("%s: %v", name, err)
	}
	return img
}
