package jobfile

import (
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"vexillum/internal/core/trait"
	"vexillum/internal/fileschema"
	"vexillum/internal/wire"
)

var update = flag.Bool("update", false, "write the golden files anew")

// TestWhatAFileComesTo compares the runs of a file with what was looked at once.
func TestWhatAFileComesTo(t *testing.T) {
	text, err := os.ReadFile("testdata/two-cameras.yaml")
	if err != nil {
		t.Fatal(err)
	}
	f, err := Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	runs, wrong := f.Expand()
	if len(wrong) > 0 {
		t.Fatal(wrong)
	}
	type run struct {
		wire.Submit
		Entry int
		Waits []Wait
	}
	var out []run
	for _, r := range runs {
		in, err := r.Submit()
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, run{in, r.Entry, r.Waits})
	}
	got, err := json.MarshalIndent(out, "", "  ")
	if err != nil {
		t.Fatal(err)
	}
	const golden = "testdata/two-cameras.json"
	if *update {
		if err := os.WriteFile(golden, append(got, '\n'), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(golden)
	if err != nil {
		t.Fatal(err)
	}
	if string(got) != strings.TrimSpace(string(want)) {
		t.Errorf("the runs are\n%s", got)
	}
}

func TestMistakes(t *testing.T) {
	layers := make([]string, 100_000)
	for i := range layers {
		layers[i] = fmt.Sprint("l", i)
	}
	const head = "job_file: 1\nproject: salt-clock\njobs:\n"
	for name, c := range map[string]struct{ text, says string }{
		"nothing":            {"", "it is empty"},
		"no version":         {"jobs: [{scene: a.practice}]", "job_file is missing"},
		"another version":    {"job_file: 2\njobs: [{scene: a}]", "line 1, column 1: job_file: 2 is not one of 1"},
		"no job":             {"job_file: 1\njobs: []", "line 2, column 1: jobs: it needs at least 1 entry"},
		"an unknown field":   {head + "  - scene: a\n    qualty: 3\n", "line 5, column 5: jobs[0].qualty: there is no such field"},
		"a wrong type":       {head + "  - scene: [a]\n", "jobs[0].scene: it is a list and should be text"},
		"a size in words":    {head + "  - {scene: a, size: large}\n", "jobs[0].size"},
		"no scene":           {head + "  - {name: a}\n", "jobs[0]: it has no scene, and reads no frames"},
		"no project":         {"job_file: 1\njobs: [{scene: a}]", "it has no project"},
		"too many tries":     {head + "  - {scene: a, tries: 21}\n", "it is 21 and has to be at most 20"},
		"a huge scale":       {head + "  - {scene: a, scale: 9000%}\n", "jobs[0].scale: \"9000%\" is not a scale"},
		"much memory":        {head + "  - {scene: a, takes: {memory: much}}\n", "jobs[0].takes.memory"},
		"one name for two":   {head + "  - {name: a, scene: x/a.pov}\n  - {name: a, scene: y/a.pov}\n", "line 5, column 6: jobs[1].name: two jobs are called a"},
		"a named like one":   {head + "  - {scene: x/a.pov}\n  - {name: a, scene: y/a.pov}\n", "jobs[1].name: two jobs are called a"},
		"one scene twice":    {head + "  - {scene: x/a.pov}\n  - {scene: x/a.pov}\n", "jobs[1].name: two jobs are called a"},
		"itself":             {head + "  - {name: a, scene: a, after: [a]}\n", "a waits for itself"},
		"twice":              {head + "  - {name: a, scene: a}\n  - {name: b, scene: b, after: [a, a]}\n", "b waits for a twice"},
		"a circle":           {head + "  - {name: a, scene: a, after: [c]}\n  - {name: b, scene: b, after: [a]}\n  - {name: c, scene: c, after: [b]}\n", "a waits for c waits for b waits for a"},
		"reads several":      {head + "  - {name: a, scene: a, each: {camera: [l, r]}}\n  - {name: b, from: a, recipe: movie}\n", "a stands for 2 runs, and a run reads the frames of one"},
		"100,000 layers":     {head + "  - {scene: a, each: {layer: [" + strings.Join(layers, ",") + "]}}\n", "jobs[0].each: the file comes to more than 2000 runs"},
		"many by many":       {head + "  - {scene: a, each: {a: [1,2,3,4,5,6,7,8,9,10,11], b: [1,2,3,4,5,6,7,8,9,10], c: [1,2,3,4,5,6,7,8,9,10], d: [1,2,3,4,5,6,7,8,9,10]}}\n", "more than 2000 runs"},
		"an alias bomb":      {"a: &a [x]\nb: &b [*a, *a]\n", "aliases are not supported"},
		"50 MB":              {strings.Repeat("#", 50<<20), "at most 4194304 are read"},
		"no YAML":            {"job_file: [", "line 1"},
		"binary":             {"\x00\x01\x02", "not text"},
		"an empty text":      {head + "  - {scene: ''}\n", "jobs[0].scene: it is empty"},
		"names alike once":   {head + "  - {name: a, scene: a, each: {look: [x]}}\n  - {name: a_x, scene: b}\n", "two jobs are called a_x"},
		"a date in words":    {head + "  - {scene: a, after: [{}]}\n", "job is missing"},
		"a start on nothing": {head + "  - {scene: a, start_on: 0}\n", "start_on"},
	} {
		f, err := Parse([]byte(c.text))
		if err == nil {
			runs, wrong := f.Expand()
			if len(wrong) > 0 {
				err = fileschema.Placed([]byte(c.text), wrong)
			}
			for _, r := range runs {
				var no *WrongError
				if _, e := r.Submit(); errors.As(e, &no) {
					path := append([]string{"jobs", fmt.Sprint(r.Entry)}, strings.Split(no.Field, ".")...)
					err = fileschema.Placed([]byte(c.text), []fileschema.Wrong{{Path: path, What: no.What}})
				}
			}
		}
		if err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, want %q", name, err, c.says)
		}
	}
}

