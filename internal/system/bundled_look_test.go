package system

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestTheSceneOfABundleIsAsked sends a scene whose recipe asks a command about it: what that says
// counts as it does for a scene in its place.
func TestTheSceneOfABundleIsAsked(t *testing.T) {
	t.Parallel()
	practice, err := os.ReadFile("../recipe/builtin/practice-single.yaml")
	if err != nil {
		t.Fatal(err)
	}
	before, rest, found := strings.Cut(string(practice), "\nshot:\n")
	_, after, ended := strings.Cut(rest, "\nread:\n")
	if !found || !ended {
		t.Fatal("the practice recipe has no shot")
	}
	text := before + "\nshot:\n  - command: [env, sh, -c, 'cat \"{scene_folder}/told.json\"']\n" + "\nread:\n" + after
	text = strings.Replace(text, "name: practice-single\n", "name: glass\n", 1)
	f := newFarmWith(t, map[string]string{"glass.yaml": strings.ReplaceAll(text, ".practice", ".glass")})
	f.signIn()
	local := t.TempDir()
	for name, text := range map[string]string{
		"salt.glass": "practice: 1\npicture: salt\ncost: 10ms\ncameras:\n  - {camera: right, pan: 0.1}\n",
		"told.json": `{"first": 1, "last": 7, "width": 64, "height": 36, "cameras": ["left", "right"],
			"inputs": ["told.json", "tex/none.txt"]}`,
	} {
		if err := os.WriteFile(filepath.Join(local, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	submit := []string{
		"submit", filepath.Join(local, "salt.glass"), "--bundle", "--with", "told.json", "--project", "salt-clock",
	}
	// Without a node nobody can ask, and the receipt says so.
	if out := f.must(append(submit, "--frames", "1-2", "--held", "--size", "64x36")...); !strings.Contains(
		out, "Nothing was asked by the command of the recipe glass",
	) {
		t.Errorf("without a node it says\n%s", out)
	}
	f.must("cancel", "salt", "--yes")
	f.join("kiln-01", "--renderers", "glass")
	if _, stderr, code := f.vexillum(append(submit, "--set", "camera=up")...); code == 0 ||
		!strings.Contains(stderr, `the scene has none named "up"; it has left, right`) {
		t.Errorf("a camera that the scene does not have: %d %s", code, stderr)
	}
	out := f.must(append(submit, "--set", "camera=right")...)
	for _, want := range []string{
		"1-7 (7)", "kiln-01 has looked at the scene, by the command of the recipe",
		"Not in the bundle, though the scene says that it needs it: tex/none.txt.",
	} {
		if !strings.Contains(out, want) {
			t.Errorf("the receipt is without %q:\n%s", want, out)
		}
	}
	run := f.ended(f.newestOf("salt_right"))
	if run.State != "done" || run.DoneCount != 7 || run.Width != 64 {
		t.Errorf("the run is %s with %d frames %d wide: %s", run.State, run.DoneCount, run.Width, run.Why)
	}
	left, err := filepath.Glob(filepath.Join(f.dir, "kiln-01", "staging", "trial-*"))
	if err != nil || len(left) > 0 {
		t.Errorf("left behind: %v, %v", left, err)
	}
}
