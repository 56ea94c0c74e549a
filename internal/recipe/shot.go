package recipe

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// Shot says where the whole animation is told of: in files beside the scene, in the
// scene itself, or by a command. Of what several tell, the first counts.
type Shot []ShotSource

// ShotSource is one place that tells of the animation.
type ShotSource struct {
	// name of a file in the scene's folder; {scene_name} is filled in; {scene} is the scene itself
	File string `json:"file,omitempty"`
	// program and arguments that print JSON instead; {scene} is filled in
	Command []string        `json:"command,omitempty"`
	Until   string          `json:"until,omitempty"` // pattern from which on nothing is read
	First   Told            `json:"first,omitzero"`
	Last    Told            `json:"last,omitzero"`
	Width   Told            `json:"width,omitzero"` // pixels
	Height  Told            `json:"height,omitzero"`
	Cameras string          `json:"cameras,omitempty"` // pattern; the group of each match is one
	Layers  string          `json:"layers,omitempty"`
	Values  map[string]Told `json:"values,omitempty"` // by the name of a setting
}

// UnmarshalJSON reads one source, or a list of them.
func (s *Shot) UnmarshalJSON(data []byte) error {
	var one ShotSource
	if json.Unmarshal(data, &one) == nil {
		*s = Shot{one}
		return nil
	}
	return json.Unmarshal(data, (*[]ShotSource)(s))
}

// Told is one thing that such a file reports.
type Told struct {
	Match     string `json:"match"`               // pattern; the last match counts, its group is what is told
	Value     string `json:"value,omitempty"`     // is told instead where the pattern matches
	Otherwise string `json:"otherwise,omitempty"` // counts where it does not
}

type shotPattern struct {
	text   string
	groups int
}

func (s ShotSource) patterns() map[string]shotPattern {
	out := map[string]shotPattern{
		"until": {s.Until, 0}, "first": s.First.pattern(), "last": s.Last.pattern(), "width": s.Width.pattern(),
		"height": s.Height.pattern(), "cameras": {s.Cameras, 1}, "layers": {s.Layers, 1},
	}
	for name, t := range s.Values {
		out["values."+name] = t.pattern()
	}
	return out
}

func (t Told) pattern() shotPattern {
	if t.Value != "" {
		return shotPattern{t.Match, 0}
	}
	return shotPattern{t.Match, 1}
}

// check says what is wrong with a source.
func (s ShotSource) check(values map[string]Value) error {
	if (s.File == "") == (len(s.Command) == 0) {
		return errors.New("it names either a file or a command")
	}
	for _, m := range inBraces.FindAllStringSubmatch(s.File, -1) {
		if m[1] != "scene_name" && s.File != "{scene}" {
			return fmt.Errorf("shot.file has the placeholder {%s}; only {scene_name} is filled in there", m[1])
		}
	}
	for name := range s.Values {
		if _, ok := values[name]; !ok {
			return fmt.Errorf("shot.values names the setting %s, which the recipe does not have", name)
		}
	}
	return nil
}

// AsksCommands reports whether a command has to be run to learn all about a scene.
func (r *Recipe) AsksCommands() bool {
	return slices.ContainsFunc(r.Shot, func(s ShotSource) bool { return len(s.Command) > 0 })
}

// SceneReader is how a recipe looks at a scene. Names are paths in the scene place,
// with slashes.
type SceneReader struct {
	// Read returns a file as far as it is looked at, or fs.ErrNotExist.
	Read func(name string) ([]byte, error)
	// Run runs a program, which is told of the scene, and returns what it prints; nil where none is run.
	Run func(command []string) ([]byte, error)
}

// ReadScene reads what is told of a scene: by files beside it, itself, or a command.
// The error names what in it cannot be.
func (r *Recipe) ReadScene(scene string, reader SceneReader) (farm.SceneShot, error) {
	out := farm.SceneShot{Values: map[string]string{}}
	for _, source := range r.Shot {
		said, err := r.readSource(source, scene, reader)
		if err != nil {
			return out, err
		}
		if out.Range == nil && said.Range != nil {
			out.Range, out.File = said.Range, said.File
		}
		if out.Width == 0 && said.Width > 0 && said.Height > 0 {
			out.Width, out.Height = said.Width, said.Height
		}
		if out.Cameras == nil {
			out.Cameras = said.Cameras
		}
		if out.Layers == nil {
			out.Layers = said.Layers
		}
		out.Inputs = append(out.Inputs, said.Inputs...)
		maps.Copy(said.Values, out.Values)
		out.Values = said.Values
	}
	return out, nil
}

func (r *Recipe) readSource(s ShotSource, scene string, reader SceneReader) (farm.SceneShot, error) {
	if len(s.Command) > 0 {
		return r.readCommand(s, scene, reader)
	}
	name, none := scene, farm.SceneShot{Values: map[string]string{}}
	if s.File != "{scene}" {
		stem := strings.TrimSuffix(path.Base(scene), path.Ext(scene))
		name = path.Join(path.Dir(scene), Fill(s.File, map[string]string{"scene_name": stem}))
	}
	text, err := reader.Read(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return none, nil
	case err != nil && name != scene:
		return none, fmt.Errorf("%s, beside the scene, cannot be read: %w", name, err)
	case err != nil:
		return none, fmt.Errorf("the scene %s cannot be read: %w", scene, err)
	}
	return r.readShot(s, name, text)
}