// TestOrderOfAnything orders things that wait for others at random: each stands behind
// those, and where that cannot be a circle is told that is one.
func TestOrderOfAnything(t *testing.T) {
	circles := 0
	for seed := range uint64(3000) {
		dice := rand.New(rand.NewPCG(seed, 3))
		n := 1 + dice.IntN(12)
		waits := make([][]int, n)
		for i := range waits {
			for range dice.IntN(3) {
				if of := dice.IntN(n); of != i {
					waits[i] = append(waits[i], of)
				}
			}
		}
		order, circle := Order(n, func(i int) []int { return waits[i] })
		if circle != nil {
			circles++
			for k, i := range circle {
				if !slices.Contains(waits[i], circle[(k+1)%len(circle)]) {
					t.Fatalf("seed %d: %v is no circle of %v", seed, circle, waits)
				}
			}
			continue
		}
		place := make([]int, n)
		for at, i := range order {
			place[i] = at
		}
		if len(order) != n {
			t.Fatalf("seed %d: %d of %d are ordered", seed, len(order), n)
		}
		for i, list := range waits {
			for _, of := range list {
				if place[of] >= place[i] {
					t.Fatalf("seed %d: %d stands before %d, for which it waits", seed, i, of)
				}
			}
		}
	}
	if circles < 500 || circles > 2500 {
		t.Errorf("%d of 3000 had a circle: that shows little", circles)
	}
}

