package drillfile

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"vexillum/internal/core/drill"
)

// TestTheExamplesPlay plays every drill that ships with the program.
func TestTheExamplesPlay(t *testing.T) {
	paths, err := filepath.Glob("../../examples/drills/*.yaml")
	if err != nil || len(paths) < 12 {
		t.Fatalf("%d examples, %v", len(paths), err)
	}
	for _, path := range paths {
		data, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		f, err := Parse(data)
		if err != nil {
			t.Errorf("%s: %v", path, err)
			continue
		}
		r, err := drill.Run(f, nil, nil, nil)
		if err != nil {
			t.Errorf("%s: %v", path, err)
			continue
		}
		for _, j := range r.Jobs {
			if j.Finish < j.Bound*0.9 || j.Launches < 1 {
				t.Errorf("%s: %+v", path, j)
			}
		}
	}
}

const good = `
nodes: [{name: kiln-01, speed: 1}]
jobs: [{name: a, frames: 1-3, mode: range, startup: 2, cost: {points: [[1, 4s], [3, 8s]]}}]
`

func TestCostsBetweenPoints(t *testing.T) {
	f, err := Parse([]byte(good))
	if err != nil {
		t.Fatal(err)
	}
	if c := f.Jobs[0].Costs; len(c) != 3 || c[0] != 4 || c[1] != 6 || c[2] != 8 {
		t.Errorf("costs %v, want 4, 6, 8", c)
	}
	if f.Nodes[0].Known != 1 || f.Jobs[0].Spec.Tries != 3 {
		t.Errorf("what is left out: %+v", f)
	}
	far := strings.Replace(good, "mode: range", "mode: range, bundle: 2GiB, bundle_on: [kiln-01]", 1)
	f, err = Parse([]byte(strings.Replace(far, "speed: 1", "speed: 1, line: 25MiB", 1)))
	if err != nil || f.Nodes[0].Fetches != 25<<20 || f.Jobs[0].Spec.BundleBytes != 2<<30 || len(f.Jobs[0].Has) != 1 {
		t.Errorf("a bundle: %+v, %v", f, err)
	}
}

func TestWhatIsWrongIsSaid(t *testing.T) {
	for _, c := range []struct{ old, new, says string }{
		{"speed: 1", "speed: 0", "line 2, column 25: nodes[0].speed: it is 0 and has to be more than 0"},
		{"speed: 1", "speed: 1, colour: red", "colour"},
		{"mode: range", "mode: sideways", "jobs[0].mode: sideways is not one of range"},
		{"frames: 1-3", "frames: 3-1", "frames"},
		{"frames: 1-3", "frames: 1-900000000", "more than 10000000 frames"},
		{"cost: {points: [[1, 4s], [3, 8s]]}", "costs: [1, 2]", "2 are given for 3 frames"},
		{"cost: {points: [[1, 4s], [3, 8s]]}", "cost: 0", "costs nothing"},
		{"cost: {points: [[1, 4s], [3, 8s]]}", "noise: 0.1", "either cost or costs"},
		{"cost: {points: [[1, 4s], [3, 8s]]}", "cost: 4 parsecs", "jobs[0].cost: "},
		{"mode: range", "mode: range, ceiling: 120%", "is not a ceiling"},
		{"mode: range", "mode: range, needs: 'gpu &&'", "needs"},
		{"speed: 1", "speed: 1, pools: [dome]", "no pool dome"},
		{"speed: 1", "speed: 1, leaves: 1m, returns: 30s", "in this order"},
		{"speed: 1", "speed: 1, hours: {week: 'mon 25:00-26:00'}", "hours"},
		{"[{name: kiln-01, speed: 1}]", "[{name: a, speed: 1}, {name: a, speed: 1}]", "two nodes are called a"},
		{"mode: range", "mode: range, bundle: much", "jobs[0].bundle: "},
		{"mode: range", "mode: range, bundle: 9000000TB", "more than there can be"},
		{"mode: range", "mode: range, bundle: 1GiB, bundle_on: [dome]", "there is no node dome"},
		{"speed: 1", "speed: 1, line: -1", "nodes[0].line: it is -1 and has to be at least 0"},
		{"nodes:", "nodes: [", "line 3, column 1"},
	} {
		text := strings.Replace(good, c.old, c.new, 1)
		if _, err := Parse([]byte(text)); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, want it to say %q", c.new, err, c.says)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(good))
	f.Add([]byte("nodes: []\njobs: []"))
	f.Fuzz(func(_ *testing.T, data []byte) {
		if len(data) < 4096 {
			_, _ = Parse(data) // it must not panic
		}
	})
}