// readShot reads what the text of a source reports.
func (r *Recipe) readShot(s ShotSource, name string, text []byte) (farm.SceneShot, error) {
	out := farm.SceneShot{File: path.Base(name), Values: map[string]string{}}
	if s.Until != "" {
		if at := regexp.MustCompile(s.Until).FindIndex(text); at != nil {
			text = text[:at[0]]
		}
	}
	for setting, t := range s.Values {
		value, told := t.find(text)
		if !told {
			continue
		}
		if err := r.tells(&out, setting, value); err != nil {
			return out, err
		}
	}
	out.Cameras, out.Layers = listed(s.Cameras, text), listed(s.Layers, text)
	width, _ := s.Width.find(text)
	height, _ := s.Height.find(text)
	out.Width, _ = strconv.Atoi(width) // what is no number is not told
	out.Height, _ = strconv.Atoi(height)
	last, told := s.Last.find(text)
	if !told {
		return out, nil
	}
	first, _ := s.First.find(text)
	return out, setRange(&out, first, last)
}

// tells notes what a source says of a setting.
func (r *Recipe) tells(out *farm.SceneShot, setting, value string) error {
	v, known := r.Values[setting]
	if !known {
		return fmt.Errorf("%s tells the setting %s, which the recipe %s does not have", out.File, setting, r.Name)
	}
	if err := v.check(value); err != nil {
		return fmt.Errorf("%s tells the setting %s: %w", out.File, setting, err)
	}
	out.Values[setting] = value
	return nil
}

func setRange(out *farm.SceneShot, first, last string) error {
	from, err1 := strconv.Atoi(first)
	to, err2 := strconv.Atoi(last)
	if err1 != nil || err2 != nil || from > to || from < frames.Least || to > frames.Most {
		return fmt.Errorf(
			"%s gives a shot range from %q to %q, which is not a range; give one with --shot", out.File, first, last,
		)
	}
	out.Range = &frames.Span{First: from, Last: to}
	return nil
}

// listed returns what all matches of a pattern name, each once; nil without one.
func listed(pattern string, text []byte) (out []string) {
	if pattern == "" {
		return nil
	}
	for _, m := range regexp.MustCompile(pattern).FindAllSubmatch(text, mostListed) {
		if name := strings.TrimSpace(string(m[1])); name != "" && !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// mostListed bounds the cameras, and the layers, of a scene.
const mostListed = 1000

// told is what a command prints; docs/recipes.md.
type told struct {
	First   *int              `json:"first"`
	Last    *int              `json:"last"`
	Width   int               `json:"width"`
	Height  int               `json:"height"`
	FPS     float64           `json:"fps"`
	Cameras []string          `json:"cameras"`
	Layers  []string          `json:"layers"`
	Inputs  []string          `json:"inputs"`
	Values  map[string]string `json:"values"`
}

// readCommand reads what a command says.
func (r *Recipe) readCommand(s ShotSource, scene string, reader SceneReader) (farm.SceneShot, error) {
	out := farm.SceneShot{File: path.Base(s.Command[0]), Values: map[string]string{}}
	if reader.Run == nil {
		return out, nil
	}
	printed, err := reader.Run(s.Command)
	if err != nil {
		return out, fmt.Errorf("asking %s about the scene %s: %w", out.File, scene, err)
	}
	var said told
	if err := json.Unmarshal(printed, &said); err != nil {
		return out, fmt.Errorf("what %s prints about the scene is not the JSON that it should be: %w", out.File, err)
	}
	if said.FPS > 0 && r.Values["fps"].Kind != "" {
		if said.Values == nil {
			said.Values = map[string]string{}
		}
		said.Values["fps"] = strconv.FormatFloat(said.FPS, 'f', -1, 64)
	}
	for setting, value := range said.Values {
		if err := r.tells(&out, setting, value); err != nil {
			return out, err
		}
	}
	out.Width, out.Height = max(0, said.Width), max(0, said.Height)
	out.Cameras, out.Layers, out.Inputs = said.Cameras, said.Layers, said.Inputs
	if said.First == nil || said.Last == nil {
		return out, nil
	}
	return out, setRange(&out, strconv.Itoa(*said.First), strconv.Itoa(*said.Last))
}

func (t Told) find(text []byte) (string, bool) {
	if t.Match == "" {
		return t.Otherwise, t.Otherwise != ""
	}
	found := regexp.MustCompile(t.Match).FindAllSubmatch(text, -1)
	switch {
	case len(found) == 0:
		return t.Otherwise, t.Otherwise != ""
	case t.Value != "":
		return t.Value, true
	}
	for _, group := range found[len(found)-1][1:] { // of alternatives, the one that matched
		if len(group) > 0 {
			return string(group), true
		}
	}
	return t.Otherwise, t.Otherwise != ""
}

// choices are the settings whose values a scene may list.
func choices(scene farm.SceneShot) []struct {
	setting string
	has     []string
} {
	return []struct {
		setting string
		has     []string
	}{{"camera", scene.Cameras}, {"layer", scene.Layers}}
}

// CheckChoice refuses a camera or a layer that the scene does not have, where it
// says which it has.
func (r *Recipe) CheckChoice(values map[string]string, scene farm.SceneShot) error {
	for _, c := range choices(scene) {
		chosen := values[c.setting]
		if chosen == "" || c.has == nil || slices.Contains(c.has, chosen) {
			continue
		}
		has := strings.Join(c.has, ", ")
		if has == "" {
			has = "none"
		}
		return &ValueError{c.setting, fmt.Sprintf("the scene has none named %q; it has %s", chosen, has)}
	}
	return nil
}

// Unchecked says of each camera or layer that a person has chosen, and of which nobody knows
// whether the scene has it, that this is so.
func (r *Recipe) Unchecked(chosen map[string]string, scene farm.SceneShot) (out []string) {
	for _, c := range choices(scene) {
		if name := chosen[c.setting]; name != "" && c.has == nil {
			out = append(out, fmt.Sprintf(
				"Nobody knows whether the scene has the %s %s: the recipe %s finds none in it.", c.setting, name, r.Name,
			))
		}
	}
	return out
}
