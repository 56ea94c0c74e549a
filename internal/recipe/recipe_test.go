package recipe

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"vexillum/internal/core/frames"
)

const small = `
recipe: 1
name: small
title: A small one
mode: range
stop: kill
program: small
probe: {arguments: ["-V"], version: 'small (\S+)'}
scenes: [".small"]
picture: png
values:
  quality: {kind: integer, default: "5", least: 1, most: 9}
  ratio: {kind: number, default: "0.5"}
  look: {kind: choice, default: plain, choices: [plain, fancy]}
  note: {kind: text, default: ""}
arguments: ["-i", "{scene}", "-q{quality}", "{note}", "{unknown_is_refused}"]
frame_file: '^f(\d+)\.png$'
`

func parsed(t *testing.T) *Recipe {
	t.Helper()
	r, err := Parse([]byte(strings.Replace(small, `, "{unknown_is_refused}"`, "", 1)))
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func TestBuiltinRecipesAreWhole(t *testing.T) {
	book, err := Builtin()
	if err != nil {
		t.Fatal(err)
	}
	want := []string{"command", "movie", "povray", "practice", "practice-feed", "practice-single"}
	if !slices.Equal(book.Names(), want) {
		t.Errorf("there are %v, want %v", book.Names(), want)
	}
	if got := book.ForScene(".pov"); len(got) != 1 || got[0].Name != "povray" {
		t.Errorf("for .pov: %v", got)
	}
	if got := book.ForScene(".practice"); len(got) != 3 || got[0].Name != "practice" {
		t.Errorf("for .practice: %v", got)
	}
}

func TestBrokenRecipesAreRefused(t *testing.T) {
	change := func(old, to string) string { return strings.Replace(parsedText(), old, to, 1) }
	for name, c := range map[string]struct{ text, says string }{
		"no YAML":                 {"{", "line 1, column 1: could not find"},
		"an empty file":           {"", "it is empty"},
		"a list":                  {"- recipe: 1\n", "it is a list and should be a set of fields"},
		"a field left empty":      {change("title:", "title:\nnote2:"), "title: it is empty"},
		"another format":          {change("recipe: 1", "recipe: 3"), "recipe: 3 is not one of 1, 2"},
		"an unknown field":        {change("title:", "titel: x\ntitle:"), "line 4, column 1: titel: there is no such field"},
		"no arguments":            {change("arguments:", "other:"), "arguments is missing"},
		"no mode":                 {change("mode: range", "mode:"), "mode: it is empty"},
		"an unknown mode":         {change("mode: range", "mode: sideways"), "line 5, column 1: mode: sideways is"},
		"an unknown placeholder":  {small, "unknown_is_refused"},
		"a pattern that is none":  {change(`'^f(\d+)\.png$'`, `'^f(\d+\.png$'`), "frame_file"},
		"a pattern without group": {change(`'^f(\d+)\.png$'`, `'^f\.png$'`), "line 17, column 1: frame_file: the pattern \"^f\\\\.png$\" needs 1 group"},
		"a bad default":           {change(`default: "5"`, `default: "50"`), "line 12, column 28: values.quality.default: 50 is not between 1 and 9"},
		"a value like a word":     {change("note:", "width:"), "named like a placeholder"},
	} {
		if _, err := Parse([]byte(c.text)); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, want %q", name, err, c.says)
		}
	}
}

// TestMalformedPlaceholdersAreRefused writes placeholders as nothing fills them in, and braces that are none.
func TestMalformedPlaceholdersAreRefused(t *testing.T) {
	for argument, says := range map[string]string{
		"{Frame}":        "write {frame}",
		"{frame:4}":      "such as {frame:04}",
		"{width*2}":      "such as {width-1}",
		"{threads":       "is not closed",
		"-t{threads -x":  "is not closed",
		"{ frame }":      "write {frame}",
		"{Fram}":         "nothing fills in",
		"${HOME}":        "nothing fills in",
		"{quality:2}":    "such as {quality:04}",
		"{frame}{First}": "write {first}",
		"{x=1}":          "",
		"{}":             "",
		`{"a": 1}`:       "",
		"{frame-1}":      "",
		"{frame:04}":     "",
		"a } b":          "",
	} {
		quoted, err := json.Marshal(argument)
		if err != nil {
			t.Fatal(err)
		}
		_, err = Parse([]byte(strings.Replace(small, `"{unknown_is_refused}"`, string(quoted), 1)))
		if (err == nil) != (says == "") || err != nil && !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v, want %q", argument, err, says)
		}
	}
}

