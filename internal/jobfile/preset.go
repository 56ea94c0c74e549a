package jobfile

import (
	"encoding/json"
	"sync"

	"vexillum/internal/fileschema"
)

// PresetSchema returns the JSON Schema of presets: of the settings of a job alone.
var PresetSchema = sync.OnceValue(func() []byte {
	var whole struct {
		Schema string                     `json:"$schema"`
		Defs   map[string]json.RawMessage `json:"$defs"`
	}
	if err := json.Unmarshal(Schema, &whole); err != nil {
		panic(err) // it is built in
	}
	var settings map[string]any
	if err := json.Unmarshal(whole.Defs["settings"], &settings); err != nil {
		panic(err)
	}
	settings["$schema"], settings["$defs"] = whole.Schema, whole.Defs
	settings["$id"], settings["title"] = "preset.schema.json", "Vexillum preset"
	settings["minProperties"] = 1
	text, err := json.MarshalIndent(settings, "", "  ")
	if err != nil {
		panic(err)
	}
	return text
})

var presetSchema = sync.OnceValue(func() *fileschema.Schema { return fileschema.New(PresetSchema()) })

// ParsePreset reads the text of a preset. The error is a *[fileschema.MistakesError] where
// the text is to blame.
func ParsePreset(text []byte) (Settings, error) {
	var s Settings
	if err := presetSchema().Read(text, &s); err != nil {
		return Settings{}, err
	}
	return s, nil
}
