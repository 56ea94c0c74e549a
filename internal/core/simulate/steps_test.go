package simulate_test

import (
	"fmt"
	"testing"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/simulate"
)

// TestStepsOnPaper plays a render whose frames others wait for, frame by frame and as a
// whole.
func TestStepsOnPaper(t *testing.T) {
	job := func(name string, after ...simulate.After) simulate.Job {
		costs := make([]float64, 20)
		for i := range costs {
			costs[i] = 2
		}
		return simulate.Job{Costs: costs, After: after, Spec: farm.Spec{
			Job: name, Kind: farm.Final, Recipe: name, Mode: farm.ModeSingle, Tries: 3,
			Frames: frames.Of(frames.Span{First: 1, Last: 20}),
		}}
	}
	f := simulate.Farm{Seed: 1, Jobs: []simulate.Job{
		job("render"), job("comp", simulate.After{Job: 0, Frames: true}), job("movie", simulate.After{Job: 1}),
	}}
	for i := range 3 {
		f.Nodes = append(f.Nodes, simulate.Node{Name: fmt.Sprintf("kiln-%02d", i+1), Speed: 1, Known: 1})
	}
	report, err := simulate.Play(f, simulate.Options{})
	if err != nil {
		t.Fatal(err)
	}
	ended := map[string]map[int]float64{"render": {}, "comp": {}, "movie": {}}
	early := false // some comp before the last frame of the render
	for _, a := range report.Attempts {
		ended[a.Job][a.Frame] = a.End
		switch a.Job {
		case "comp":
			if rendered, done := ended["render"][a.Frame]; !done || a.Start < rendered {
				t.Errorf(
					"frame %d of the comp began at %g s, that of the render ended at %g s",
					a.Frame,
					a.Start,
					rendered,
				)
			}
			early = early || a.Start < report.Jobs[0].Finish
		case "movie":
			if a.Start < report.Jobs[1].Finish {
				t.Errorf(
					"frame %d of the movie began at %g s, the comp ended at %g s",
					a.Frame,
					a.Start,
					report.Jobs[1].Finish,
				)
			}
		}
	}
	for i, j := range report.Jobs {
		if j.State != farm.RunDone {
			t.Errorf("job %d is %s", i, j.State)
		}
	}
	if !early {
		t.Error("the comp waited for the whole render")
	}
	if limit := 1.2 * 3 * 20 * 2 / 3; report.Finish > limit {
		t.Errorf("all ended after %g s, at most %g s were expected", report.Finish, limit)
	}
}