// TestExpansionKeepsThingsApart expands files at random: as many runs as combinations,
// each with a name and a folder of its own.
func TestExpansionKeepsThingsApart(t *testing.T) {
	for seed := range uint64(500) {
		dice := rand.New(rand.NewPCG(seed, 5))
		f := &File{JobFile: 1, Project: "salt-clock"}
		want := 0
		for i := range 1 + dice.IntN(5) {
			j := Job{Name: fmt.Sprint("job", i), Scene: "a.practice", Each: map[string][]Text{}}
			count := 1
			for k := range dice.IntN(4) {
				var list []Text
				for v := range 1 + dice.IntN(4) {
					list = append(list, Text(fmt.Sprint("v", v)))
				}
				j.Each[fmt.Sprint("e", k)] = list
				count *= len(list)
			}
			want += count
			f.Jobs = append(f.Jobs, j)
		}
		runs, wrong := f.Expand()
		if len(wrong) > 0 || len(runs) != want {
			t.Fatalf("seed %d: %d runs, want %d; %v", seed, len(runs), want, wrong)
		}
		names, folders := map[string]bool{}, map[string]bool{}
		for _, r := range runs {
			in, err := r.Submit()
			if err != nil {
				t.Fatal(err)
			}
			folder := strings.Join(append([]string{in.Job}, in.Variant...), "/")
			if names[r.Name] || folders[folder] {
				t.Fatalf("seed %d: %s, %s is there twice", seed, r.Name, folder)
			}
			names[r.Name], folders[folder] = true, true
			for name, list := range f.Jobs[r.Entry].Each {
				if !slices.Contains(list, r.Values[name]) {
					t.Fatalf("seed %d: %s has %s=%s", seed, r.Name, name, r.Values[name])
				}
			}
		}
	}
}

func TestPresets(t *testing.T) {
	s, err := ParsePreset([]byte("size: 640x360\nvalues: {quality: 11}\nproof: {every: 12, values: {quality: 4}}\n"))
	if err != nil || s.Size != "640x360" || s.Values["quality"] != "11" || s.Proof.Every != 12 {
		t.Fatal(s, err)
	}
	for text, says := range map[string]string{
		"":                        "it is empty",
		"{}":                      "at least 1 field",
		"scene: a.pov":            "scene: there is no such field",
		"proof: {every: 0}":       "at least 1",
		"values: {quality: [1]}":  "values.quality",
		"tries: 3\ntries: 4\n":    "line 2",
		"takes: {cores: many}":    "a whole number",
		"order: sideways":         "is not one of forward, reverse, scouts",
		"proof: {priority: asap}": "asap is not one of",
	} {
		if _, err := ParsePreset([]byte(text)); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v, want %q", text, err, says)
		}
	}
	base := Settings{Size: "10x10", Values: map[string]Text{"a": "1", "b": "2"}, Tries: 4}
	over := base.Over(Settings{Values: map[string]Text{"b": "3"}, Tries: 5})
	if over.Size != "10x10" || over.Values["a"] != "1" || over.Values["b"] != "3" || over.Tries != 5 ||
		base.Values["b"] != "2" {
		t.Errorf("put over one another they are %+v", over)
	}
}

// TestWrittenFilesAreRead reads what is written for scenes of all kinds, also once every
// line behind # is taken in.
func TestWrittenFilesAreRead(t *testing.T) {
	least := 0.0
	for _, s := range []wire.Scene{
		{Scene: "a.practice", Job: "a", Recipe: "practice"},
		{
			Scene: "shots/a: b#c.pov", Job: "a-b-c", Recipe: "povray", Shot: "1-120", File: "a.ini", Width: 640, Height: 360,
			Cameras: []string{"left", "right"}, Layers: []string{"sky", "sea: deep"}, Mode: "range",
			Values: []wire.SceneValue{
				{Name: "quality", Default: "9", Least: &least, Help: "0 to 11", FromScene: true}, {Name: "look", Default: "no"},
			},
			Passes: []wire.ScenePass{{Name: "depth"}}, Presets: []wire.ScenePreset{{Name: "final"}, {Name: "mine", Mine: true}},
		},
		{Scene: "x.pov", Job: "x", Recipe: "povray", Values: []wire.SceneValue{{Name: "look", Default: "on"}}},
	} {
		text := Write("salt-clock", s)
		all := regexp.MustCompile(`(?m)^( +)# (\w+:|each)`).ReplaceAllString(text, "$1$2")
		for _, text := range []string{text, all} {
			f, err := Parse([]byte(text))
			if err != nil {
				t.Fatalf("%v in\n%s", err, text)
			}
			if _, wrong := f.Expand(); len(wrong) > 0 {
				t.Fatalf("%v in\n%s", wrong, text)
			}
			if f.Jobs[0].Scene != s.Scene || f.Jobs[0].Name != s.Job {
				t.Errorf("it is read as %+v", f.Jobs[0])
			}
		}
	}
}

