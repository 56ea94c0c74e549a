// Package drillfile reads and writes drill files: YAML in which a farm is
// described for a play on paper, checked against a published schema. It knows
// the shape of the files; it plays nothing.
package drillfile

import (
	"bytes"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/hours"
	"vexillum/internal/core/simulate"
	"vexillum/internal/core/trait"
	"vexillum/internal/fileschema"
)

// Schema is the JSON Schema of drill files.
//
//go:embed drill.schema.json
var Schema []byte

// File is a drill file.
type File struct {
	Seed  uint64     `json:"seed"`
	Start *time.Time `json:"start,omitempty"`
	Pools Pools      `json:"pools,omitempty"`
	// Projects say what part of the farm is whose; one that is not named has
	// weight 1.
	Projects []Project `json:"projects,omitempty"`
	Licences Licences  `json:"licences,omitempty"`
	// Loads is how many launches may load at the same moment; 0: any number.
	Loads int    `json:"loads,omitempty"`
	Nodes []Node `json:"nodes"`
	Jobs  []Job  `json:"jobs"`
}

// Project is a production.
type Project struct {
	Name   string  `json:"name"`
	Weight float64 `json:"weight"`
}

// Licence is a counted right to run a renderer.
type Licence struct {
	Name  string `json:"name"`
	Count int    `json:"count"`
}

// Licences are written as a list, or as counts by name.
type Licences []Licence

// UnmarshalJSON reads both.
func (l *Licences) UnmarshalJSON(data []byte) error {
	return listOrMap((*[]Licence)(l), data, func(name string, count int) Licence { return Licence{name, count} })
}

// Pools are written as a list, or as projects by name.
type Pools []Pool

// UnmarshalJSON reads both.
func (p *Pools) UnmarshalJSON(data []byte) error {
	return listOrMap((*[]Pool)(p), data, func(name string, projects []string) Pool { return Pool{name, projects} })
}

// listOrMap reads a list of things, or what there is to say of them by name.
func listOrMap[T, V any](out *[]T, data []byte, of func(string, V) T) error {
	if !bytes.HasPrefix(bytes.TrimSpace(data), []byte("{")) {
		return json.Unmarshal(data, out)
	}
	var named map[string]V
	if err := json.Unmarshal(data, &named); err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(named)) {
		*out = append(*out, of(name, named[name]))
	}
	return nil
}

// LicenceNeed is what a job needs to run: a name, which is counted by process,
// or a name and what takes one up.
type LicenceNeed farm.LicenceNeed

// UnmarshalJSON reads a name, or a name and what takes one up.
func (l *LicenceNeed) UnmarshalJSON(data []byte) error {
	if json.Unmarshal(data, &l.Name) == nil {
		l.Per = farm.PerProcess
		return nil
	}
	return json.Unmarshal(data, (*farm.LicenceNeed)(l))
}

// Pool says which projects may use its nodes; none: all.
type Pool struct {
	Name     string   `json:"name"`
	Projects []string `json:"projects,omitempty"`
}

// Node is a machine.
type Node struct {
	Name       string   `json:"name"`
	Speed      float64  `json:"speed"`
	KnownSpeed float64  `json:"known_speed,omitempty"`
	Joins      Span     `json:"joins,omitzero"`
	Leaves     Span     `json:"leaves,omitzero"`
	Returns    Span     `json:"returns,omitzero"`
	Fails      float64  `json:"fails,omitempty"`
	Hours      *Hours   `json:"hours,omitempty"`
	Pools      []string `json:"pools,omitempty"`
	Traits     []string `json:"traits,omitempty"`
	Line       Bytes    `json:"line,omitzero"`
}

// Hours are the duty hours of a desk node.
type Hours struct {
	Zone string `json:"zone,omitempty"`
	Week string `json:"week"`
}

// UnmarshalJSON reads the hours of the week alone, or with their zone.
func (h *Hours) UnmarshalJSON(data []byte) error {
	if json.Unmarshal(data, &h.Week) == nil {
		return nil
	}
	type plain Hours
	return json.Unmarshal(data, (*plain)(h))
}

