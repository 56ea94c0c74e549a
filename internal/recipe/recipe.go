// Package recipe describes how a renderer is started, fed and read: its
// command line, the file names it writes, and what its output means. Recipes
// are YAML files with a JSON Schema; see docs/recipes.md.
//
// It starts nothing itself and knows neither the farm nor the network.
package recipe

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"vexillum/internal/core/farm"
)

// Schema is the JSON Schema of recipe files.
//
//go:embed recipe.schema.json
var Schema []byte

// Recipe is one recipe file.
type Recipe struct {
	Format int       `json:"recipe"` // version of the file format: 1 or 2
	Name   string    `json:"name"`
	Title  string    `json:"title"`
	Mode   farm.Mode `json:"mode"`
	Stop   Stop      `json:"stop"`
	Grace  Duration  `json:"grace,omitempty"` // between asking a renderer to end and killing it
	// it may give no sign of life for so long; 0: as its frames are expected to take
	Stall       Duration          `json:"stall,omitempty"`
	Repeatable  bool              `json:"repeatable"`
	Program     Program           `json:"program"`
	Probe       Probe             `json:"probe"`
	Scenes      []string          `json:"scenes"`  // endings of its scene files
	Picture     string            `json:"picture"` // format of its frames: png, jpeg, tiff or exr
	Takes       Takes             `json:"takes,omitzero"`
	Licence     *farm.LicenceNeed `json:"licence,omitempty"`
	Values      map[string]Value  `json:"values,omitempty"`
	Environment map[string]string `json:"environment,omitempty"`
	Arguments   []Argument        `json:"arguments"`
	// pattern of file names in staging; the group is the frame's number
	FrameFile string          `json:"frame_file"`
	Passes    map[string]Pass `json:"passes,omitempty"`
	Read      Reading         `json:"read,omitempty"`
	Shot      *Shot           `json:"shot,omitempty"`
	Role      string          `json:"role,omitempty"` // least that may submit runs of it; empty: artist

	text string // that it was read from
}

// Text returns the file that the recipe was read from.
func (r *Recipe) Text() string { return r.text }

// Takes is what one lease takes of a node. Without cores it gets the whole node.
type Takes struct {
	Cores   int    `json:"cores,omitempty"`
	Memory  string `json:"memory,omitempty"` // such as 512MiB
	Devices int    `json:"devices,omitempty"`
}

// Amounts returns what one lease takes of a node.
func (t Takes) Amounts() (farm.Amounts, error) {
	out := farm.Amounts{Cores: t.Cores, Devices: t.Devices}
	if t.Memory != "" {
		n, err := humanize.ParseBytes(t.Memory)
		if err != nil || n > 1<<60 {
			return out, fmt.Errorf("%q is not an amount of memory; write it like 512MiB", t.Memory)
		}
		out.MemoryBytes = int64(n)
	}
	return out, out.Check()
}

// Stop says when a renderer may be stopped.
type Stop string

// The values of Stop.
const (
	StopBorder Stop = "border" // between frames
	StopKill   Stop = "kill"   // any time; the frame in flight is lost
	StopNever  Stop = "never"
)

// Probe says how to find out whether a machine has the renderer.
type Probe struct {
	Arguments []string `json:"arguments"`
	Version   string   `json:"version"` // pattern; the group is the version
}

// Value is one setting that a job may choose.
type Value struct {
	Kind    string   `json:"kind"` // integer, number, choice or text
	Default string   `json:"default"`
	Least   *float64 `json:"least,omitempty"`
	Most    *float64 `json:"most,omitempty"`
	Choices []string `json:"choices,omitempty"`
	Help    string   `json:"help,omitempty"`
}

// Pass is what the renderer can write of every frame beside the picture. Jobs
// choose among them.
type Pass struct {
	File    string `json:"file"`    // pattern of its file names in staging; the group is the frame's number
	Picture string `json:"picture"` // format of its files: png, jpeg, tiff or exr
	Help    string `json:"help,omitempty"`
}

// Reading says what lines of a renderer's output mean. Patterns are regular
// expressions in the syntax of RE2.
type Reading struct {
	Begins   string      `json:"begins,omitempty"`   // a frame begins; the group is its number
	Progress string      `json:"progress,omitempty"` // groups: done, and all
	Percent  string      `json:"percent,omitempty"`  // progress as a bare per cent: the group
	Causes   []CauseRule `json:"causes,omitempty"`
	// the cause that an exit code tells of, where no line has named one
	Codes map[string]string `json:"codes,omitempty"`
}

