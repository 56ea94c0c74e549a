package system

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"vexillum/internal/wire"
)

// TestWhatAScenePageKnows browses a scene place and reads scenes, as the form does.
func TestWhatAScenePageKnows(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	if err := os.MkdirAll(filepath.Join(f.dir, "scenes", "shots", "b 2"), 0o755); err != nil {
		t.Fatal(err)
	}
	f.scene(
		"shots/vase10.practice",
		"practice: 1\npicture: salt\nframes: 3-17\ncameras:\n  - {camera: left, pan: -0.4}\n  - camera: right\n",
	)
	f.scene("shots/vase9.practice", "practice: 1\npicture: salt\n")
	f.scene("shots/notes.txt", "nothing\n")
	f.scene(".hidden.practice", "practice: 1\npicture: salt\n")
	get := func(path string, out any) error { return f.admin.Do(t.Context(), "GET", path, nil, out) }
	var folder wire.Folder
	if err := get("/api/v1/projects/salt-clock/scenes?path=shots", &folder); err != nil {
		t.Fatal(err)
	}
	names := ""
	for _, e := range folder.Entries {
		names += fmt.Sprintf("%s %t %v;", e.Name, e.Folder, len(e.Recipes) > 0)
	}
	if names != "b 2 true false;notes.txt false false;vase9.practice false true;vase10.practice false true;" {
		t.Errorf("the folder holds %s", names)
	}
	if err := get("/api/v1/projects/salt-clock/scenes", &folder); err != nil ||
		strings.Contains(fmt.Sprint(folder), "hidden") {
		t.Errorf("the place holds %v, %v", folder, err)
	}
	var scene wire.Scene
	if err := get("/api/v1/projects/salt-clock/scene?path=shots/vase10.practice", &scene); err != nil {
		t.Fatal(err)
	}
	if scene.Shot != "3-17" || fmt.Sprint(scene.Cameras) != "[left right]" || scene.Job != "vase10" ||
		scene.Recipe != "practice" || len(scene.Passes) != 3 || scene.File != "vase10.practice" {
		t.Errorf("the scene says %+v", scene)
	}
	for path, says := range map[string]string{
		"scenes?path=../..":                           "", // the place itself: nothing is above it
		"scenes?path=nope":                            "there is no folder nope",
		"scene?path=nope.practice":                    "there is no scene nope.practice",
		"scene?path=../nope.practice":                 "is outside its place",
		"scene?path=shots/notes.txt":                  "no recipe reads",
		"scene?path=shots/vase9.practice&recipe=none": `there is no recipe`,
		"scene?path=":                                 "scene",
	} {
		var no *wire.Problem
		err := get("/api/v1/projects/salt-clock/"+path, nil)
		if says == "" && err == nil {
			continue
		}
		if !errors.As(err, &no) || !strings.Contains(no.Detail, says) || says == "" {
			t.Errorf("%s: %v, want %q", path, err, says)
		}
	}
}

// TestSubmittingFromThePage finds a scene, chooses frames, cameras and a proof, reads the
// receipt that would come, asks the nodes, and submits.
func TestSubmittingFromThePage(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	if err := os.MkdirAll(filepath.Join(f.dir, "scenes", "shots"), 0o755); err != nil {
		t.Fatal(err)
	}
	f.scene(
		"shots/vase.practice",
		"practice: 1\npicture: salt\ncost: 50ms\nframes: 1-12\ncameras:\n  - camera: left\n  - camera: right\n    pan: 0.3\n",
	)
	f.join("kiln-01", "--renderers", "practice")
	f.join("kiln-02", "--renderers", "command")
	f.patch("/api/v1/people/tobin", wire.PersonChange{Role: "artist", Password: password})
	c := f.open()
	c.signInAs("tobin", password)
	c.sees("Queue")
	c.keys("g", "u")
	c.sees("Which scene is to be rendered?")
	c.click(`//button[contains(., "shots/")]`)
	c.click(`//button[contains(., "vase.practice")]`)
	c.sees("frames 1-12")
	// The cameras of the scene are chosen.
	c.sees("vase_left/final-1")
	c.sees("2 runs, 24 frames")
	c.accessible("Submit")
	c.noSidewaysScroll("Submit")

	// What is wrong stands at its field, and nothing can be submitted.
	c.fill(`input[name=size]`, "64")
	c.sees("is not written as it should be, such as 1920x1080")
	if !value[bool](c, `[...document.querySelectorAll("button")].find(b => b.innerText.startsWith("Queue")).disabled`) {
		t.Error("what is wrong can be submitted")
	}
	c.fill(`input[name=size]`, "64x36")
	c.fill(`input[name=frames]`, "1-5,40")
	c.sees("frame 40 lies outside the shot range 1-12")
	c.press("three")
	c.sees("3 frames")
	c.do(
		chromedp.Evaluate(
			`[...document.querySelectorAll("fieldset label")].filter(l => ["depth"].includes(l.innerText.trim())).forEach(l => l.click())`,
			nil,
		),
	)
	c.sees("vase_left/final-1")
	c.sees("2 runs, 6 frames")
	c.do(chromedp.Reload())
	c.sees("Queue 2 runs, 6 frames")
	c.fill(`input[name=without]`, "kiln-02, ")
	c.wait("a further node is suggested, and none twice", func() bool {
		return value[string](c, `[...document.querySelector("input[name=without]").list.options].map(o => o.value).join()`) ==
			"kiln-02, kiln-01"
	})
	c.fill(`input[name=without]`, "")
	c.press("Ask the nodes")
	c.sees("1 node passes, 1 does not")
	c.sees("it does not offer practice")
	c.press("Leave those out")
	c.sees("The form has changed since.")
	c.accessible("Submit, with a preflight")
	c.press("Queue 2 runs, 6 frames")
	c.sees("is in the queue")
	f.wait("both are rendered", func() bool { return f.count(`SELECT count(*) FROM run WHERE state = 'done'`) == 2 })
	left := filepath.Join(f.dir, "frames", "vase", "left", "final-1", "vase_left.0001.png")
	right := filepath.Join(f.dir, "frames", "vase", "right", "final-1", "vase_right.0001.png")
	if f.read(left) == f.read(right) {
		t.Error("both cameras see the same")
	}
	if n := f.count(`SELECT count(*) FROM run`); n != 2 {
		t.Errorf("there are %d runs", n)
	}
	c.press("proof first")
	c.sees("Queue the 2 proofs, ")
	c.sees("vase_right/proof-1")
	c.press("Clear the form")
	c.sees("2 runs, 24 frames")
}

