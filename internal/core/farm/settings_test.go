package farm

import (
	"slices"
	"strings"
	"testing"

	"vexillum/internal/core/hours"
)

func TestSettingsThatCannotBe(t *testing.T) {
	for _, c := range []struct {
		settings Settings
		field    string
	}{
		{Settings{Traits: []string{"Big"}}, "traits"},
		{Settings{Traits: []string{"memory=4TiB"}}, "traits"}, // it is found, not given
		{Settings{Traits: slices.Repeat([]string{"a"}, 101)}, "traits"},
		{Settings{Pools: slices.Repeat([]string{"a"}, 51)}, "pools"},
		{Settings{Caps: Caps{Cores: -1}}, "caps"},
		{Settings{Caps: Caps{Nice: 20}}, "caps"},
		{Settings{Hours: &hours.Hours{Zone: "Nowhere"}}, "hours"},
		{Settings{Traits: []string{"big", "floor=2"}, Pools: []string{"graphics"}, Caps: Caps{Cores: 4, Nice: 19}, Hours: &hours.Hours{}}, ""},
	} {
		if field, err := c.settings.Check(); field != c.field || (err == nil) != (c.field == "") {
			t.Errorf("%+v: %q, %v", c.settings, field, err)
		}
	}
}

func TestDifferencesAreSaid(t *testing.T) {
	week, _ := hours.ParseWeek("mon 18:00-08:00")
	a := Settings{Traits: []string{"quiet"}, Pools: []string{"graphics"}, Caps: Caps{Cores: 4, MemoryBytes: 8 << 30}}
	b := Settings{
		Traits: []string{"big"}, Pools: []string{"graphics", "night"}, Caps: Caps{Nice: 19, StagingBytes: 1 << 30},
		Hours: &hours.Hours{
			Zone: "Europe/Dublin", Week: week,
			Exceptions: []hours.Exception{{Date: hours.Date{Year: 2031, Month: 3, Day: 4}}},
		},
	}
	got := strings.Join(Differences(a, b), "; ")
	want := "trait big is added; trait quiet is taken away; pool night is added; cores: all instead of 4; memory: " +
		"all instead of 8.0 GiB; " +
		"niceness: 19 instead of as usual; staging disk: 1.0 GiB instead of all; hours: mon 18:00-08:00 " +
		"(Europe/Dublin), on 2031-03-04 never instead of always"
	if got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	// A sentence names three exceptions; a change of the fourth is one nevertheless.
	many := func(fourth int) Settings {
		h := &hours.Hours{Week: week}
		for day := 1; day <= 4; day++ {
			h.Exceptions = append(h.Exceptions, hours.Exception{Date: hours.Date{Year: 2031, Month: 3, Day: day}})
		}
		h.Exceptions[3].Windows = []hours.Window{{From: 60, To: fourth}}
		return Settings{Hours: h}
	}
	if got := Differences(many(120), many(180)); len(got) != 1 || got[0] != "hours: other exceptions or notes" {
		t.Errorf("the fourth exception: %q", got)
	}
	if got := Differences(many(120), many(120)); len(got) != 0 {
		t.Errorf("the same exceptions differ: %q", got)
	}
	if same := Differences(b, b); len(same) != 0 {
		t.Errorf("the same differs: %q", same)
	}
}

func TestTraitsOfANode(t *testing.T) {
	n := Node{
		Name: "loom-01", Kind: Rack,
		Settings: Settings{Traits: []string{"big-memory"}, Pools: []string{"graphics"}},
		Facts: Facts{
			OS: "linux", Cores: 32, MemoryBytes: 64 << 30, Speed: 1.5,
			Renderers: []Renderer{{Recipe: "povray", Version: "3.7.0"}},
			Devices:   []Device{{ID: "0", Model: "Weft 40", MemoryBytes: 24 << 30}},
		},
	}
	var got []string
	for _, x := range n.Traits().All() {
		got = append(got, x.String()+"/"+string(x.Source))
	}
	want := "big-memory/given cores=32/measured gpu/measured gpu_memory=24.0GiB/measured gpu_model=Weft 40/measured " +
		"gpus=1/measured memory=64.0GiB/measured " +
		"name=loom-01/assigned os=linux/measured pool=graphics/assigned povray=3.7.0/measured rack/assigned " +
		"speed=1.50/measured"
	if strings.Join(got, " ") != want {
		t.Errorf("%s\nwant %s", strings.Join(got, " "), want)
	}
}

func TestFrameHashesAreOfAllFiles(t *testing.T) {
	s := Spec{Job: "a", Kind: Final, Number: 1, Picture: "png", Passes: []Pass{{Name: "depth", Picture: "png"}}}
	files := []File{{Hash: "h1", Bytes: 3}, {Pass: "depth", Hash: "h2", Bytes: 4}}
	hash := FrameHash(files)
	if err := s.CheckFiles(files, hash, 7); err != nil {
		t.Error(err)
	}
	for what, err := range map[string]error{
		"has the files":      s.CheckFiles(files[:1], "h1", 3),
		"not that of":        s.CheckFiles(files, "h1", 7),
		"bytes together":     s.CheckFiles(files, hash, 8),
		`files ["" "depth"]`: s.CheckFiles(nil, hash, 7),
	} {
		if err == nil || !strings.Contains(err.Error(), what) {
			t.Errorf("%s: %v", what, err)
		}
	}
	if FrameHash(files[:1]) != "h1" || hash == FrameHash([]File{files[0], {Pass: "matte", Hash: "h2"}}) {
		t.Error("the hash does not tell files apart")
	}
	if got := s.PassFile("depth", 7); got != "depth/a.depth.0007.png" || s.PassFile("", 7) != s.FrameFile(7) {
		t.Errorf("a pass goes to %s", got)
	}
}
