package floor

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
	"vexillum/internal/core/protocol/accept"
	"vexillum/internal/recipe"
	"vexillum/internal/service/fleet"
	"vexillum/internal/service/views"
)

// alternating is a floor of a number of runs of alternating frames, half of one done,
// one ended, and nodes that have no lease yet.
func alternating(tb testing.TB, runs, count, nodes int, took func(fmt.Stringer, time.Duration)) *Floor {
	tb.Helper()
	book, err := recipe.Builtin()
	if err != nil {
		tb.Fatal(err)
	}
	var set frames.Set
	if err := set.UnmarshalText(fmt.Appendf(nil, "1-%d/2", 2*count)); err != nil {
		tb.Fatal(err)
	}
	s, now := farm.NewState(), time.Now()
	apply := func(records ...farm.Record) {
		for _, r := range records {
			if err := s.Apply(r); err != nil {
				tb.Fatal(err)
			}
		}
	}
	apply(
		farm.PlaceSet{Name: "p"}, farm.ProjectSet{Name: "salt-clock", Weight: 1, Scenes: "p", Frames: "p"},
		farm.KeyIssued{Hash: "k", Uses: nodes, At: now, ExpiresAt: now.Add(time.Hour)},
	)
	for i := range runs {
		id := farm.RunID(i + 1)
		apply(farm.RunSubmitted{Run: id, State: farm.RunQueued, Order: int64(i), At: now, Spec: farm.Spec{
			Job: fmt.Sprint("a", i), Project: "salt-clock", Kind: farm.Final, Number: 1, Recipe: "practice",
			Mode: []farm.Mode{farm.ModeRange, farm.ModeSingle, farm.ModeFeed}[i%3], Frames: set, Tries: 3,
			Terms: farm.Terms{Level: []farm.Level{farm.High, farm.Normal, farm.Low}[i%3]}, Owner: "nadia",
		}})
	}
	facts := farm.Facts{
		OS: "linux", Cores: 16, Speed: 1, Version: "0.1.0",
		Renderers: []farm.Renderer{{Recipe: "practice", Version: "1"}},
	}
	m := pace.New()
	for i := range nodes {
		id := farm.NodeID(i + 1)
		apply(
			farm.NodeEnrolled{
				Node: id, Name: fmt.Sprintf("kiln-%05d", i), Of: farm.Rack, Facts: facts, KeyHash: "k", At: now,
			},
			farm.NodeStarted{Node: id, Session: 1, Facts: facts, At: now},
		)
	}
	half := s.Runs[1]
	half.Done = set.Take(count / 2)
	half.ToDo = set.Minus(half.Done)
	apply(farm.RunMoved{Run: farm.RunID(runs), State: farm.RunCancelled, At: now})
	return New(Options{
		State: s, Pace: m, Committer: &memory{}, Recipes: book, Log: slog.New(slog.DiscardHandler), Now: time.Now,
		Version: "0.1.0", Took: took,
	})
}

// busy lets a floor do all that a farm with open pages does, for a while.
func busy(tb testing.TB, f *Floor, nodes int, lasts time.Duration) {
	tb.Helper()
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() { defer close(ended); _ = f.Run(ctx) }()
	until := time.Now().Add(lasts)
	var wg sync.WaitGroup
	for i := range nodes {
		id := farm.NodeID(i + 1)
		wg.Go(func() {
			r := rand.New(rand.NewPCG(uint64(i), 5))
			for number := int64(1); time.Now().Before(until); number++ {
				asking, cancel := context.WithTimeout(ctx, time.Second)
				a, err := f.Fleet.Ask(asking, id, fleet.Question{Session: 1, Number: number})
				cancel()
				if err != nil || len(a.Leases) == 0 {
					continue
				}
				l := a.Leases[0]
				frame := l.Frames.First()
				_ = f.Fleet.Beat(
					ctx, id, 1,
					fleet.Beat{
						Leases: map[farm.LeaseID]fleet.Progress{l.ID: {Frame: &frame, Phase: "rendering"}},
						Signs:  views.Signs{DiskFree: -1, MemoryFree: -1},
					},
				)
				outcome := accept.Report{
					Outcome: accept.Good, Lease: l.ID, Launch: 1, Frame: frame, Hash: strings.Repeat("a", 64),
					RenderSeconds: 1 + r.Float64(),
				}
				if r.IntN(20) == 0 {
					outcome = accept.Report{
						Outcome: accept.Failed, Lease: l.ID, Launch: 1, Frame: frame, Cause: "crash",
						Message: "exit status 1",
					}
				}
				delivered := outcome
				delivered.Outcome = accept.Delivered
				_, _ = f.Fleet.Report(
					ctx, id, 1,
					[]accept.Report{outcome, delivered, {Outcome: accept.Ended, Lease: l.ID, Message: "has ended"}},
				)
			}
		})
	}
	wg.Go(func() { // pages, and forecasts
		for time.Now().Before(until) {
			_, _ = f.Views.Farm(ctx, farm.Sight{})
			_, _ = f.Views.Position(ctx)
			_, _ = f.Views.Drill(ctx)
			time.Sleep(50 * time.Millisecond)
		}
	})
	wg.Wait()
	stop()
	<-ended
}

// timings are how long decisions of a loop took, to be read when it has ended.
type timings struct {
	took    []time.Duration
	most    time.Duration
	slowest string
}

func (t *timings) hear(what fmt.Stringer, took time.Duration) {
	t.took = append(t.took, took)
	if took > t.most {
		t.most, t.slowest = took, what.String()
	}
}

// TestAlternatingFramesAreShownInBlocks looks at the view of a run with more
// stretches than anybody can tell.
func TestAlternatingFramesAreShownInBlocks(t *testing.T) {
	f := alternating(t, 2, 500_000, 1, nil)
	v := f.Views.RunView(f.o.State.Runs[1], time.Now())
	if v.Frames != "1-999999/2" || v.FrameCount != 500_000 || v.Sets.Block < 2 ||
		len(v.Sets.ToDo)+len(v.Sets.Done) > 1000 {
		t.Errorf(
			"%s, %d frames in blocks of %d: to do %.80s, done %.80s", v.Frames, v.FrameCount, v.Sets.Block, v.Sets.ToDo,
			v.Sets.Done,
		)
	}
	var todo, done frames.Set
	if todo.UnmarshalText([]byte(v.Sets.ToDo)) != nil || done.UnmarshalText([]byte(v.Sets.Done)) != nil ||
		!todo.Has(999_999) ||
		!done.Has(1) ||
		done.Has(999_999) {
		t.Errorf("to do %.80s, done %.80s", v.Sets.ToDo, v.Sets.Done)
	}
}

// BenchmarkAlternatingRuns prints how long decisions of the loop take, at the 99th
// percentile and at most, with ten runs of ten million alternating frames (goal:
// 20 ms at the 99th percentile).
func BenchmarkAlternatingRuns(b *testing.B) {
	var heard timings
	f := alternating(b, 10, 10_000_000, 20, heard.hear)
	for b.Loop() {
		busy(b, f, 20, 10*time.Second)
		took := slices.Sorted(slices.Values(heard.took))
		b.ReportMetric(float64(took[len(took)*99/100].Microseconds())/1000, "p99-ms")
		b.ReportMetric(float64(took[len(took)-1].Microseconds())/1000, "most-ms")
		b.ReportMetric(float64(len(took)), "decisions")
		b.ReportMetric(0, "ns/op")
		b.Log("the slowest was", heard.slowest)
	}
}
