package floor

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
	"vexillum/internal/recipe"
	"vexillum/internal/service/fleet"
	"vexillum/internal/service/queue"
	"vexillum/internal/wire"
)

// crowdedFloor is a floor with many nodes, all of which work on one long run.
func crowdedFloor(b *testing.B, nodes int, took ...func(what fmt.Stringer, took time.Duration)) *Floor {
	b.Helper()
	book, err := recipe.Builtin()
	if err != nil {
		b.Fatal(err)
	}
	s := farm.NewState()
	now := time.Now()
	apply := func(records ...farm.Record) {
		for _, r := range records {
			if err := s.Apply(r); err != nil {
				b.Fatal(err)
			}
		}
	}
	apply(
		farm.PlaceSet{Name: "p"}, farm.ProjectSet{Name: "salt-clock", Weight: 1, Scenes: "p", Frames: "p"},
		farm.KeyIssued{Hash: "k", Uses: nodes, At: now, ExpiresAt: now.Add(time.Hour)},
	)
	all := frames.Of(frames.Span{First: 1, Last: 1_000_000})
	apply(
		farm.RunSubmitted{
			Run: 1, State: farm.RunRendering, Order: 1, At: now,
			Spec: farm.Spec{
				Job: "a", Project: "salt-clock", Kind: farm.Final, Number: 1, Recipe: "practice",
				Mode: farm.ModeRange, Frames: all, Tries: 3,
			},
		},
	)
	facts := farm.Facts{
		OS: "linux", Cores: 16, Speed: 1, Version: "0.1.0",
		Renderers: []farm.Renderer{{Recipe: "practice", Version: "1"}},
	}
	m := pace.New()
	for i := range nodes {
		id := farm.NodeID(i + 1)
		apply(
			farm.NodeEnrolled{
				Node: id, Name: fmt.Sprintf("kiln-%05d", i), Of: farm.Rack, Facts: facts, KeyHash: "k",
				At: now,
			},
			farm.NodeStarted{Node: id, Session: 1, Facts: facts, At: now},
		)
		first := 1 + 10*i
		apply(
			farm.LeaseOpened{
				Lease: farm.LeaseID(id), Node: id, Run: 1, Session: 1,
				Frames: frames.Of(frames.Span{First: first, Last: first + 4}), At: now,
			},
		)
	}
	m.Observe(s.Runs[1], s.Nodes[1], 1, farm.FrameAccepted{Run: 1, Frame: 1, RenderSeconds: 10, StartupSeconds: 1})
	o := Options{
		Committer: &memory{}, State: s, Pace: m, Recipes: book, Log: slog.New(slog.DiscardHandler), Now: time.Now,
		Version: "0.1.0", Active: wire.Active{},
	}
	for _, hear := range took {
		o.Took = hear
	}
	f := New(o)
	f.e.Begin(now)
	for id := range s.Nodes {
		frame := 1 + 10*(int(id)-1)
		f.e.Beat(id, map[farm.LeaseID]fleet.Progress{farm.LeaseID(id): {Frame: &frame, Phase: "rendering"}}, -1)
		f.Views.Live(id).Signs.DiskFree = -1
	}
	if _, err := f.e.Finish(); err != nil {
		b.Fatal(err)
	}
	return f
}

// BenchmarkTelling measures what the pages cost the loop, with 2,000 nodes at
// work: the view of the run they work on, of each node, and the line of facts.
func BenchmarkTelling(b *testing.B) {
	f := crowdedFloor(b, 2000)
	now := time.Now()
	b.Run("run", func(b *testing.B) {
		for b.Loop() {
			f.Views.RunView(f.o.State.Runs[1], now)
		}
	})
	b.Run("node", func(b *testing.B) {
		for b.Loop() {
			f.Views.NodeView(f.o.State.Nodes[77], now)
		}
	})
	b.Run("facts", func(b *testing.B) {
		for b.Loop() {
			f.Views.Facts(now, farm.Sight{})
		}
	})
	b.Run("forecast", func(b *testing.B) {
		for b.Loop() {
			f.Views.Forecast(f.o.State.Runs[1], now)
		}
	})
}