func parsedText() string { return strings.Replace(small, `, "{unknown_is_refused}"`, "", 1) }

func TestValues(t *testing.T) {
	r := parsed(t)
	full, err := r.Complete(map[string]string{"quality": "9"})
	if err != nil || full["quality"] != "9" || full["look"] != "plain" || full["ratio"] != "0.5" {
		t.Errorf("%v, %v", full, err)
	}
	for name, bad := range map[string]string{"quality": "10", "ratio": "much", "look": "loud", "note": "two\nlines", "colour": "red"} {
		_, err := r.Complete(map[string]string{name: bad})
		var v *ValueError
		if !errors.As(err, &v) || v.Name != name {
			t.Errorf("%s=%q: %v", name, bad, err)
		}
	}
	if _, err := r.Complete(map[string]string{"quality": "2.5"}); err == nil {
		t.Error("half a quality was taken")
	}
}

// TestValuesStayOneArgument gives a value that a shell would take apart.
func TestValuesStayOneArgument(t *testing.T) {
	r := parsed(t)
	nasty := `a b"; rm -rf / $(id) {scene} '`
	values, err := r.Complete(map[string]string{"note": nasty})
	if err != nil {
		t.Fatal(err)
	}
	values["scene"] = "/srv/my scene.small"
	arguments, _ := r.Launch(values, frames.One(1))
	if want := []string{"-i", "/srv/my scene.small", "-q5", nasty}; !slices.Equal(arguments, want) {
		t.Errorf("arguments %q, want %q", arguments, want)
	}
}

