package recipe

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// TestWhatARecipeMayNotSay changes a line of a good one to something that cannot work.
func TestWhatARecipeMayNotSay(t *testing.T) {
	frameFile := `frame_file: '^f\.(\d+)\.png$'`
	for name, c := range map[string]struct{ old, to, says string }{
		"a shell":               {"linux: [glass-render,", "linux: [/bin/bash,", "linux[0]: /bin/bash is a shell"},
		"another shell":         {"['glass.exe']", `['C:\Windows\System32\CMD.EXE']`, "is a shell"},
		"every line":            {`percent: '(\d+(?:\.\d+)?) *%'`, "begins: '(.*)'", "matches everything"},
		"every file":            {frameFile, "frame_file: '(.+)'", "matches everything"},
		"two names":             {frameFile, "frame_file: '^f(\\d+)x$'\nframe_name: x", "either frame_file"},
		"no name":               {frameFile, "role: wrangler", "either frame_file"},
		"a name outside":        {frameFile, "frame_name: ../x.png", "below the staging folder"},
		"a default's holes":     {`default: ""`, `default: "{scene}"`, "{scene} is not filled in here"},
		"an odd version":        {"probe: {", "probe: {least: new, ", "is no version"},
		"an unknown checkpoint": {"read:", "checkpoint: state\nread:", "there is no output state"},
		"a range goes on": {
			"read:", "outputs: {d: {file: 'd(\\d+)', picture: png}}\ncheckpoint: d\nread:",
			"only renderers of the mode whole",
		},
		"an unknown each":   {`- {when: camera, `, "- {each: line, ", "is not one of frame"},
		"words of nothing":  {`- "--from={first-1}"`, `- {words: text}`, "there is no value text"},
		"no response":       {"read:", "response_file: {argument: x}\nread:", "it has to name the file"},
		"an odd size":       {"read:", "outputs: {d: {file: 'd(\\d)', picture: png, size: big}}\nread:", "is no size"},
		"data of no ending": {"picture: png", "picture: data", "have no ending of their own"},
		"no source":         {"read:", "shot: {last: {match: '(\\d+)x'}}\nread:", "either a file or a command"},
		"an empty list":     {`scenes: [".glass"]`, "scenes: []", "it needs at least 1 entry"},
	} {
		text := strings.Replace(second, c.old, c.to, 1)
		if text == second {
			t.Errorf("%s: nothing was changed", name)
			continue
		}
		if _, err := Parse([]byte(text)); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestSettingsThatNeedNoDeclaration are there where a recipe makes use of them.
func TestSettingsThatNeedNoDeclaration(t *testing.T) {
	text := strings.Replace(
		second, `- "--from={first-1}"`, "- \"{fps}\"\n  - {when: layer, arguments: [\"--layer={layer}\"]}", 1,
	)
	r, err := Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	values, err := r.Complete(map[string]string{"layer": "sky"})
	if err != nil || values["fps"] != "24" || values["layer"] != "sky" {
		t.Errorf("%v, %v", values, err)
	}
	if _, err := r.Complete(map[string]string{"fps": "0"}); err == nil {
		t.Error("no frame a second")
	}
	if plain, err := Parse([]byte(second)); err != nil || plain.Values["fps"].Kind != "" {
		t.Errorf("it makes no use of it: %v, %v", plain.Values, err)
	}
}

func TestWordsAndEachFrame(t *testing.T) {
	r := &Recipe{
		Format: 2, Name: "c", Values: map[string]Value{"line": {Kind: "text", Needed: true}},
		Arguments: []Argument{{Words: "line"}, {Each: true, Texts: []string{"{frame}", "{own_frame:02}"}}},
	}
	with := map[string]string{
		"line": `cp {scene} 'a b' "{frame}"`, "scene": "x y", "frame": "3", "first": "3", "own_first": "0",
	}
	got, _ := r.Launch(with, frames.Of(frames.Span{First: 3, Last: 4}))
	if want := []string{"cp", "x y", "a b", "3", "3", "00", "4", "01"}; !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
	var wrong *ValueError
	for _, line := range []string{"", "a 'b"} {
		if _, err := r.Complete(map[string]string{"line": line}); !errors.As(err, &wrong) || wrong.Name != "line" {
			t.Errorf("%q: %v", line, err)
		}
	}
}

func TestVersionsAndSizes(t *testing.T) {
	for _, c := range []struct {
		least, below, have, says string
	}{
		{"3.7", "", "3.7.0.10.unofficial", ""}, {"3.7", "4", "3.6.9", "3.7 or later"},
		{"3.7", "4", "4.0-beta", "before 4"},
		{"3.10", "", "3.9", "3.10 or later"}, {"", "", "new", ""}, {"1", "", "new", "is no version"},
	} {
		got := Probe{Least: c.least, Below: c.below}.Unfit(c.have)
		if (got == "") != (c.says == "") || !strings.Contains(got, c.says) {
			t.Errorf("%s of %s to %s: %q", c.have, c.least, c.below, got)
		}
	}
	for size, want := range map[Size][2]int{"": {640, 360}, Any: {0, 0}, "50%": {320, 180}, "1024x512": {1024, 512}} {
		if w, h := size.Of(640, 360); w != want[0] || h != want[1] {
			t.Errorf("%q: %d×%d", size, w, h)
		}
	}
}

// TestWhatASceneTells asks the scene, a file beside it and a command; the first of them
// counts.
func TestWhatASceneTells(t *testing.T) {
	text := strings.Replace(second, "read:", `shot:
  - {file: "{scene}", last: {match: 'end=(\d+)'}, first: {match: 'begin=(\d+)'}, cameras: 'camera (\w+)'}
  - {command: [glass-info, "{scene}"]}
read:`, 1)
	text = strings.Replace(text, `- "--from={first-1}"`, `- "{fps}"`, 1)
	r, err := Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	scene := "begin=1 end=9\ncamera left\ncamera right\ncamera left"
	printed := `{"first": 5, "last": 6, "width": 640, "height": 360, "fps": 23.976, "layers": ["sky"],
		"inputs": ["a.png"]}`
	reader := SceneReader{
		Read: func(name string) ([]byte, error) {
			if name != "shots/vase.glass" {
				return nil, fs.ErrNotExist
			}
			return []byte(scene), nil
		},
		Run: func([]string) ([]byte, error) { return []byte(printed), nil },
	}
	got, err := r.ReadScene("shots/vase.glass", reader)
	if err != nil || *got.Range != (frames.Span{First: 1, Last: 9}) || got.File != "vase.glass" || got.Width != 640 ||
		!slices.Equal(got.Cameras, []string{"left", "right"}) || !slices.Equal(got.Layers, []string{"sky"}) ||
		got.Values["fps"] != "23.976" || !slices.Equal(got.Inputs, []string{"a.png"}) {
		t.Errorf("%+v, %v", got, err)
	}
	if err := r.CheckChoice(map[string]string{"camera": "top"}, got); err == nil ||
		!strings.Contains(err.Error(), `none named "top"; it has left, right`) {
		t.Errorf("%v", err)
	}
	if err := r.CheckChoice(map[string]string{"camera": "top"}, farm.SceneShot{Cameras: []string{}}); err == nil ||
		!strings.Contains(err.Error(), "it has none") {
		t.Errorf("of a scene without cameras one is chosen: %v", err)
	}
	unknown := r.Unchecked(map[string]string{"camera": "top"}, farm.SceneShot{})
	if len(unknown) != 1 || !strings.Contains(unknown[0], "the camera top") {
		t.Errorf("of a camera that nobody has looked for it is said %q", unknown)
	}
	if err := r.CheckChoice(map[string]string{"camera": "right"}, farm.SceneShot{}); err != nil {
		t.Error(err)
	}
	for _, bad := range []string{"no JSON", `{"first": 9, "last": 1}`, `{"values": {"none": "1"}}`, `{"fps": "x"}`} {
		scene, printed = "", bad
		if _, err := r.ReadScene("shots/vase.glass", reader); err == nil {
			t.Errorf("%s: taken", bad)
		}
	}
}

// TestExamplesAreWhole reads the recipes that the guide ends with.
func TestExamplesAreWhole(t *testing.T) {
	names, err := filepath.Glob("../../examples/recipes/*.yaml")
	if err != nil || len(names) < 2 {
		t.Fatalf("%v, %v", names, err)
	}
	for _, name := range names {
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		r, err := Parse(text)
		if err != nil || r.Name+".yaml" != filepath.Base(name) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestWhatAPOVRaySceneNeeds finds includes, images and fields of heights.
func TestWhatAPOVRaySceneNeeds(t *testing.T) {
	book, err := Builtin()
	if err != nil {
		t.Fatal(err)
	}
	scene := `#include "colors.inc"
// #include "not.inc"
texture { pigment { image_map { png "tex/wood.png" once } } normal { bump_map { "tex/bark.jpg" } } }
height_field { tga "land.tga" smooth } density_file df3 "smoke.df3"
text { ttf "oak.ttf" "Not a file" 1, 0 }
#declare Name = "nothing";`
	var names []string
	for _, in := range book["povray"].InputsIn([]byte(scene)) {
		names = append(names, in.Name)
		if in.Follow != strings.HasSuffix(in.Name, ".inc") {
			t.Errorf("%+v", in)
		}
	}
	want := []string{"colors.inc", "tex/wood.png", "tex/bark.jpg", "land.tga", "smoke.df3", "oak.ttf"}
	if !slices.Equal(names, want) {
		t.Errorf("%q, want %q", names, want)
	}
}
