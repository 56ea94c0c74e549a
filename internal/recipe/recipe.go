// Package recipe describes how a renderer is started, fed and read: its
// command line, the file names it writes, and what its output means. Recipes
// are YAML files with a JSON Schema; see docs/recipes.md.
//
// It starts nothing itself and knows neither the farm nor the network.
package recipe

import (
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/kballard/go-shellquote"

	"vexillum/internal/core/farm"
	"vexillum/internal/fileschema"
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
	Stall      Duration `json:"stall,omitempty"`
	Repeatable bool     `json:"repeatable"`
	Program    Program  `json:"program"`
	Probe      Probe    `json:"probe"`
	Scenes     []string `json:"scenes"` // endings of its scene files
	// what it makes something of where that is no scene: frames or sequence, see ReadsFrames
	Reads string `json:"reads,omitempty"`
	// what it writes that renders one rectangle of a picture; empty: it renders whole ones alone
	Tiles string `json:"tiles,omitempty"`
	// files that have to be on a machine besides the program, looked at by a preflight
	Plugins []string `json:"plugins,omitempty"`
	// kind of its frames: png, jpeg, tiff, exr or data, of which nothing can be seen
	Picture     string            `json:"picture"`
	Ending      string            `json:"ending,omitempty"` // of delivered frames; that of Picture when empty
	Check       []string          `json:"check,omitempty"`  // command that looks at a finished frame; see Output.Check
	Takes       Takes             `json:"takes,omitzero"`
	Licence     *farm.LicenceNeed `json:"licence,omitempty"`
	Values      map[string]Value  `json:"values,omitempty"`
	Environment map[string]string `json:"environment,omitempty"`
	Arguments   []Argument        `json:"arguments"`
	// pattern of file names in staging; the group is the frame's number
	FrameFile string `json:"frame_file,omitempty"`
	// or their name, with placeholders
	FrameName string            `json:"frame_name,omitempty"`
	Passes    map[string]Output `json:"passes,omitempty"`  // that jobs choose among
	Outputs   map[string]Output `json:"outputs,omitempty"` // that are always written beside the picture
	// output that the renderer can be launched from again, in mode whole; empty: none
	Checkpoint   string        `json:"checkpoint,omitempty"`
	Numbering    *Numbering    `json:"numbering,omitempty"`
	ResponseFile *ResponseFile `json:"response_file,omitempty"`
	// most time that one frame may take; 0: any
	FrameTime Duration    `json:"frame_time,omitempty"`
	Threads   int         `json:"threads,omitempty"` // most that it makes use of; 0: any number
	Read      Reading     `json:"read,omitempty"`
	Shot      Shot        `json:"shot,omitempty"`
	Inputs    []InputRule `json:"inputs,omitempty"` // how files that a scene needs are found
	Role      string      `json:"role,omitempty"`   // least that may submit runs of it; empty: artist

	text string // that it was read from
	kept bool   // only while it is parsed: the farm has accepted it before
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

// What recipes may make something of that need no scene.
const (
	ReadsFrames   = "frames"   // of each frame of another run
	ReadsSequence = "sequence" // one file of all its frames
)

// What recipes write that render one rectangle of a picture.
const (
	WritesTile  = "tile"  // the rectangle alone
	WritesWhole = "whole" // a picture of the whole size, of which the rectangle counts
)

// Stop says when a renderer may be stopped.
type Stop string

// The values of Stop.
const (
	StopBorder Stop = "border" // between frames
	StopKill   Stop = "kill"   // any time; the frame in flight is lost
	StopNever  Stop = "never"
)

// Value is one setting that a job may choose.
type Value struct {
	Kind    string   `json:"kind"` // integer, number, choice or text
	Default string   `json:"default"`
	Least   *float64 `json:"least,omitempty"`
	Most    *float64 `json:"most,omitempty"`
	Choices []string `json:"choices,omitempty"`
	Help    string   `json:"help,omitempty"`
	Needed  bool     `json:"needed,omitempty"` // it must not be empty
}

// Output is a file that the renderer writes of every frame beside the picture.
type Output struct {
	// pattern of its file names in staging; the group is the frame's number
	File string `json:"file,omitempty"`
	Name string `json:"name,omitempty"` // or their name, with placeholders
	// kind of its files: png, jpeg, tiff, exr or data, which has to be there and not empty
	Picture  string `json:"picture"`
	Optional bool   `json:"optional,omitempty"` // a frame without it is whole
	Size     Size   `json:"size,omitempty"`
	Ending   string `json:"ending,omitempty"` // of the names of delivered files; that of Picture when empty
	// command that looks at the file: it ends with 0 where the file is good, and else says why
	Check []string `json:"check,omitempty"`
	Help  string   `json:"help,omitempty"`
}

// Numbering says how the renderer numbers frames where it has numbers of its own.
type Numbering struct {
	First int    `json:"first"` // its own number of the first frame
	Of    string `json:"of"`    // of what that is the first: scene (frame 1), shot or launch
}

// ResponseFile says that the arguments go to the renderer in a file, one a line.
type ResponseFile struct {
	Argument string `json:"argument"`         // that names the file: "@{response_file}"
	Quoted   bool   `json:"quoted,omitempty"` // each in double quotes, with \" and \\ inside
}

// InputRule says how names of files that a scene needs stand in it.
type InputRule struct {
	Match    string `json:"match"`              // pattern; the group is the name, in which #### stands for digits
	Follow   bool   `json:"follow,omitempty"`   // the file may name others in the same way
	Cache    bool   `json:"cache,omitempty"`    // it is of a simulation
	Optional bool   `json:"optional,omitempty"` // where it is not there, the renderer brings it itself
}

// Reading says what lines of a renderer's output mean. Patterns are regular
// expressions in the syntax of RE2.
type Reading struct {
	Begins   string      `json:"begins,omitempty"`   // a frame begins; the group is its number
	Ends     string      `json:"ends,omitempty"`     // a frame is finished; the group, if there is one, is its number
	Seconds  string      `json:"seconds,omitempty"`  // the group is what the frame took
	Progress string      `json:"progress,omitempty"` // groups: done, and all
	Percent  string      `json:"percent,omitempty"`  // progress as a bare per cent: the group
	Memory   *MemoryRule `json:"memory,omitempty"`
	Warnings []string    `json:"warnings,omitempty"` // lines that make a frame suspect
	Causes   []CauseRule `json:"causes,omitempty"`
	// the cause that an exit code tells of, where no line has named one
	Codes map[string]string `json:"codes,omitempty"`
}

// MemoryRule says which line reports how much memory the renderer has.
type MemoryRule struct {
	Match string `json:"match"` // the group is the number
	Unit  string `json:"unit"`  // B, KiB, MiB or GiB
}

// Bytes returns what one of the unit is.
func (m MemoryRule) Bytes() float64 {
	return map[string]float64{"B": 1, "KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30}[m.Unit]
}

// CauseRule names the cause of a failure by a line of output.
type CauseRule struct {
	Match string `json:"match"`
	Cause string `json:"cause"`
	// the frame has failed even where the renderer ends without an error
	Always bool `json:"always,omitempty"`
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

// form is what recipe files have to fit.
var form = fileschema.New(Schema)

// Parse reads a recipe file and checks it against the schema and for patterns and
// placeholders that cannot work. The error is a *[fileschema.MistakesError].
func Parse(data []byte) (*Recipe, error) { return parse(data, false) }

// ParseKept reads a recipe that the farm has accepted before. Checks that were added since do not
// stop runs that already render with it.
func ParseKept(data []byte) (*Recipe, error) { return parse(data, true) }

func parse(data []byte, kept bool) (*Recipe, error) {
	r := Recipe{kept: kept}
	if err := form.Read(data, &r); err != nil {
		return nil, err
	}
	r.addKnown()
	if found := r.check(); len(found) > 0 {
		return nil, fileschema.Placed(data, found)
	}
	r.text, r.kept = string(data), false
	return &r, nil
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
	for _, name := range slices.Sorted(maps.Keys(r.Values)) {
		if r.Values[name].Needed && out[name] == "" {
			return nil, &ValueError{name, fmt.Sprintf("the recipe %s needs it; give it with --set %s=…", r.Name, name)}
		}
	}
	for _, a := range r.Arguments {
		if _, err := shellquote.Split(out[a.Words]); a.Words != "" && err != nil {
			return nil, &ValueError{a.Words, "a quote in it has no end"}
		}
	}
	return out, nil
}

// ChoosePasses returns what is written beside the picture for a job: the passes that
// it asks for and the outputs that are always there, in the order of their names and
// each once. The error names a pass that the recipe does not have.
func (r *Recipe) ChoosePasses(names []string) ([]farm.Pass, error) {
	for _, name := range names {
		_, chosen := r.Passes[name]
		if _, always := r.Outputs[name]; !chosen && !always {
			return nil, fmt.Errorf(
				"the recipe %s has no pass %q; it has %s", r.Name, name,
				listOr(slices.Sorted(maps.Keys(r.Passes)), "none"),
			)
		}
	}
	names = slices.AppendSeq(slices.Clone(names), maps.Keys(r.Outputs))
	var out []farm.Pass
	for _, name := range slices.Compact(slices.Sorted(slices.Values(names))) {
		o := r.Beside(name)
		out = append(out, farm.Pass{Name: name, Picture: o.Picture, Ending: o.Ending, Optional: o.Optional})
	}
	return out, nil
}

// Beside returns what is written of every frame under a name, beside the picture.
func (r *Recipe) Beside(name string) Output {
	if o, ok := r.Outputs[name]; ok {
		return o
	}
	return r.Passes[name]
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

// FrameEnding returns the ending of the names of delivered frames where it is not
// that of their kind: as the recipe says, or that of the name which a job chose.
func (r *Recipe) FrameEnding(values map[string]string) string {
	if r.Ending != "" || r.Picture != farm.Data {
		return r.Ending
	}
	return path.Ext(Fill(r.FrameName, values))
}