// TestTheProjectFollowsTheFolder submits a scene of a folder that is named after another project than
// the one that comes first, and chooses a project that the folder is not of.
func TestTheProjectFollowsTheFolder(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.must("project", "set", "gannet", "--title", "Gannet", "--scenes", "scenes", "--frames", "frames")
	if err := os.MkdirAll(filepath.Join(f.dir, "scenes", "salt-clock"), 0o755); err != nil {
		t.Fatal(err)
	}
	f.scene("salt-clock/vase.practice", "practice: 1\npicture: salt\nframes: 1-12\n")
	c := f.open()
	c.signInAs("admin", password)
	c.sees("Queue")
	c.goTo("/submit")
	c.sees("Gannet")
	c.click(`//button[contains(., "salt-clock/")]`)
	chosen := func(project string) func() bool {
		return func() bool { return value[string](c, `document.querySelector("main select").value`) == project }
	}
	c.wait("the project is that of the folder", chosen("salt-clock"))
	c.goTo("/submit?project=gannet&scene=salt-clock/vase.practice")
	c.sees("seems to belong to")
	c.click(`//button[contains(., "Submit to")]`)
	c.wait("it is that of the scene", chosen("salt-clock"))
	c.sees("Queue 12 frames")
	c.accessible("Submit to another project")
}

// TestStepsTilesAndMoviesOnTheRunPage looks at runs that wait for one another, plays the
// movie in which they end, sees a still fill up, and submits the final of a proof.
func TestStepsTilesAndMoviesOnTheRunPage(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 50ms\nframes: 1-24\n")
	f.must("job", "submit", f.file("chain.yaml", `job_file: 1
project: salt-clock
jobs:
  - {name: salt, scene: salt.practice, size: 64x36, recipe: practice-single, start_on: all}
  - {name: salt_movie, from: salt, recipe: movie}
`))
	still := f.submit(
		wire.Submit{Job: "still", Scene: "salt.practice", Frames: "7", Width: 64, Height: 36, Tiles: "2x2"},
	)
	proof := f.submit(wire.Submit{
		Job: "shot", Scene: "salt.practice", Width: 64, Height: 36, Proof: true, Every: 6, ProofScale: 0.5,
	})
	f.join("kiln-01", "--renderers", "practice,practice-single,movie")
	film := f.newestOf("salt_movie")
	for _, id := range []int64{film, still, proof} {
		if run := f.ended(id); run.State != "done" {
			t.Fatalf("%s is %s: %s", run.Name, run.State, run.Why)
		}
	}
	c := f.open()
	c.signInAs("admin", password)
	c.sees("Queue")
	c.goTo(fmt.Sprintf("/runs/%d", film))
	c.wait("the movie can be played", func() bool {
		return value[float64](c, `document.querySelector("video")?.duration || 0`) == 1
	})
	c.do(chromedp.Evaluate(`document.querySelector("video").muted = true; document.querySelector("video").play()`, nil))
	c.wait("it plays", func() bool { return value[float64](c, `document.querySelector("video").currentTime`) > 0.2 })
	c.accessible("The run of a movie")
	if n := value[int](c, `document.querySelectorAll('section[aria-label="Steps"] a').length`); n != 2 {
		t.Errorf("%d steps are drawn", n)
	}
	c.click(`//section[@aria-label="Steps"]//a[contains(., "24 / 24")]`)
	c.wait("the step is opened", func() bool { return c.address() == fmt.Sprintf("/runs/%d", f.newestOf("salt")) })

	c.goTo(fmt.Sprintf("/runs/%d", still))
	c.sees("in 4 tiles, put together")
	c.wait("all tiles are seen", func() bool {
		return value[int](
			c,
			`[...document.querySelectorAll('section[aria-label="Tiles"] img')].filter(i => i.naturalWidth > 0).length`,
		) == 4
	})
	c.accessible("The run of a still in tiles")

	c.goTo(fmt.Sprintf("/runs/%d", proof))
	c.press("Submit the final")
	c.sees("shot/final-1")
	c.confirm("Submit it")
	c.sees("final 1")
	if final := f.ended(f.newestOf("shot")); final.Kind != "final" || final.FrameCount != 24 || final.Width != 64 {
		t.Errorf("the final is %+v", final)
	}
	c.goTo(fmt.Sprintf("/runs/%d", proof))
	c.press("Submit the final")
	c.sees("shot/final-1 was submitted since this proof")
}
