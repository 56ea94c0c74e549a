package forecast

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
	"vexillum/internal/core/simulate"
)

// oneJob is a farm of nodes of one speed, and a run that nobody has submitted, of which an
// earlier run of its job tells.
func oneJob(nodes int, startup, cost float64, count int) (*farm.State, *pace.Model, *farm.Run) {
	s, m := farm.NewState(), pace.New()
	now := time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)
	for i := range nodes {
		s.PutNode(&farm.Node{
			ID: farm.NodeID(i + 1), Name: fmt.Sprintf("kiln-%03d", i+1), Kind: farm.Rack, Reach: farm.Online,
			Duty: farm.OnDuty, Health: farm.Fine, Session: 1,
			Facts: farm.Facts{Speed: 1, Renderers: []farm.Renderer{{Recipe: "practice"}}},
		})
	}
	spec := farm.Spec{
		Job: "salt_010", Kind: farm.Final, Number: 1, Recipe: "practice", Mode: farm.ModeRange, Tries: 3,
		Frames: frames.Of(frames.Span{First: 1, Last: count}),
	}
	costs := make([]float64, count)
	for i := range costs {
		costs[i] = cost
	}
	run := farm.RunSubmitted{Run: 1, Spec: spec, State: farm.RunQueued, Order: 1, At: now}.Opened()
	m.BelieveRun(run, startup, startup, costs)
	return s, m, run
}

func byNodes(p *Position, run *farm.Run, most int) (out []Point) {
	ladder := Ladder(most)
	for _, i := range InTurn(len(ladder)) {
		if point, ok := p.WithNodes(run.ID, run.Terms, ladder[i], 1, always); ok {
			out = append(out, point)
		}
	}
	slices.SortFunc(out, func(a, b Point) int { return a.Nodes - b.Nodes })
	return out
}

func always() bool { return true }

// TestAnEstimateIsWhatIsPlayed compares the estimate of a run with what the farm, played as
// it truly is, needs for it.
func TestAnEstimateIsWhatIsPlayed(t *testing.T) {
	s, m, run := oneJob(8, 20, 5, 200)
	now := time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)
	p := TakeWith(s, m, nil, nil, now, []*farm.Run{run})
	all, err := p.Estimate([]farm.RunID{1}, 1, 12, always, always)
	if err != nil {
		t.Fatal(err)
	}
	e := all[1]
	f := simulate.Farm{Start: now, Jobs: []simulate.Job{{Spec: run.Spec, Startup: 20, Again: 20}}}
	for range 200 {
		f.Jobs[0].Costs = append(f.Jobs[0].Costs, 5)
	}
	for i := range 8 {
		f.Nodes = append(f.Nodes, simulate.Node{Name: fmt.Sprintf("kiln-%03d", i+1), Speed: 1, Known: 1})
	}
	report, err := simulate.Play(f, simulate.Options{})
	if err != nil {
		t.Fatal(err)
	}
	if math.Abs(math.Log(e.Median/report.Finish)) > 0.15 || e.Late < report.Finish {
		t.Errorf("it is estimated to take %.0f s, at most %.0f s, and takes %.0f s", e.Median, e.Late, report.Finish)
	}
	sum := 0.0
	for _, seconds := range e.Spent.Seconds {
		sum += seconds
	}
	if want := 200*5 + 8*20.0; math.Abs(sum/want-1) > 0.25 || e.Spent.Nodes != 8 {
		t.Errorf("it is estimated to take %.0f s of %.1f nodes, want %.0f s of 8", sum, e.Spent.Nodes, want)
	}
}

// TestMoreNodesHelpAsLongAsTheyDo asks for the finish by number of nodes, where starting
// takes little and where it takes most.
func TestMoreNodesHelpAsLongAsTheyDo(t *testing.T) {
	now := time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		nodes         int
		startup, cost float64
		count         int
		says          string
	}{
		{8, 1, 60, 400, "More nodes than the 8 that can take it would still help"},
		{32, 300, 2, 200, "Beyond 8 nodes each further one gains less than 7s."},
		{32, 60, 10, 100, "each further one gains less than"},
	} {
		s, m, run := oneJob(c.nodes, c.startup, c.cost, c.count)
		p := TakeWith(s, m, nil, nil, now, []*farm.Run{run})
		points := byNodes(p, run, c.nodes)
		if len(points) != len(Ladder(c.nodes)) {
			t.Fatalf("%d points of %d", len(points), len(Ladder(c.nodes)))
		}
		if says := MoreNodes(points, c.cost*float64(c.count)); !strings.Contains(says, c.says) {
			t.Errorf(
				"%d nodes, start-up %g s, %d frames of %g s: %q, want %q (%v)",
				c.nodes,
				c.startup,
				c.count,
				c.cost,
				says,
				c.says,
				points,
			)
		}
		if first := points[0]; first.Nodes != 1 || first.Seconds < 0.8*(c.startup+float64(c.count)*c.cost) {
			t.Errorf("one node needs %v", first)
		}
		for i, point := range points[1:] {
			if point.Seconds > 1.1*points[i].Seconds {
				t.Errorf(
					"%d nodes need %.0f s, %d need %.0f s",
					point.Nodes,
					point.Seconds,
					points[i].Nodes,
					points[i].Seconds,
				)
			}
		}
	}
}

func TestLadder(t *testing.T) {
	if l := Ladder(math.MaxInt); l[len(l)-1] != math.MaxInt || len(l) > 100 {
		t.Errorf("up to the most that there is: %v", l)
	}
	for most := range 300 {
		l := Ladder(most)
		if most == 0 && len(l) == 0 {
			continue
		}
		if l[0] != 1 || l[len(l)-1] != most || !slices.IsSorted(l) || len(slices.Compact(slices.Clone(l))) != len(l) ||
			len(l) > 20 {
			t.Errorf("up to %d: %v", most, l)
		}
	}
	for _, c := range []struct {
		points []Point
		says   string
	}{
		{nil, ""}, {[]Point{{1, 60}}, "One node can take it."}, {[]Point{{1, 60}, {2, 30}}, ""},
		{[]Point{{1, 600}, {2, 300}, {4, 150}, {8, 150}}, "Beyond 4 nodes further ones only add start-up and transfer."},
		{[]Point{{1, 6000}, {2, 3000}, {4, 1500}, {8, 1400}}, "Beyond 4 nodes each further one gains less than 26s."},
		{[]Point{{1, 600}, {2, 600}, {4, 600}}, "More nodes hardly help: most of the time it waits for what comes before it."},
		{[]Point{{1, 150}, {2, 150}, {4, 150}}, "Beyond 1 node further ones only add start-up and transfer."},
	} {
		if says := MoreNodes(c.points, 120); says != c.says {
			t.Errorf("%v: %q, want %q", c.points, says, c.says)
		}
	}
}

// BenchmarkEstimate estimates a run on a farm of 200 nodes. Goal: below 3 s.
func BenchmarkEstimate(b *testing.B) {
	now := time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)
	s, m, run := oneJob(200, 20, 90, 2000)
	for b.Loop() {
		p := TakeWith(s, m, nil, nil, now, []*farm.Run{run})
		if _, err := p.Estimate([]farm.RunID{1}, 1, 12, always, always); err != nil {
			b.Fatal(err)
		}
		b.ReportMetric(float64(len(byNodes(p, run, 200))), "points")
	}
}