// CauseRule names the cause of a failure by a line of output.
type CauseRule struct {
	Match string `json:"match"`
	Cause string `json:"cause"`
}

// Duration is a time span written like 3s or 500ms.
type Duration time.Duration

// UnmarshalJSON reads a duration written as a string.
func (d *Duration) UnmarshalJSON(data []byte) error {
	var text string
	if err := json.Unmarshal(data, &text); err != nil {
		return err
	}
	v, err := time.ParseDuration(text)
	*d = Duration(v)
	return err
}

// MarshalJSON writes the duration as a string.
func (d Duration) MarshalJSON() ([]byte, error) { return json.Marshal(time.Duration(d).String()) }

func compileSchema() (*jsonschema.Schema, error) {
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema))
	if err != nil {
		return nil, fmt.Errorf("reading the schema of recipes: %w", err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("recipe.schema.json", document); err != nil {
		return nil, fmt.Errorf("reading the schema of recipes: %w", err)
	}
	return c.Compile("recipe.schema.json")
}

// placeholders are the words in braces that every launch fills in.
var placeholders = map[string]bool{
	"vexillum": true, "scene": true, "scene_folder": true, "scene_root": true,
	"staging": true, "threads": true, "width": true, "height": true,
	"first": true, "last": true, "frame": true, "shot_first": true,
	"shot_last": true, "shot_count": true, "speed": true, "node": true,
	"passes": true, "memory_mib": true, "cores": true, "devices": true,
	"device_numbers": true,
}

// numbers are the placeholders with which one can count: {frame-1}, {frame:04}.
var numbers = map[string]bool{
	"frame": true, "first": true, "last": true, "shot_first": true, "shot_last": true, "shot_count": true,
	"width": true, "height": true, "threads": true, "memory_mib": true,
}

// replaced are placeholders that recipes had once, and what stands for them.
var replaced = map[string]string{"range_first": "shot_first", "range_last": "shot_last"}

// check returns what is wrong with a recipe that fits the schema.
func (r *Recipe) check() (found []wrong) {
	note := func(what string, path ...string) { found = append(found, wrong{path, what}) }
	if _, err := r.Takes.Amounts(); err != nil {
		note(err.Error(), "takes")
	}
	for _, name := range slices.Sorted(maps.Keys(r.Values)) {
		v := r.Values[name]
		if placeholders[name] {
			note("a value cannot be named like a placeholder", "values", name)
		}
		if err := v.check(v.Default); err != nil {
			note(err.Error(), "values", name, "default")
		}
	}
	if err := r.Shot.check(r.Values); err != nil {
		note(err.Error(), "shot")
	}
	for i, a := range r.Arguments {
		at := fmt.Sprint(i)
		if a.When != "" {
			if _, isValue := r.Values[a.When]; !isValue {
				note(fmt.Sprintf("there is no value %s", a.When), "arguments", at, "when")
			}
		}
		for k, text := range a.Texts {
			path := []string{"arguments", at}
			if a.When != "" {
				path = append(path, "arguments", fmt.Sprint(k))
			}
			for _, what := range r.checkPlaceholders(text) {
				note(what, path...)
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(r.Environment)) {
		for _, what := range r.checkPlaceholders(r.Environment[name]) {
			note(what, "environment", name)
		}
	}
	found = append(found, r.checkPatterns()...)
	if r.Format == 1 {
		for _, field := range r.newInForm2() {
			note("it is of the second form of recipes: write recipe: 2", field...)
		}
	}
	return found
}

// newInForm2 returns the fields that recipes of the first form do not have.
func (r *Recipe) newInForm2() (fields [][]string) {
	for i, a := range r.Arguments {
		if a.When != "" {
			fields = append(fields, []string{"arguments", fmt.Sprint(i)})
		}
	}
	if r.Program.only == "" {
		fields = append(fields, []string{"program"})
	}
	if r.Picture == "exr" {
		fields = append(fields, []string{"picture"})
	}
	if r.Read.Percent != "" {
		fields = append(fields, []string{"read", "percent"})
	}
	if len(r.Read.Codes) > 0 {
		fields = append(fields, []string{"read", "codes"})
	}
	return fields
}

// checkPlaceholders returns what is wrong with the placeholders of a text.
func (r *Recipe) checkPlaceholders(text string) (found []string) {
	for _, m := range inBraces.FindAllStringSubmatch(text, -1) {
		name, counts := m[1], m[2] != "" || m[3] != ""
		if better, ok := replaced[name]; ok {
			found = append(found, fmt.Sprintf(
				"the placeholder {%s} made a frame differ from run to run; write {%s}", name, better,
			))
			continue
		}
		value, isValue := r.Values[name]
		switch {
		case !isValue && !placeholders[name]:
			found = append(found, fmt.Sprintf("nothing fills in the placeholder {%s}", name))
		case counts && !numbers[name] && (!isValue || value.Kind != "integer"):
			found = append(found, fmt.Sprintf("{%s} is no whole number, and %s counts with it", name, m[0]))
		}
	}
	return found
}

// checkPatterns returns what is wrong with regular expressions.
func (r *Recipe) checkPatterns() (found []wrong) {
	look := func(text string, groups int, path ...string) {
		re, err := regexp.Compile(text)
		switch {
		case err != nil:
			found = append(found, wrong{path, err.Error()})
		case text != "" && re.NumSubexp() < groups:
			found = append(found, wrong{path, fmt.Sprintf("the pattern %q needs %s", text, english.Plural(groups, "group", ""))})
		}
	}
	look(r.Probe.Version, 1, "probe", "version")
	look(r.FrameFile, 1, "frame_file")
	look(r.Read.Begins, 1, "read", "begins")
	look(r.Read.Progress, 2, "read", "progress")
	look(r.Read.Percent, 1, "read", "percent")
	for _, name := range slices.Sorted(maps.Keys(r.Passes)) {
		look(r.Passes[name].File, 1, "passes", name, "file")
	}
	for name, p := range r.Shot.patterns() {
		look(p.text, p.groups, append([]string{"shot"}, strings.Split(name, ".")...)...)
	}
	for i, c := range r.Read.Causes {
		look(c.Match, 0, "read", "causes", fmt.Sprint(i), "match")
	}
	return found
}

// ValueError says which setting of a job a recipe does not accept.
type ValueError struct {
	Name   string
	Reason string
}

// Error says what is wrong with the setting.
func (e *ValueError) Error() string { return fmt.Sprintf("the setting %s: %s", e.Name, e.Reason) }

// Complete checks a job's settings and returns them with the defaults filled
// in. The error is a *ValueError.
func (r *Recipe) Complete(given map[string]string) (map[string]string, error) {
	out := map[string]string{}
	for name, v := range r.Values {
		out[name] = v.Default
	}
	for name, text := range given {
		v, ok := r.Values[name]
		if !ok {
			return nil, &ValueError{name, fmt.Sprintf("the recipe %s has no such setting", r.Name)}
		}
		if err := v.check(text); err != nil {
			return nil, &ValueError{name, err.Error()}
		}
		out[name] = text
	}
	return out, nil
}

// ChoosePasses returns the passes that a job asks for, in the order of their
// names and each once. The error names one that the recipe does not have.
func (r *Recipe) ChoosePasses(names []string) ([]farm.Pass, error) {
	var out []farm.Pass
	for _, name := range slices.Compact(slices.Sorted(slices.Values(names))) {
		p, ok := r.Passes[name]
		if !ok {
			return nil, fmt.Errorf(
				"the recipe %s has no pass %q; it has %s", r.Name, name,
				listOr(slices.Sorted(maps.Keys(r.Passes)), "none"),
			)
		}
		out = append(out, farm.Pass{Name: name, Picture: p.Picture})
	}
	return out, nil
}

func listOr(names []string, none string) string {
	if len(names) == 0 {
		return none
	}
	return strings.Join(names, ", ")
}

func (v Value) check(text string) error {
	switch v.Kind {
	case "integer", "number":
		var n float64
		if err := json.Unmarshal([]byte(text), &n); err != nil {
			return fmt.Errorf("%q is not a number", text)
		}
		if v.Kind == "integer" && n != float64(int64(n)) {
			return fmt.Errorf("%q is not a whole number", text)
		}
		if v.Least != nil && n < *v.Least || v.Most != nil && n > *v.Most {
			return fmt.Errorf("%s is not %s", text, v.bounds())
		}
	case "choice":
		for _, c := range v.Choices {
			if c == text {
				return nil
			}
		}
		return fmt.Errorf("%q is not one of %s", text, strings.Join(v.Choices, ", "))
	case "text":
		if strings.ContainsAny(text, "\x00\n\r") || len(text) > 1000 {
			return errors.New("it must be one line of at most 1000 characters")
		}
	}
	return nil
}

func (v Value) bounds() string {
	switch {
	case v.Least == nil:
		return fmt.Sprintf("at most %v", *v.Most)
	case v.Most == nil:
		return fmt.Sprintf("at least %v", *v.Least)
	}
	return fmt.Sprintf("between %v and %v", *v.Least, *v.Most)
}
