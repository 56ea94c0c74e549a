package deal_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
	"vexillum/internal/testkit/smallfarm"
)

// night is a large farm in the middle of its work: nodes of unlike speed in
// pools, and open runs of three projects in all modes.
type night struct {
	s     *farm.State
	m     *pace.Model
	d     *deal.Dealer
	r     *rand.Rand
	begun map[farm.LeaseID]time.Time
	now   time.Time
	asks  int64
}

func newNight(b *testing.B, nodes, runs int) *night {
	w := &night{
		s: farm.NewState(), m: pace.New(), r: rand.New(rand.NewPCG(1, 2)),
		begun: map[farm.LeaseID]time.Time{}, now: smallfarm.Start,
	}
	for i, p := range []string{"salt-clock", "tidal-room", "gannet"} {
		w.apply(b, farm.PlaceSet{Name: "scenes"}, farm.ProjectSet{Name: p, Weight: float64(i + 1), Scenes: "scenes"})
	}
	w.apply(b, farm.PoolSet{Name: "graphics", Projects: []string{"tidal-room"}})
	for id := farm.NodeID(1); id <= farm.NodeID(nodes); id++ {
		n := &farm.Node{
			ID: id, Name: fmt.Sprint("kiln-", id), Reach: farm.Online, Duty: farm.OnDuty,
			Health: farm.Fine, Session: 1,
			Facts: farm.Facts{
				Speed: 0.5 + 2*w.r.Float64(), Renderers: []farm.Renderer{{Recipe: "practice"}, {Recipe: "povray"}},
			},
		}
		if id%10 == 0 {
			n.Settings.Pools = []string{"graphics"}
		}
		w.s.PutNode(n)
	}
	w.d = deal.New(w.s, w.m, func(l *farm.Lease) deal.Sight {
		return deal.Sight{Begun: !l.Left.Empty(), Frame: first(l.Left), Seconds: w.now.Sub(w.begun[l.ID]).Seconds()}
	})
	modes := []farm.Mode{farm.ModeRange, farm.ModeFeed, farm.ModeSingle, farm.ModeRange}
	for i := range runs {
		mode := modes[i%4]
		set := frames.Of(frames.Span{First: 1, Last: 500 + w.r.IntN(2000)})
		spec := farm.Spec{
			Job: fmt.Sprint("salt_", i), Project: []string{"salt-clock", "tidal-room", "gannet"}[i%3],
			Owner: fmt.Sprint("artist-", i%20), Kind: farm.Final, Number: 1,
			Recipe: []string{"practice", "povray"}[i%2], Mode: mode, Frames: set, Tries: 3,
		}
		spec.Level = []farm.Level{farm.Normal, farm.Normal, farm.High, farm.Low}[(i/4)%4]
		w.apply(
			b, farm.RunSubmitted{Run: farm.RunID(i + 1), Spec: spec, State: farm.RunQueued, Order: int64(i), At: w.now},
		)
		for f := 1; f < 400; f += 50 { // something is known of it
			w.m.Observe(
				w.s.Runs[farm.RunID(i+1)], w.s.Nodes[farm.NodeID(1+w.r.IntN(nodes))], 1,
				farm.FrameAccepted{Frame: f, RenderSeconds: 20 + 10*w.r.Float64(), StartupSeconds: float64(f%2) * 8},
			)
		}
	}
	return w
}

func first(set frames.Set) int {
	if set.Empty() {
		return 0
	}
	return set.First()
}

func (w *night) apply(b *testing.B, records ...farm.Record) {
	for _, r := range records {
		if err := w.s.Apply(r); err != nil {
			b.Fatal(err)
		}
	}
}

// ask lets a node ask, and returns how long the decision took.
func (w *night) ask(b *testing.B, id farm.NodeID) time.Duration {
	w.asks++
	began := time.Now()
	d := w.d.Next(deal.Ask{Node: id, Number: w.asks}, w.now)
	took := time.Since(began)
	w.apply(b, d.Records...)
	for _, r := range d.Records {
		if o, ok := r.(farm.LeaseOpened); ok {
			w.begun[o.Lease] = w.now
		}
	}
	return took
}

// BenchmarkDecision measures decisions with 10,000 nodes and 1,000 open runs
// while frames and leases end: all that is decided is applied, so that nothing
// stands still. Goal: 50 µs in the median, 1 ms for 99 of 100.
func BenchmarkDecision(b *testing.B) {
	for range b.N {
		const nodes, runs = 10_000, 1000
		w := newNight(b, nodes, runs)
		var filling, all []time.Duration
		for id := range nodes { // an evening: all are idle at first
			filling = append(filling, w.ask(b, farm.NodeID(id+1)))
		}
		for range 30_000 {
			w.now = w.now.Add(2 * time.Millisecond)
			id := farm.NodeID(1 + w.r.IntN(nodes))
			leases := w.s.LeasesOf(id)
			if len(leases) == 0 {
				all = append(all, w.ask(b, id))
				continue
			}
			l := leases[0]
			run := w.s.Runs[l.Run]
			f := l.Left.First()
			done := farm.FrameAccepted{
				Run: run.ID, Frame: f, Lease: l.ID, Node: id, Hash: "-",
				RenderSeconds: 20 + 10*w.r.Float64(), At: w.now,
			}
			w.apply(b, done, farm.FrameDone{Run: run.ID, Frame: f, Lease: l.ID, Node: id, Hash: "-", At: w.now})
			w.m.Observe(run, w.s.Nodes[id], 1, done)
			w.d.Receive(run.Spec.Project, run.Spec.Owner, 25, w.now)
			w.begun[l.ID] = w.now
			if l.Left.Empty() || w.r.IntN(3) == 0 { // as if it were the last of its lease
				w.apply(b, farm.LeaseEnded{Lease: l.ID, Node: id, Run: l.Run, At: w.now})
				all = append(all, w.ask(b, id))
			}
		}
		for name, took := range map[string][]time.Duration{"evening": filling, "night": all} {
			slices.Sort(took)
			b.ReportMetric(float64(took[len(took)/2].Nanoseconds())/1000, "µs-median-"+name)
			b.ReportMetric(float64(took[len(took)*99/100].Nanoseconds())/1000, "µs-p99-"+name)
		}
		b.ReportMetric(0, "ns/op")
	}
}