// Job is one run.
type Job struct {
	Name        string       `json:"name"`
	Project     string       `json:"project,omitempty"`
	Submitted   Span         `json:"submitted,omitzero"`
	Priority    string       `json:"priority,omitempty"`
	Frames      string       `json:"frames"`
	Mode        string       `json:"mode"`
	Startup     Span         `json:"startup,omitzero"`
	Again       Span         `json:"startup_again,omitzero"`
	Cost        *Cost        `json:"cost,omitempty"`
	Costs       []Span       `json:"costs,omitempty"`
	Noise       float64      `json:"noise,omitempty"`
	FailsFrames []int        `json:"fails_frames,omitempty"`
	Needs       string       `json:"needs,omitempty"`
	Ceiling     Ceiling      `json:"ceiling,omitempty"`
	Person      string       `json:"person,omitempty"`
	Order       string       `json:"order,omitempty"`
	StartOn     int          `json:"start_on,omitempty"`
	Licence     *LicenceNeed `json:"licence,omitempty"`
	Chunk       int          `json:"chunk,omitempty"`
	Tries       int          `json:"tries,omitempty"`
	Bundle      Bytes        `json:"bundle,omitzero"`
	BundleOn    []string     `json:"bundle_on,omitempty"`
}

// Bytes is an amount of bytes; in a file also a text like 2GiB.
type Bytes int64

// UnmarshalJSON reads a number or a text.
func (b *Bytes) UnmarshalJSON(data []byte) error {
	var text string
	if json.Unmarshal(data, &text) != nil {
		return json.Unmarshal(data, (*int64)(b))
	}
	n, err := humanize.ParseBytes(text)
	if err == nil && n > mostBytes {
		err = fmt.Errorf("%s is more than there can be", text)
	}
	*b = Bytes(n)
	return err
}

// mostBytes bounds amounts of bytes.
const mostBytes = 1 << 50

// Span is a number of seconds; in a file also a text like 35s.
type Span float64

// UnmarshalJSON reads a number or a text.
func (s *Span) UnmarshalJSON(data []byte) error {
	var text string
	if json.Unmarshal(data, &text) != nil {
		return json.Unmarshal(data, (*float64)(s))
	}
	d, err := time.ParseDuration(text)
	*s = Span(d.Seconds())
	return err
}

// Ceiling is a number of nodes or a percentage.
type Ceiling string

// UnmarshalJSON reads a number or a text.
func (c *Ceiling) UnmarshalJSON(data []byte) error {
	*c = Ceiling(strings.Trim(string(data), `"`))
	return nil
}

// Cost is one value, or points with straight lines between them.
type Cost struct {
	Value  Span
	Points []Point
}

// Point is what one frame costs.
type Point struct {
	Frame int
	Cost  Span
}

// UnmarshalJSON reads a value or points.
func (c *Cost) UnmarshalJSON(data []byte) error {
	if !bytes.HasPrefix(bytes.TrimSpace(data), []byte("{")) {
		return c.Value.UnmarshalJSON(data)
	}
	var in struct {
		Points [][2]json.RawMessage `json:"points"`
	}
	if err := json.Unmarshal(data, &in); err != nil {
		return err
	}
	for _, p := range in.Points {
		var point Point
		if err := errors.Join(json.Unmarshal(p[0], &point.Frame), json.Unmarshal(p[1], &point.Cost)); err != nil {
			return err
		}
		c.Points = append(c.Points, point)
	}
	return nil
}

// MarshalJSON writes what UnmarshalJSON reads.
func (c Cost) MarshalJSON() ([]byte, error) {
	if c.Points == nil {
		return json.Marshal(c.Value)
	}
	points := [][2]any{}
	for _, p := range c.Points {
		points = append(points, [2]any{p.Frame, p.Cost})
	}
	return json.Marshal(map[string]any{"points": points})
}