func TestSizesOfPictures(t *testing.T) {
	for text, want := range map[string][2]int{"1920x1080": {1920, 1080}, "64×36": {64, 36}} {
		if w, h, err := ParseSize(text); err != nil || w != want[0] || h != want[1] {
			t.Errorf("%s: %d %d %v", text, w, h, err)
		}
	}
	for _, bad := range []string{"", "1920", "x", "0x5", "-1x5", "axb", "1x2x3"} {
		if _, _, err := ParseSize(bad); err == nil {
			t.Errorf("%q was taken", bad)
		}
	}
}

func FuzzJobFile(f *testing.F) {
	text, err := os.ReadFile("testdata/two-cameras.yaml")
	if err != nil {
		f.Fatal(err)
	}
	f.Add(string(text))
	f.Add("job_file: 1\nproject: a\njobs: [{scene: b, each: {c: [1, 2]}, after: [b]}]")
	f.Fuzz(func(t *testing.T, text string) {
		file, err := Parse([]byte(text))
		if err != nil {
			return
		}
		runs, wrong := file.Expand()
		if len(wrong) == 0 == (len(runs) == 0) || len(runs) > MostRuns {
			t.Fatalf("%d runs and %d mistakes", len(runs), len(wrong))
		}
		for i, r := range runs {
			for _, w := range r.Waits {
				if w.Of >= i {
					t.Fatalf("run %d waits for run %d, which stands behind it", i, w.Of)
				}
			}
			_, _ = r.Submit()
		}
	})
}

func Example() {
	f, err := Parse(
		[]byte("job_file: 1\nproject: tidal-room\njobs:\n  - {scene: dome.pov, each: {camera: [left, right]}}\n"),
	)
	if err != nil {
		fmt.Println(err)
		return
	}
	runs, _ := f.Expand()
	for _, r := range runs {
		fmt.Println(r.Name, r.Variant, r.Values["camera"])
	}
	// Output:
	// dome_left [left] left
	// dome_right [right] right
}

func BenchmarkJobFile(b *testing.B) {
	var text strings.Builder
	text.WriteString("job_file: 1\nproject: salt-clock\nall: {frames: 1-500}\njobs:\n")
	for i := range 2000 {
		fmt.Fprintf(&text, "  - {name: shot_%04d, scene: salt-clock/salt_020.practice}\n", i)
	}
	b.SetBytes(int64(text.Len()))
	for b.Loop() {
		f, err := Parse([]byte(text.String()))
		if err != nil {
			b.Fatal(err)
		}
		if runs, _ := f.Expand(); len(runs) != 2000 {
			b.Fatal(len(runs))
		}
	}
}

// TestNeedsByName puts together who may render something.
func TestNeedsByName(t *testing.T) {
	for _, c := range []struct {
		needs                 string
		nodes, without, pools []string
		want                  string
	}{
		{"", nil, nil, nil, ""},
		{"gpu || cores>=8", nil, nil, nil, "gpu || cores>=8"},
		{"", []string{"kiln-01"}, nil, nil, "name==kiln-01"},
		{
			"gpu || cores>=8", []string{"a", "b"}, []string{"c", "d"}, []string{"desks"},
			"(gpu || cores>=8) && (name==a || name==b) && !(name==c) && !(name==d) && pool==desks",
		},
	} {
		got := Needs(c.needs, c.nodes, c.without, c.pools)
		if got != c.want {
			t.Errorf("%+v: %q", c, got)
		}
		if _, err := trait.ParseExpression(got); err != nil {
			t.Errorf("%q: %v", got, err)
		}
	}
}
