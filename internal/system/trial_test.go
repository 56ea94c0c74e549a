package system

import (
	"os"
	"path/filepath"
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