// at returns the cost of a frame in reference seconds.
func (c *Cost) at(frame int) float64 {
	if c.Points == nil {
		return float64(c.Value)
	}
	before := c.Points[0]
	for _, p := range c.Points {
		if p.Frame >= frame {
			if p.Frame == before.Frame || frame <= before.Frame {
				return float64(before.Cost)
			}
			part := float64(frame-before.Frame) / float64(p.Frame-before.Frame)
			return float64(before.Cost) + part*float64(p.Cost-before.Cost)
		}
		before = p
	}
	return float64(before.Cost)
}

// start is 0 s where a file does not say: a Monday evening.
var start = time.Date(2026, 3, 2, 18, 0, 0, 0, time.UTC)

// mostFrames bounds the frames of all jobs of a file together.
const mostFrames = 20_000_000

// form is what drill files have to fit.
var form = fileschema.New(Schema)

// Parse reads a drill file. Errors say what is wrong and where.
func Parse(data []byte) (simulate.Farm, error) {
	var f File
	if err := form.Read(data, &f); err != nil {
		return simulate.Farm{}, err
	}
	return f.farm()
}

func (f *File) farm() (simulate.Farm, error) {
	out := simulate.Farm{Seed: f.Seed, Start: start}
	if f.Start != nil {
		out.Start = *f.Start
	}
	pools := map[string]bool{}
	for _, p := range f.Pools {
		pools[p.Name] = true
		out.Pools = append(out.Pools, farm.Pool{Name: p.Name, Projects: p.Projects})
	}
	licences := map[string]bool{}
	for _, l := range f.Licences {
		licences[l.Name] = true
		out.Licences = append(out.Licences, farm.Licence{Name: l.Name, Count: l.Count})
	}
	weights := map[string]float64{}
	for _, p := range f.Projects {
		weights[p.Name] = p.Weight
	}
	for _, j := range f.Jobs {
		if _, known := weights[j.Project]; !known {
			weights[j.Project] = 1
		}
		if j.Licence != nil && !licences[j.Licence.Name] {
			return simulate.Farm{}, fmt.Errorf(
				"job %s: there is no licence %s; count it under licences", j.Name, j.Licence.Name,
			)
		}
	}
	out.Places = []farm.Place{{Name: "scenes", Loads: f.Loads}}
	for _, name := range slices.Sorted(maps.Keys(weights)) {
		out.Projects = append(out.Projects, farm.Project{Name: name, Weight: weights[name], Scenes: "scenes"})
	}
	names := map[string]bool{}
	for _, n := range f.Nodes {
		if names[n.Name] {
			return simulate.Farm{}, fmt.Errorf("two nodes are called %s", n.Name)
		}
		names[n.Name] = true
		node, err := n.node(pools)
		if err != nil {
			return simulate.Farm{}, fmt.Errorf("node %s: %w", n.Name, err)
		}
		out.Nodes = append(out.Nodes, node)
	}
	total := 0
	names = map[string]bool{}
	for _, j := range f.Jobs {
		if names[j.Name] {
			return simulate.Farm{}, fmt.Errorf("two jobs are called %s", j.Name)
		}
		names[j.Name] = true
		job, err := j.job(out.Nodes)
		if err != nil {
			return simulate.Farm{}, fmt.Errorf("job %s: %w", j.Name, err)
		}
		if total += len(job.Costs); total > mostFrames {
			return simulate.Farm{}, fmt.Errorf("the jobs have more than %d frames together", mostFrames)
		}
		out.Jobs = append(out.Jobs, job)
	}
	return out, nil
}

