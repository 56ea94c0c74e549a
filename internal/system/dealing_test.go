package system

import (
	"fmt"
	"strings"
	"testing"
	"time"

	core "vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/simulate"
	"vexillum/internal/wire"
)

// onPaper is a farm of practising nodes with one job, as a play knows it.
type onPaper struct {
	speeds  []float64
	count   int
	startup time.Duration
	points  [2]time.Duration // cost of the first and the last frame
	noise   float64
}

// scene writes the practice scene of it.
func (p onPaper) scene() string {
	return fmt.Sprintf(
		"practice: 1\npicture: salt\nstartup: %v\ncost: {points: [[1, %v], [%d, %v]]}\nnoise: %v\nseed: 5\n", p.startup,
		p.points[0], p.count, p.points[1], p.noise,
	)
}

// play plays it.
func (p onPaper) play(t testing.TB, mode core.Mode) *simulate.Report {
	t.Helper()
	f := simulate.Farm{Seed: 5, Start: time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)}
	for i, s := range p.speeds {
		f.Nodes = append(f.Nodes, simulate.Node{Name: fmt.Sprintf("kiln-%02d", i+1), Speed: s, Known: s})
	}
	job := simulate.Job{Startup: p.startup.Seconds(), Noise: p.noise, Spec: core.Spec{
		Job: "salt", Project: "salt-clock", Kind: core.Final, Recipe: "practice", Mode: mode, Tries: 3,
		Frames: frames.Of(frames.Span{First: 1, Last: p.count}),
	}}
	for i := range p.count {
		part := float64(i) / float64(p.count-1)
		job.Costs = append(job.Costs, p.points[0].Seconds()+part*(p.points[1]-p.points[0]).Seconds())
	}
	f.Jobs = []simulate.Job{job}
	r, err := simulate.Play(f, simulate.Options{Tell: true})
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// real renders it on a farm of its own and returns how long that took, from the
// first lease on.
func (p onPaper) real(t testing.TB, recipe string) (*farm, wire.Run, time.Duration) {
	f := newFarm(t)
	f.scene("salt.practice", p.scene())
	f.signIn()
	for i, s := range p.speeds {
		f.join(fmt.Sprintf("kiln-%02d", i+1), "--renderers", recipe, "--speed", fmt.Sprint(s))
	}
	for i := range p.speeds {
		name := fmt.Sprintf("kiln-%02d", i+1)
		f.wait(name+" is ready", func() bool { n := f.node(name); return n != nil && n.State == "ready" })
	}
	run := f.ended(
		f.submit(
			wire.Submit{
				Job: "salt", Scene: "salt.practice", Recipe: recipe, Frames: fmt.Sprintf("1-%d", p.count),
				Width: 64, Height: 36, StartOn: new(0),
			},
		),
	)
	if run.State != "done" {
		t.Fatalf("the run is %s: %s", run.State, run.Why)
	}
	return f, run, run.EndedAt.Sub(*run.StartedAt)
}

// BenchmarkRealFarm renders on eight practising nodes of unlike speed on loopback
// and plays the same farm on paper. Goal: 1.05 times as long at most.
func BenchmarkRealFarm(b *testing.B) {
	speeds := []float64{1, 0.5, 2, 0.8, 1.5, 0.7, 1.2, 0.4}
	for recipe, mode := range map[string]core.Mode{"practice": core.ModeRange, "practice-feed": core.ModeFeed} {
		b.Run(string(mode), func(b *testing.B) {
			for b.Loop() {
				p := onPaper{
					speeds: speeds, count: 240, startup: 2 * time.Second,
					points: [2]time.Duration{time.Second, 3 * time.Second}, noise: 0.05,
				}
				_, _, took := p.real(b, recipe)
				b.ReportMetric(took.Seconds()/p.play(b, mode).Finish, "real/drill")
				b.ReportMetric(0, "ns/op")
			}
		})
	}
}