func TestAFolderOfRecipes(t *testing.T) {
	dir := t.TempDir()
	text := strings.Replace(parsedText(), "name: small", "name: povray", 1)
	if err := os.WriteFile(filepath.Join(dir, "p.yaml"), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	book, err := Folder(dir)
	if err != nil || len(book) != 1 || book["povray"].Title != "A small one" || book["povray"].Text() != text {
		t.Errorf("%v, %v", book, err)
	}
	if _, err := Folder(filepath.Join(dir, "gone")); err == nil || !strings.Contains(err.Error(), "does not exist") {
		t.Errorf("a folder that is not there: %v", err)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(small))
	f.Add([]byte("recipe: [1"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if r, err := Parse(data); err == nil {
			needed := map[string]string{}
			for name, v := range r.Values {
				if v.Needed && v.Kind == "text" {
					needed[name] = "x"
				}
			}
			if _, err := r.Complete(needed); err != nil && !strings.Contains(err.Error(), "needs it") {
				t.Errorf("the defaults do not fit: %v", err)
			}
		}
	})
}

// second is a recipe of the second form, with what is new in it.
const second = `recipe: 2
name: glass
title: Glass
mode: range
stop: kill
repeatable: true
program:
  linux: [glass-render, /opt/glass/bin/render]
  windows: ['glass.exe']
probe: {arguments: ["-V"], version: 'glass (\S+)'}
scenes: [".glass"]
picture: png
values:
  camera: {kind: text, default: ""}
  depth: {kind: integer, default: "3"}
arguments:
  - "{scene}"
  - {when: camera, arguments: ["--camera", "{camera}"]}
  - "--from={first-1}"
  - "--name=f.{frame:04}.png"
  - "--depth={depth+1:02}"
frame_file: '^f\.(\d+)\.png$'
read:
  percent: '(\d+(?:\.\d+)?) *%'
  codes: {"3": missing file, "4": no licence}
`

func TestTheSecondForm(t *testing.T) {
	r, err := Parse([]byte(second))
	if err != nil {
		t.Fatal(err)
	}
	with := map[string]string{"scene": "a b.glass", "first": "1", "frame": "1", "depth": "3", "camera": ""}
	arguments, _ := r.Launch(with, frames.One(1))
	if want := []string{"a b.glass", "--from=0", "--name=f.0001.png", "--depth=04"}; !slices.Equal(arguments, want) {
		t.Errorf("%q, want %q", arguments, want)
	}
	with["camera"] = "over the sea; rm -rf /"
	arguments, _ = r.Launch(with, frames.One(1))
	if !slices.Equal(arguments[1:3], []string{"--camera", "over the sea; rm -rf /"}) {
		t.Errorf("%q", arguments)
	}
	if got := r.Program.Candidates("linux"); !slices.Equal(got, []string{"glass-render", "/opt/glass/bin/render"}) {
		t.Errorf("on linux: %q", got)
	}
	if got := r.Program.Candidates("darwin"); len(got) > 0 {
		t.Errorf("on darwin: %q", got)
	}
	data, err := json.Marshal(r) // as it travels to nodes
	if err != nil {
		t.Fatal(err)
	}
	var again Recipe
	if err := json.Unmarshal(data, &again); err != nil {
		t.Fatal(err)
	}
	again.text = r.text
	if !reflect.DeepEqual(again, *r) {
		t.Errorf("%+v came from %s", again, data)
	}
}

func TestMistakesSayWhere(t *testing.T) {
	change := func(old, to string) string { return strings.Replace(second, old, to, 1) }
	for name, c := range map[string]struct{ text, says string }{
		"the first form has less":      {change("recipe: 2", "recipe: 1"), "line 18, column 6: arguments[1]: it is of the second form"},
		"a group of a value not there": {change("when: camera", "when: lens"), "line 18, column 6: arguments[1].when: there is no value lens"},
		"a group without arguments": {
			change(`, arguments: ["--camera", "{camera}"]`, ""),
			"line 18, column 6: arguments[1]: arguments is missing",
		},
		"an unknown system":         {change("windows:", "amiga:"), "line 9, column 3: program.amiga: there is no"},
		"counting with a text":      {change("{first-1}", "{camera-1}"), "arguments[2]: {camera} is no whole number"},
		"an unknown cause":          {change("missing file", "bad luck"), "read.codes[3]: bad luck is not one of"},
		"a pattern without a group": {change(`'(\d+(?:\.\d+)?) *%'`, `'\d+%'`), "read.percent: the pattern"},
		"two at once": {
			change("mode: range", "mode: nearly\nstep: 3"),
			"line 4, column 1: mode: nearly is not one of range, single, feed, whole; " +
				"line 5, column 1: step: there is no such field",
		},
	} {
		_, err := Parse([]byte(c.text))
		if err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, want %q", name, err, c.says)
		}
	}
}

func TestPlaceholdersCountAndPad(t *testing.T) {
	with := map[string]string{"frame": "7", "node": "kiln-01"}
	for text, want := range map[string]string{
		"{frame}": "7", "{frame:04}": "0007", "{frame-8}": "-1", "{frame+3:03}": "010", "{frame-8:04}": "-0001",
		"{node-1}": "{node-1}", "{other}": "{other}", "{frame:4}": "{frame:4}", "{{frame}}": "{7}",
		"{frame-}": "{frame-}",
	} {
		if got := Fill(text, with); got != want {
			t.Errorf("%s: %s, want %s", text, got, want)
		}
	}
}

// TestAKeptRecipeIsStillRead reads a recipe that a farm accepted before malformed placeholders were refused.
func TestAKeptRecipeIsStillRead(t *testing.T) {
	text := []byte(strings.Replace(small, `"{unknown_is_refused}"`, `"{Frame}"`, 1))
	if _, err := Parse(text); err == nil {
		t.Error("it is taken anew")
	}
	r, err := ParseKept(text)
	if err != nil {
		t.Fatal(err)
	}
	args, _ := r.Launch(map[string]string{"scene": "a", "quality": "5"}, frames.One(1))
	if !slices.Contains(args, "{Frame}") {
		t.Errorf("it is launched with %q", args)
	}
}
