// Package jobfile reads job files: YAML in which jobs are described that are submitted
// together, checked against a published schema. It knows the shape of the files and what
// follows from them alone; whether scenes, places and nodes are there is no matter of it.
package jobfile

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"

	"vexillum/internal/fileschema"
)

// Schema is the JSON Schema of job files.
//
//go:embed job.schema.json
var Schema []byte

// Bounds of a file.
const (
	MostBytes = 4 << 20
	MostRuns  = 2000   // of all jobs, once they are expanded
	MostWaits = 20_000 // of all runs together for others
)

// Version is the one of the format that is written.
const Version = 1

// File is a job file.
type File struct {
	JobFile int    `json:"job_file"` // version of the format
	Project string `json:"project,omitempty"`
	All     *Job   `json:"all,omitempty"` // what holds for each that does not say otherwise
	Jobs    []Job  `json:"jobs"`
}

// Job is one job of a file. Fields that are empty say nothing.
type Job struct {
	Name     string            `json:"name,omitempty"`
	Project  string            `json:"project,omitempty"`
	Scene    string            `json:"scene,omitempty"`
	Bundle   string            `json:"bundle,omitempty"`
	With     []string          `json:"with,omitempty"`
	Recipe   string            `json:"recipe,omitempty"`
	Preset   string            `json:"preset,omitempty"`
	Frames   Text              `json:"frames,omitempty"`
	Shot     Text              `json:"shot,omitempty"`
	Kind     string            `json:"kind,omitempty"`
	Output   string            `json:"output,omitempty"`
	Each     map[string][]Text `json:"each,omitempty"`
	After    []After           `json:"after,omitempty"`
	From     string            `json:"from,omitempty"`
	Tiles    string            `json:"tiles,omitempty"`
	Overlap  int               `json:"overlap,omitempty"`
	Drop     bool              `json:"drop_tiles,omitempty"`
	OneByOne bool              `json:"one_by_one,omitempty"`
	Held     *bool             `json:"held,omitempty"`
	Due      string            `json:"due,omitempty"`
	Settings
}

// Settings say how frames are rendered and dealt: what a preset may say, too.
type Settings struct {
	Size      string          `json:"size,omitempty"`
	Scale     string          `json:"scale,omitempty"`
	Values    map[string]Text `json:"values,omitempty"`
	Passes    []string        `json:"passes,omitempty"`
	Proof     *Proof          `json:"proof,omitempty"`
	Needs     string          `json:"needs,omitempty"`
	Nodes     []string        `json:"nodes,omitempty"`
	Without   []string        `json:"without,omitempty"`
	Pools     []string        `json:"pools,omitempty"`
	Priority  string          `json:"priority,omitempty"`
	Ceiling   Text            `json:"ceiling,omitempty"`
	Takes     *Takes          `json:"takes,omitempty"`
	Tries     int             `json:"tries,omitempty"`
	HoldAfter int             `json:"hold_after,omitempty"` // frames that may fail before the run is held
	Chunk     int             `json:"chunk,omitempty"`
	Stall     string          `json:"stall,omitempty"`
	Order     string          `json:"order,omitempty"`
	Wait      *bool           `json:"wait,omitempty"`
	StartOn   Text            `json:"start_on,omitempty"` // a number, or all
}

// Takes is what one lease takes of a node.
type Takes struct {
	Cores   int    `json:"cores,omitempty"`
	Memory  string `json:"memory,omitempty"`
	Devices int    `json:"devices,omitempty"`
}

// Proof is what a proof has otherwise than the final.
type Proof struct {
	Every    int             `json:"every,omitempty"` // one frame in so many
	Scale    string          `json:"scale,omitempty"`
	Values   map[string]Text `json:"values,omitempty"`
	Passes   []string        `json:"passes,omitempty"`
	Priority string          `json:"priority,omitempty"`
}

// After is a job that another waits for, by its name.
type After struct {
	Job string `json:"job"`
	By  string `json:"by,omitempty"` // run or frame; empty: run
}

// UnmarshalJSON reads a name alone, or with what is waited for.
func (a *After) UnmarshalJSON(data []byte) error {
	if json.Unmarshal(data, &a.Job) == nil {
		return nil
	}
	type plain After
	return json.Unmarshal(data, (*plain)(a))
}

// Text is a text that may be written as a number or as true or false.
type Text string

// UnmarshalJSON reads all of them.
func (t *Text) UnmarshalJSON(data []byte) error {
	var text string
	if json.Unmarshal(data, &text) == nil {
		*t = Text(text)
		return nil
	}
	plain := strings.TrimSpace(string(data))
	if n, err := strconv.ParseFloat(plain, 64); err == nil {
		plain = strconv.FormatFloat(n, 'f', -1, 64)
	}
	*t = Text(plain)
	return nil
}

var schema = fileschema.New(Schema)

// Parse reads a job file. The error is a *[fileschema.MistakesError] where the file is to
// blame.
func Parse(data []byte) (*File, error) {
	if len(data) > MostBytes {
		return nil, &fileschema.MistakesError{Mistakes: []fileschema.Mistake{{What: fmt.Sprintf(
			"the file has %d bytes, and at most %d are read; split it", len(data), MostBytes,
		)}}}
	}
	f := &File{}
	if err := schema.Read(data, f); err != nil {
		return nil, err
	}
	return f, nil
}
