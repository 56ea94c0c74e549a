package drillfile

import (
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"time"

	"github.com/goccy/go-yaml"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
	"vexillum/internal/core/trait"
)

// costPoints is by how many points the cost of a long job is written.
const costPoints = 60

// FromFarm describes a live farm as it is thought to be: the nodes that are
// there with the speeds that they showed, and what is left of the open runs
// with what their frames are expected to cost; of a run that has told nothing
// yet, what frames of its recipe mostly cost. Runs that are held are left out.
func FromFarm(s *farm.State, m *pace.Model, now time.Time) File {
	start := now.UTC().Truncate(time.Second)
	f := File{Seed: 1, Start: &start, Nodes: []Node{}, Jobs: []Job{}}
	for _, name := range slices.Sorted(maps.Keys(s.Pools)) {
		f.Pools = append(f.Pools, Pool{Name: name, Projects: s.Pools[name].Projects})
	}
	for _, name := range slices.Sorted(maps.Keys(s.Projects)) {
		f.Projects = append(f.Projects, Project{Name: name, Weight: s.Projects[name].Weight})
	}
	for _, name := range slices.Sorted(maps.Keys(s.Licences)) {
		f.Licences = append(f.Licences, Licence{Name: name, Count: s.Licences[name].Most(now)})
	}
	recipes := map[string]int{} // frames that are left
	for _, run := range s.Queue() {
		recipes[run.Spec.Recipe] += run.ToDo.Len() + run.DealtCount()
	}
	bundled := slices.ContainsFunc(s.Queue(), func(r *farm.Run) bool { return r.Spec.Bundle != "" })
	var there []*farm.Node
	most := ""
	for _, name := range slices.Sorted(maps.Keys(recipes)) {
		if most == "" || recipes[name] > recipes[most] {
			most = name
		}
	}
	for _, n := range s.NodeList() {
		if !n.RetiredAt.IsZero() || n.Reach != farm.Online || n.Duty == farm.Held || n.Duty == farm.Draining ||
			n.Health == farm.Sidelined {
			continue
		}
		node := Node{Name: n.Name, Speed: round(m.Speed(n, most)), Pools: n.Settings.Pools}
		node.KnownSpeed = node.Speed
		for _, t := range n.KnownTraits().All() {
			if t.Source != trait.Assigned {
				node.Traits = append(node.Traits, t.String())
			}
		}
		if n.Kind == farm.Desk {
			node.Traits = append(node.Traits, "desk")
		}
		if h := n.Settings.Hours; h != nil {
			node.Hours = &Hours{Zone: h.Zone, Week: h.Week.String()}
		}
		if bundled {
			node.Line = Bytes(m.FetchRate(n))
		}
		f.Nodes, there = append(f.Nodes, node), append(there, n)
	}
	for _, run := range s.Queue() {
		if job, ok := jobOf(m, run); ok {
			if job.Bundle = Bytes(run.Spec.BundleBytes); job.Bundle > 0 {
				for _, n := range there {
					if m.Lacks(run, n.ID) == 0 {
						job.BundleOn = append(job.BundleOn, n.Name)
					}
				}
			}
			f.Jobs = append(f.Jobs, job)
		}
	}
	return f
}

func jobOf(m *pace.Model, run *farm.Run) (Job, bool) {
	left := run.ToDo.Union(run.Dealt())
	if left.Stretches() > frames.MaxStretches { // on paper they follow one another
		left = frames.Of(frames.Span{First: left.First(), Last: left.First() + left.Len() - 1})
	}
	curve := m.Curve(run)
	if left.Empty() || run.State == farm.RunHeld || run.State == farm.RunWaiting {
		return Job{}, false
	}
	startup, _ := m.Startup(run)
	again, _ := m.Relaunch(run)
	job := Job{
		Name:    fmt.Sprintf("%s-%s-%d", run.Spec.Job, run.Spec.Kind, run.Spec.Number),
		Project: run.Spec.Project, Person: run.Spec.Owner, Priority: run.Terms.Level.String(),
		Frames: left.String(), Mode: string(run.Spec.Mode), Startup: Span(round(startup.Mean)),
		Noise: round(min(curve.Spread(), 2)), Needs: run.Spec.Recipe,
		Ceiling: Ceiling(run.Terms.Ceiling.String()), Chunk: run.Spec.Chunk, Tries: run.Spec.Tries,
		Order: string(run.Spec.Sequence),
	}
	if further := Span(round(again.Mean)); further < job.Startup {
		job.Again = further
	}
	if run.Spec.Needs != "" {
		job.Needs = fmt.Sprintf("%s && (%s)", run.Spec.Recipe, run.Spec.Needs)
	}
	if l := run.Spec.Licence; l != nil {
		need := LicenceNeed(*l)
		job.Licence = &need
	}
	job.Cost = points(curve, left)
	return job, true
}

// points writes a curve by straight lines.
func points(curve *pace.Curve, set frames.Set) *Cost {
	first, last := set.First(), set.Last()
	if first == last || !curve.Known() {
		return &Cost{Value: Span(round(curve.Cost(first)))}
	}
	count := min(costPoints, last-first+1)
	out := &Cost{}
	for i := range count {
		f := first + i*(last-first)/(count-1)
		out.Points = append(out.Points, Point{Frame: f, Cost: Span(round(curve.Cost(f)))})
	}
	return out
}

// round keeps four digits.
func round(x float64) float64 {
	if x <= 0 || math.IsInf(x, 0) || math.IsNaN(x) {
		return 0
	}
	scale := math.Pow(10, 3-math.Floor(math.Log10(x)))
	return math.Round(x*scale) / scale
}

// Write writes a drill file.
func (f File) Write() ([]byte, error) {
	data, err := json.Marshal(f)
	if err != nil {
		return nil, fmt.Errorf("writing the drill: %w", err)
	}
	out, err := yaml.JSONToYAML(data)
	if err != nil {
		return nil, fmt.Errorf("writing the drill: %w", err)
	}
	return out, nil
}
