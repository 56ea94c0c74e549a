package system

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"vexillum/internal/wire"

	"github.com/chromedp/chromedp"
)

// TestARecipeIsTriedOnANode tries recipes on nodes, from the command line and from the
// page on which they are written: nothing comes of it but what is shown.
func TestARecipeIsTriedOnANode(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("vase.practice", "practice: 1\npicture: salt\ncost: 300ms\n")
	f.join("kiln-01", "--renderers", "practice")
	try := func(recipe string, args ...string) (string, int) {
		out, stderr, code := f.vexillum(append([]string{"recipe", "try", recipe}, args...)...)
		return out + stderr, code
	}
	on := []string{"vase.practice", "--node", "any", "--project", "salt-clock", "--frame", "2-3", "--size", "64x36"}
	out, code := try("practice", on...)
	for _, want := range []string{
		"Trying practice on kiln-01.", "launch  ", "^ frame 2 begins", "frame 2  good: 64×36", "frame 3  good",
	} {
		if !strings.Contains(out, want) || code != 0 {
			t.Errorf("the trial ends with %d, without %q:\n%s", code, want, out)
		}
	}
	wrong := filepath.Join(t.TempDir(), "wrong.yaml")
	text := strings.Replace(f.must("recipe", "show", "practice", "--text"), "vx begin", "vx commence", 1)
	if err := os.WriteFile(wrong, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	if out, _ := try(wrong, on...); !strings.Contains(out, "no line told that a frame begins") {
		t.Errorf("a recipe that reads nothing: %s", out)
	}
	for _, c := range []struct{ scene, node, project, says string }{
		{"none.practice", "kiln-01", "salt-clock", "there is no scene none.practice in"},
		{"../vase.practice", "kiln-01", "salt-clock", "leads elsewhere"},
		{"vase.pov", "kiln-01", "salt-clock", "reads scenes that end in .practice"},
		{"", "kiln-01", "salt-clock", "the scene is empty"},
		{"vase.practice", "kiln-77", "salt-clock", `there is no node "kiln-77"`},
		{"vase.practice", "kiln-01", "nope", `there is no project "nope"`},
		{"vase.practice", "kiln-01", "", "say with --project"},
	} {
		args := []string{c.scene, "--node", c.node}
		if c.project != "" {
			args = append(args, "--project", c.project)
		}
		if out, code := try("practice", args...); code == 0 || !strings.Contains(out, c.says) {
			t.Errorf("%v: %d %s, want %q", args, code, out, c.says)
		}
	}
	f.stopsATrial()
	f.service.end(syscall.SIGKILL) // the session of the node goes on, and knows errands of before
	f.serve()
	for range 2 {
		if out, code := try("practice", on...); code != 0 || !strings.Contains(out, "frame 3  good") {
			t.Errorf("after a restart of the service a trial ends with %d:\n%s", code, out)
		}
	}
	left, err := filepath.Glob(filepath.Join(f.dir, "kiln-01", "staging", "trial-*"))
	if err != nil || len(left) > 0 || f.count(`SELECT count(*) FROM run`) > 0 {
		t.Errorf("trials leave %v, %v, or runs", left, err)
	}
	f.triesOnThePage()
}

// stopsATrial stops a trial whose frame takes long: its renderer is gone soon.
func (f *farm) stopsATrial() {
	f.t.Helper()
	f.scene("slow.practice", "practice: 1\npicture: salt\ncost: 300s\n")
	in := wire.TryRecipe{
		Text: f.must("recipe", "show", "practice", "--text"), Project: "salt-clock", Scene: "slow.practice",
		Width: 64, Height: 36,
	}
	var trial wire.RecipeTrial
	if err := f.admin.Do(f.t.Context(), "POST", "/api/v1/recipe-trials", in, &trial); err != nil {
		f.t.Fatal(err)
	}
	path := "/api/v1/recipe-trials/" + trial.ID
	now := func() wire.RecipeTrial {
		if err := f.admin.Do(f.t.Context(), "GET", path, nil, &trial); err != nil {
			f.t.Fatal(err)
		}
		return trial
	}
	f.wait("it renders", func() bool { return len(now().Lines) > 1 })
	if err := f.admin.Do(f.t.Context(), "DELETE", path, nil, nil); err != nil {
		f.t.Fatal(err)
	}
	f.wait("it is stopped", func() bool { return now().State == "failed" && now().Error == "it was stopped" })
	f.wait("nothing of it is left", func() bool {
		left, err := filepath.Glob(filepath.Join(f.dir, "kiln-01", "staging", "trial-*"))
		return err == nil && len(left) == 0
	})
}

// triesOnThePage tries a recipe from the page on which it is written.
func (f *farm) triesOnThePage() {
	f.t.Helper()
	c := f.open()
	c.signInAs("admin", password)
	c.sees("Queue")
	c.goTo("/setup/recipes/practice")
	c.sees("Try it")
	c.do(chromedp.SendKeys(`section[aria-label="Try it"] input[required]`, "vase.practice", chromedp.ByQuery))
	c.press("Try")
	c.sees("✓ frame 1")
	c.sees("↑ frame 1 begins")
	if src := value[string](c, `document.querySelector('section[aria-label="Try it"] img').src`); len(src) < 200 {
		f.t.Errorf("there is no picture of the trial: %q", src)
	}
	c.accessible("A trial")
	c.do(chromedp.EmulateViewport(390, 800))
	c.noSidewaysScroll("A trial on a telephone")
}

// TestAFrameIsRenderedByHand renders frames of a run again where they failed, and elsewhere:
// all that is said is shown, and nothing is delivered or counted.
func TestAFrameIsRenderedByHand(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 30ms\ntrouble:\n  - {frame: 3, does: error}\n")
	f.join("kiln-01", "--renderers", "practice-single")
	id := f.submit(wire.Submit{
		Job: "salt", Recipe: "practice-single", Scene: "salt.practice", Frames: "1-4", Tries: 1, Width: 64, Height: 36,
	})
	if run := f.ended(id); run.State != "done with gaps" {
		t.Fatalf("the run is %s", run.State)
	}
	by := func(args ...string) (string, int) {
		out, stderr, code := f.vexillum(append([]string{"try", "salt"}, args...)...)
		return out + stderr, code
	}
	f.must("nodes", "hold", "kiln-01") // what is held can still be tried by hand
	before := f.count(`SELECT count(*) FROM attempt`)
	out, code := by("--frame", "3")
	for _, want := range []string{
		"Rendering frame 3 of salt/final-1 by hand on kiln-01.", "launch  ", "salt.practice", "frame 3  failed: crash",
	} {
		if !strings.Contains(out, want) || code != 1 {
			t.Errorf("it ends with %d, without %q:\n%s", code, want, out)
		}
	}
	if out, code := by("--frame", "4", "--node", "kiln-01"); code != 0 ||
		!strings.Contains(out, "frame 4  good: 64×36") {
		t.Errorf("a frame that is fine ends with %d:\n%s", code, out)
	}
	for says, args := range map[string][]string{
		"say which frame":                     nil,
		"has no frame 99; its frames are 1-4": {"--frame", "99"},
		"no failed try of frame 4":            {"--frame", "4"},
		`there is no node "kiln-77"`:          {"--frame", "3", "--node", "kiln-77"},
		"--node is empty":                     {"--frame", "3", "--node", ""},
		"it takes a whole number":             {"--frame", "three"},
	} {
		if out, code := by(args...); code == 0 || !strings.Contains(out, says) {
			t.Errorf("%v: %d %s, want %q", args, code, out, says)
		}
	}
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 30ms\n")
	if out, code := by("--frame", "3"); code != 1 || !strings.Contains(out, "scene changed") {
		t.Errorf("with a scene that is another now it ends with %d:\n%s", code, out)
	}
	run := f.run(id)
	left, err := filepath.Glob(filepath.Join(f.dir, "kiln-01", "staging", "trial-*"))
	if err != nil || len(left) > 0 || run.Sets.Parked != "3" || f.count(`SELECT count(*) FROM attempt`) != before {
		t.Errorf("it leaves %v, %v; parked are %s", left, err, run.Sets.Parked)
	}
	c := f.open()
	c.signInAs("admin", password)
	c.sees("Queue")
	c.goTo("/runs/" + strconv.FormatInt(id, 10))
	c.press("Render by hand on kiln-01")
	c.sees("scene changed")
	c.accessible("A frame by hand")
}
