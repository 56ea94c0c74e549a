package api

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"vexillum/internal/wire"
)

// TestAWrongSettingOfAPresetNamesThePreset submits with a preset whose settings are wrong, and gives the
// same settings by hand.
func TestAWrongSettingOfAPresetNamesThePreset(t *testing.T) {
	w := newWorld(t)
	if err := os.WriteFile(filepath.Join(w.dir, "scenes", "a.practice"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{
		"lost": "passes: [fog]\n", "odd": "values: {look: fancy}\n", "fine": "tries: 2\n",
	} {
		w.must("PUT", "/api/v1/presets/"+name+"?project=salt-clock", wire.PresetChange{Text: text}, nil)
	}
	base := wire.Submit{Job: "a", Project: "salt-clock", Scene: "a.practice", Frames: "1", DryRun: true}
	for _, c := range []struct {
		preset string
		change func(*wire.Submit)
		says   bool
	}{
		{"lost", func(*wire.Submit) {}, true},
		{"odd", func(*wire.Submit) {}, true},
		{"lost", func(in *wire.Submit) { in.Passes = []string{"mist"} }, false},
		{"fine", func(in *wire.Submit) { in.Passes = []string{"fog"} }, false},
		{"fine", func(in *wire.Submit) { in.Values = map[string]string{"look": "fancy"} }, false},
	} {
		in := base
		in.Preset = c.preset
		c.change(&in)
		status, body := w.call(w.tokens[wrangler], "POST", "/api/v1/runs", in)
		if status < 400 || strings.Contains(string(body), "it comes from the preset "+c.preset) != c.says {
			t.Errorf("with %s: %d %s", c.preset, status, body)
		}
	}
}