// TestTheFarmDoesWhatTheDrillSays lets a real farm and a play deal the same work:
// the first shares are the same frame by frame, and the end of a lease goes
// from the slow node, which is slower than it seems, to others in both.
func TestTheFarmDoesWhatTheDrillSays(t *testing.T) {
	t.Parallel()
	p := onPaper{
		speeds: []float64{2, 1, 0.5}, count: 42, startup: 400 * time.Millisecond,
		points: [2]time.Duration{300 * time.Millisecond, 1500 * time.Millisecond},
	}
	played := p.play(t, core.ModeRange)
	f, run, took := p.real(t, "practice")
	f.wantOnce(run.ID, p.count)
	var first, takeovers []string
	for _, told := range played.Told {
		switch {
		case told.At == 0 && strings.Contains(told.Reason, " gets "):
			first = append(first, told.Reason)
		case strings.Contains(told.Reason, " over from "):
			takeovers = append(takeovers, told.Reason)
		}
	}
	if len(first) != 3 || len(takeovers) == 0 {
		t.Fatalf("on paper: %d first shares, %d take-overs", len(first), len(takeovers))
	}
	for _, reason := range first {
		if f.count(`SELECT count(*) FROM lease WHERE run = $1 AND reason = $2`, run.ID, reason) != 1 {
			t.Errorf("no lease says what was played on paper: %s", reason)
		}
	}
	if f.count(
		`SELECT count(*) FROM lease WHERE run = $1 AND reason LIKE '% over from %: finish % earlier'`,
		run.ID,
	) == 0 {
		t.Error("nobody took anything over")
	}
	if log := f.must("show", "salt", "--json"); !strings.Contains(log, " over from ") &&
		!strings.Contains(f.must("why", "salt"), "done") {
		t.Error("the take-over is not in what the run tells")
	}
	// A farm of other tests runs beside this one, so that time says little.
	if paper := time.Duration(played.Finish * float64(time.Second)); took > 2*paper+3*time.Second {
		t.Errorf("it took %v, on paper %v", took, paper)
	}
}

// TestNowIsAskedTwice makes a run urgent while the only node renders a long
// frame of another: what would be lost is told first, and nothing happens; said
// again with --yes, the frame is stopped, and the urgent run is done long before
// it would have been.
func TestNowIsAskedTwice(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.scene("long.practice", "practice: 1\npicture: salt\ncost: 90s\n")
	f.scene("short.practice", "practice: 1\npicture: salt\ncost: 0.1s\n")
	f.signIn()
	f.join("kiln-01", "--renderers", "practice", "--speed", "1")
	long := f.submit(wire.Submit{Job: "long", Scene: "long.practice", Frames: "1-3", Width: 32, Height: 18})
	f.wait("the long frame is begun", func() bool { return f.run(long).Sets.Rendering == "1" })
	short := f.submit(wire.Submit{Job: "short", Scene: "short.practice", Frames: "1-2", Width: 32, Height: 18})
	_, stderr, code := f.vexillum("change", "short", "--priority", "urgent", "--now")
	if code == 0 || !strings.Contains(stderr, "nothing is changed yet") ||
		!strings.Contains(stderr, "1 lease of less urgent runs would be stopped") ||
		!strings.Contains(stderr, "--yes") {
		t.Errorf("it ends with %d: %s", code, stderr)
	}
	if run := f.run(short); run.Priority != "normal" || f.run(long).Sets.Rendering != "1" {
		t.Errorf(
			"%s has priority %s, and of the other %q is rendered", run.Name, run.Priority, f.run(long).Sets.Rendering,
		)
	}
	f.must("change", "short", "--priority", "urgent", "--now", "--yes")
	if run := f.ended(short); run.State != "done" {
		t.Errorf("it is %s: %s", run.State, run.Why)
	}
	if run := f.run(long); run.DoneCount > 0 || run.State == "done" {
		t.Errorf("the long run has %d frames done", run.DoneCount)
	}
}

// TestAFasterNodeTakesAPlaceOver has a run that may have one node, and a slow one
// at it, when a fast one joins.
func TestAFasterNodeTakesAPlaceOver(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.scene("a.practice", "practice: 1\npicture: salt\nstartup: 0.2s\ncost: 0.5s\n")
	f.signIn()
	f.join("kiln-01", "--renderers", "practice", "--speed", "0.25")
	id := f.submit(
		wire.Submit{
			Job: "a", Scene: "a.practice", Frames: "1-60", Ceiling: "1", Width: 32, Height: 18,
			StartOn: new(0),
		},
	)
	f.done(id, 2)
	f.join("kiln-02", "--renderers", "practice", "--speed", "4")
	run := f.ended(id)
	if took := run.EndedAt.Sub(*run.StartedAt); run.State != "done" || took > 60*time.Second {
		t.Errorf("it is %s after %v; the slow node alone needs 2 min", run.State, took)
	}
	slow := f.count(
		`SELECT count(*) FROM attempt a JOIN node n ON n.id = a.node WHERE a.run = $1 AND n.name = 'kiln-01'`,
		id,
	)
	if slow > 30 {
		t.Errorf("the slow node rendered %d of 60 frames", slow)
	}
	f.wantOnce(id, 60)
}