// BenchmarkAsking measures what a lease costs the loop that decides, with 64
// askers who tell the end of the leases before, and commits that cost nothing:
// one lease an answer, and 16 side by side.
func BenchmarkAsking(b *testing.B) {
	for _, c := range []struct {
		name  string
		takes farm.Amounts
	}{{"one an answer", farm.Amounts{}}, {"16 side by side", farm.Amounts{Cores: 1}}} {
		b.Run(c.name, func(b *testing.B) { benchmarkAsking(b, c.takes) })
	}
}

func benchmarkAsking(b *testing.B, takes farm.Amounts) {
	f := crowdedFloor(b, 64)
	for _, l := range f.o.State.Runs[1].Leases { // all are idle, and the run deals single frames
		if err := f.o.State.Apply(farm.LeaseEnded{Lease: l.ID, Node: l.Node, Run: 1, At: time.Now()}); err != nil {
			b.Fatal(err)
		}
	}
	f.o.State.Runs[1].Spec.Chunk, f.o.State.Runs[1].Spec.Takes = 1, takes
	ctx, stop := context.WithCancel(b.Context())
	defer stop()
	go func() { _ = f.Run(ctx) }()
	var left atomic.Int64
	left.Store(int64(b.N))
	b.ResetTimer()
	var wg sync.WaitGroup
	for id := range f.o.State.Nodes {
		wg.Go(func() {
			var before []fleet.Ended
			for number := int64(1); left.Load() > 0; number++ {
				a, err := f.Fleet.Ask(ctx, id, fleet.Question{Session: 1, Number: number, Ended: before})
				if err != nil || len(a.Leases) == 0 {
					b.Error(a.Why, err)
					return
				}
				before = nil
				for _, l := range a.Leases {
					before = append(before, fleet.Ended{Lease: l.ID})
				}
				left.Add(-int64(len(a.Leases)))
			}
		})
	}
	wg.Wait()
}

// BenchmarkEndedRuns measures what a submit, a look for a run by its name, the
// picture that a page gets first, and a change that pages are told cost the loop,
// with no run that has ended and with 20,000.
func BenchmarkEndedRuns(b *testing.B) {
	for _, ended := range []int{0, 20_000} {
		b.Run(fmt.Sprint(ended, " ended"), func(b *testing.B) {
			f := crowdedFloor(b, 20)
			now := time.Now()
			for i := range ended {
				id := f.o.State.LastRun + 1
				spec := farm.Spec{
					Job:     fmt.Sprintf("salt_%05d", i),
					Project: "salt-clock", Kind: farm.Final, Number: 1, Recipe: "practice",
					Output: fmt.Sprintf("salt_%05d/final-1", i), Frames: frames.One(1), Tries: 3,
				}
				for _, r := range []farm.Record{
					farm.RunSubmitted{Run: id, Spec: spec, State: farm.RunQueued, Order: int64(id), At: now},
					farm.RunMoved{Run: id, State: farm.RunCancelled, At: now.Add(time.Duration(i))},
				} {
					if err := f.o.State.Apply(r); err != nil {
						b.Fatal(err)
					}
				}
			}
			ctx, stop := context.WithCancel(b.Context())
			defer stop()
			go func() { _ = f.Run(ctx) }()
			n := 0
			for _, c := range []struct {
				what string
				do   func() error
			}{
				{"submit", func() error {
					n++
					_, err := f.Queue.Submit(ctx, queue.Submission{Actor: "nadia", Spec: farm.Spec{
						Job: fmt.Sprint("new_", n), Project: "salt-clock", Kind: farm.Final, Recipe: "practice", Mode: farm.ModeRange,
						Output: fmt.Sprint("new_", n), Frames: frames.One(1), Tries: 3, Width: 1, Height: 1,
					}, Held: true})
					return err
				}},
				{"by-name", func() error { _, err := f.Views.RunsNamed(ctx, "a/final-1", farm.Sight{}); return err }},
				{"first-picture", func() error {
					l, _, err := f.Views.Follow(ctx, f.o.State.Seq, farm.Sight{})
					f.Views.Unfollow(l)
					return err
				}},
				{"farm", func() error { _, err := f.Views.Farm(ctx, farm.Sight{}); return err }},
			} {
				const times = 50
				began := time.Now()
				for range times {
					if err := c.do(); err != nil {
						b.Fatal(c.what, err)
					}
				}
				b.ReportMetric(float64(time.Since(began).Microseconds())/times, "µs/"+c.what)
			}
			b.ReportMetric(0, "ns/op")
		})
	}
}