func (n Node) node(pools map[string]bool) (simulate.Node, error) {
	out := simulate.Node{
		Name: n.Name, Speed: n.Speed, Known: n.KnownSpeed, Joins: float64(n.Joins), Leaves: float64(n.Leaves),
		Returns: float64(n.Returns), Fails: n.Fails, Pools: n.Pools, Traits: n.Traits, Fetches: float64(n.Line),
	}
	if out.Known == 0 {
		out.Known = 1
	}
	if n.Leaves > 0 && n.Leaves <= n.Joins || n.Returns > 0 && n.Returns <= n.Leaves {
		return out, fmt.Errorf("it must join, leave and return in this order")
	}
	for _, p := range n.Pools {
		if !pools[p] {
			return out, fmt.Errorf("there is no pool %s; name it under pools", p)
		}
	}
	if n.Hours != nil {
		week, err := hours.ParseWeek(n.Hours.Week)
		if err != nil {
			return out, fmt.Errorf("hours: %w", err)
		}
		zone := n.Hours.Zone
		if zone == "" {
			zone = "UTC"
		}
		out.Hours = &hours.Hours{Zone: zone, Week: week}
		if err := out.Hours.Check(); err != nil {
			return out, fmt.Errorf("hours: %w", err)
		}
	}
	return out, nil
}

func (j Job) job(nodes []simulate.Node) (simulate.Job, error) {
	set, err := frames.Parse(j.Frames)
	if err != nil {
		return simulate.Job{}, fmt.Errorf("frames: %w", err)
	}
	if set.Len() > mostFrames {
		return simulate.Job{}, fmt.Errorf("frames: %d are too many", set.Len())
	}
	if j.Needs != "" {
		if _, err := trait.ParseExpression(j.Needs); err != nil {
			return simulate.Job{}, fmt.Errorf("needs: %w", err)
		}
	}
	ceiling, err := farm.ParseCeiling(string(j.Ceiling))
	if err != nil {
		return simulate.Job{}, fmt.Errorf("ceiling: %w", err)
	}
	out := simulate.Job{
		Spec: farm.Spec{
			Job: j.Name, Project: j.Project, Kind: farm.Final, Recipe: j.Mode, Mode: farm.Mode(j.Mode),
			Frames: set, Tries: j.Tries, Chunk: j.Chunk, Needs: j.Needs,
			Terms: farm.Terms{Level: farm.Level(j.Priority), Ceiling: ceiling}, Owner: j.Person,
			Sequence: farm.Sequence(j.Order), StartOn: j.StartOn, Licence: (*farm.LicenceNeed)(j.Licence),
		},
		Submitted: float64(j.Submitted), Startup: float64(j.Startup), Again: float64(j.Again), Noise: j.Noise,
		Fails: j.FailsFrames,
	}
	if out.Spec.Tries == 0 {
		out.Spec.Tries = 3
	}
	if j.Bundle > 0 {
		out.Spec.Bundle, out.Spec.BundleBytes = "the bundle of "+j.Name, int64(j.Bundle)
	}
	for _, name := range j.BundleOn {
		i := slices.IndexFunc(nodes, func(n simulate.Node) bool { return n.Name == name })
		if i < 0 {
			return out, fmt.Errorf("bundle_on: there is no node %s", name)
		}
		out.Has = append(out.Has, i)
	}
	switch {
	case j.Again > j.Startup:
		return out, fmt.Errorf(
			"startup_again: a further launch on a node cannot take longer than the first, which takes %g s",
			float64(j.Startup),
		)
	case (j.Cost == nil) == (j.Costs == nil):
		return out, fmt.Errorf("say what frames cost: either cost or costs")
	case j.Costs != nil && len(j.Costs) != set.Len():
		return out, fmt.Errorf("costs: %d are given for %d frames", len(j.Costs), set.Len())
	}
	out.Costs = make([]float64, 0, set.Len())
	for f := range set.All() {
		cost := 0.0
		if j.Costs != nil {
			cost = float64(j.Costs[len(out.Costs)])
		} else {
			cost = j.Cost.at(f)
		}
		if cost <= 0 {
			return out, fmt.Errorf("frame %s costs nothing; a cost must be above 0", strconv.Itoa(f))
		}
		out.Costs = append(out.Costs, cost)
	}
	return out, nil
}
