package deal

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
	"vexillum/internal/core/protocol/accept"
	"vexillum/internal/core/triage"
)

var start = time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)

// world is a farm under test with the steps that a service would take.
type world struct {
	t    *testing.T
	s    *farm.State
	m    *pace.Model
	d    *Dealer
	seen map[farm.LeaseID]Sight
	now  time.Time
	asks int64
}

func newWorld(t *testing.T, speeds ...float64) *world {
	b := &world{t: t, s: farm.NewState(), m: pace.New(), seen: map[farm.LeaseID]Sight{}, now: start}
	b.d = New(b.s, b.m, func(l *farm.Lease) Sight { return b.seen[l.ID] })
	b.apply(farm.KeyIssued{Hash: "k", Uses: len(speeds), At: start, ExpiresAt: start.Add(time.Hour)})
	for i, speed := range speeds {
		id := farm.NodeID(i + 1)
		facts := farm.Facts{Speed: speed, Renderers: []farm.Renderer{{Recipe: "practice"}}}
		b.apply(
			farm.NodeEnrolled{
				Node: id, Name: fmt.Sprintf("kiln-%02d", id), Of: farm.Rack, Facts: facts, KeyHash: "k",
				At: start,
			},
		)
		b.apply(farm.NodeStarted{Node: id, Session: 1, Facts: facts, At: start})
	}
	return b
}

// observe lets the farm learn that a node has rendered a frame.
func (b *world) observe(n farm.NodeID, rec farm.FrameAccepted) {
	b.m.Observe(b.s.Runs[rec.Run], b.s.Nodes[n], 1, rec)
}

func (b *world) apply(records ...farm.Record) {
	b.t.Helper()
	for _, r := range records {
		if err := b.s.Apply(r); err != nil {
			b.t.Fatal(err)
		}
	}
	if err := b.s.Check(); err != nil {
		b.t.Fatalf("after %T: %v", records[len(records)-1], err)
	}
}

func (b *world) submit(job, recipe string, mode farm.Mode, set string, state farm.RunState) farm.RunID {
	b.t.Helper()
	f, err := frames.Parse(set)
	if err != nil {
		b.t.Fatal(err)
	}
	id := b.s.LastRun + 1
	b.apply(farm.RunSubmitted{Run: id, State: state, Order: b.s.LastOrder + 1, At: b.now, Spec: farm.Spec{
		Job: job, Kind: farm.Final, Number: b.s.NextNumber("", job, farm.Final), Recipe: recipe, Mode: mode,
		Frames: f, Tries: 3,
	}})
	return id
}

func (b *world) ask(n farm.NodeID, warm farm.LeaseID) Decision {
	b.t.Helper()
	b.asks++
	d := b.d.Next(Ask{Node: n, Number: b.asks, Warm: warm}, b.now)
	if d.Why == "" {
		b.t.Fatalf("node %d got no reason", n)
	}
	if len(d.Records) > 0 {
		b.apply(d.Records...)
	}
	return d
}

func (b *world) lease(d Decision) *farm.Lease {
	b.t.Helper()
	switch r := append(d.Records, nil)[0].(type) {
	case farm.LeaseOpened:
		return b.s.Lease(r.Lease)
	case farm.LeaseExtended:
		return b.s.Lease(r.Lease)
	}
	b.t.Fatalf("no lease: %s", d.Why)
	return nil
}

func (b *world) finish(l *farm.Lease, f int) {
	b.t.Helper()
	b.apply(
		farm.FrameAccepted{Run: l.Run, Frame: f, Lease: l.ID, Node: l.Node, Hash: "h", At: b.now, RenderSeconds: 1},
		farm.FrameDone{Run: l.Run, Frame: f, Lease: l.ID, Node: l.Node, Hash: "h", At: b.now},
	)
}

func TestSharesFollowSpeed(t *testing.T) {
	b := newWorld(t, 3, 1)
	b.submit("salt_010", "practice", farm.ModeRange, "1-80", farm.RunQueued)
	fast := b.lease(b.ask(1, 0))
	slow := b.lease(b.ask(2, 0))
	if fast.Given.String() != "1-60" || slow.Given.String() != "61-80" {
		t.Errorf("fast got %v, slow %v; want 3/4 and 1/4 of 80", fast.Given, slow.Given)
	}
	if b.s.Runs[1].State != farm.RunRendering {
		t.Errorf("the run is %s", b.s.Runs[1].State)
	}
}

// TestWhoWouldEndLastIsPassedOver has few frames left, and a node that would
// need longer for one of them than others for all.
func TestWhoWouldEndLastIsPassedOver(t *testing.T) {
	for _, mode := range []farm.Mode{farm.ModeRange, farm.ModeFeed, farm.ModeSingle} {
		b := newWorld(t, 0.05, 1)
		id := b.submit("salt_010", "practice", mode, "1-6", farm.RunQueued)
		for f := 1; f <= 3; f++ {
			b.observe(2, farm.FrameAccepted{Run: id, Frame: f, RenderSeconds: 10, StartupSeconds: 2})
		}
		d := b.ask(1, 0)
		if len(d.Records) > 0 || !strings.Contains(d.Why, "kiln-01 is passed over for salt_010/final-1") {
			t.Errorf("%s: the slow node gets %v: %s", mode, d.Records, d.Why)
		}
		if l := b.lease(b.ask(2, 0)); mode == farm.ModeRange && l.Given.Len() != 6 {
			t.Errorf("%s: the fast node got %v, want all", mode, l.Given)
		}
	}
}

func TestWhatANodeGets(t *testing.T) {
	for _, c := range []struct {
		name  string
		setUp func(b *world)
		want  string // frames of the lease, "" for none
		why   string
	}{
		{"an empty queue", func(b *world) {}, "", "queue is empty"},
		{"a held run", func(b *world) {
			b.submit(
				"a", "practice", farm.ModeRange, "1-9", farm.RunHeld,
			)
		}, "", "a/final-1 is held"},
		{"a renderer that it lacks", func(b *world) { b.submit("a", "povray", farm.ModeRange, "1-9", farm.RunQueued) }, "", "needs povray, which kiln-01 does not have"},
		{"one frame by one", func(b *world) { b.submit("a", "practice", farm.ModeSingle, "5-9", farm.RunQueued) }, "7", "far from those that are dealt"},
		{"one frame of a feed", func(b *world) { b.submit("a", "practice", farm.ModeFeed, "5-9", farm.RunQueued) }, "7", "far from those that are dealt"},
		{"the whole", func(b *world) { b.submit("a", "practice", farm.ModeWhole, "5-9", farm.RunQueued) }, "5-9", "in one go"},
		{"the first in the queue", func(b *world) {
			b.submit("a", "practice", farm.ModeWhole, "1-3", farm.RunHeld)
			b.submit("b", "practice", farm.ModeWhole, "4-6", farm.RunQueued)
			b.submit("c", "practice", farm.ModeWhole, "7-9", farm.RunQueued)
		}, "4-6", "in one go"},
		{"nothing while held", func(b *world) {
			b.submit("a", "practice", farm.ModeWhole, "1-3", farm.RunQueued)
			b.apply(farm.NodeDuty{Node: 1, Duty: farm.Held, At: b.now})
		}, "", "kiln-01 is held"},
		{"nothing while silent", func(b *world) {
			b.submit("a", "practice", farm.ModeWhole, "1-3", farm.RunQueued)
			b.apply(farm.NodeReach{Node: 1, Reach: farm.Silent, At: b.now})
		}, "", "kiln-01 is silent"},
	} {
		t.Run(c.name, func(t *testing.T) {
			b := newWorld(t, 1, 1)
			c.setUp(b)
			d := b.ask(1, 0)
			got := ""
			if len(d.Records) > 0 {
				got = b.lease(d).Given.String()
			}
			if got != c.want || !strings.Contains(d.Why, c.why) {
				t.Errorf("got %q because %q; want %q because %q", got, d.Why, c.want, c.why)
			}
		})
	}
}

func TestSingleFramesGoOutByTheShortWhile(t *testing.T) {
	b := newWorld(t, 2, 1)
	id := b.submit("a", "practice", farm.ModeSingle, "1-300", farm.RunQueued)
	for f := 10; f <= 300; f += 4 { // 8 reference seconds each
		b.observe(1, farm.FrameAccepted{Run: id, Frame: f, RenderSeconds: 4})
	}
	b.observe(1, farm.FrameAccepted{Run: id, Frame: 1, RenderSeconds: 4, StartupSeconds: 1})
	if l := b.lease(b.ask(1, 0)); l.Given.Len() < 3 || l.Given.Len() > 4 {
		t.Errorf("the fast node got %v, want as many frames of 1 + 8/2 s as fit into 20 s", l.Given)
	}
	if l := b.lease(b.ask(2, 0)); l.Given.Len() != 2 {
		t.Errorf("the slow node got %v, want 2 frames of 1 + 8 s", l.Given)
	}
}

// TestLeasesThatGoOn asks for further frames on a lease: one whose renderer is
// up and one of single launches are extended, and a range is not.
func TestLeasesThatGoOn(t *testing.T) {
	for mode, extended := range map[farm.Mode]bool{farm.ModeFeed: true, farm.ModeSingle: true, farm.ModeRange: false} {
		b := newWorld(t, 1)
		b.submit("a", "practice", mode, "1-9", farm.RunQueued)
		b.s.Runs[1].Spec.Chunk = 2
		l := b.lease(b.ask(1, 0))
		d := b.ask(1, l.ID)
		more := 0
		for _, r := range d.Records {
			if e, ok := r.(farm.LeaseExtended); ok && e.Lease == l.ID {
				more += e.Frames.Len()
			}
		}
		if (more > 0) != extended {
			t.Errorf("%s: %+v because %s", mode, d.Records, d.Why)
		}
	}
}

// TestASingleLaunchNeedsRoom extends a lease of single launches only as long as
// its node has memory and cores for another.
func TestASingleLaunchNeedsRoom(t *testing.T) {
	for name, c := range map[string]struct {
		free  int64 // GiB
		caps  farm.Caps
		alone bool   // the other lease has ended
		why   string // it is not extended
	}{
		"all as before":               {20, farm.Caps{}, false, ""},
		"other leases have grown":     {3, farm.Caps{}, false, "is expected to take 4.0 GiB"},
		"fewer cores are offered":     {20, farm.Caps{Cores: 1}, false, "0 of kiln-01 are free"},
		"its core is not offered now": {20, farm.Caps{Cores: 1}, true, "no longer offers what lease 2 owns"},
		"fewer leases are wanted":     {20, farm.Caps{Leases: 1}, false, "no more are allowed"},
	} {
		t.Run(name, func(t *testing.T) {
			s := sharedFarm(
				t, farm.Facts{Cores: 4, MemoryBytes: 32 * gib}, farm.Caps{},
				farm.Amounts{Cores: 1, MemoryBytes: 4 * gib},
			)
			m := pace.New()
			ask := func(a Ask) Decision {
				d := New(s, m, nil).Next(a, time.Now())
				put(t, s, d.Records...)
				return d
			}
			full := &capacity.Memory{Free: 28 * gib, Used: map[farm.LeaseID]int64{1: 4 * gib}}
			ask(Ask{Node: 1, Number: 1, Memory: full})
			ask(Ask{Node: 1, Number: 2, Memory: full})
			put(t, s, farm.NodeSet{Node: 1, Version: 2, Settings: farm.Settings{Caps: c.caps}})
			if c.alone {
				put(t, s, farm.LeaseEnded{Lease: 1, Node: 1, Run: 1})
			}
			d := ask(
				Ask{
					Node: 1, Number: 3, Warm: 2,
					Memory: &capacity.Memory{Free: c.free * gib, Used: map[farm.LeaseID]int64{1: 4 * gib}},
				},
			)
			if extended := len(d.Records) > 0; extended != (c.why == "") || !strings.Contains(d.Why, c.why) {
				t.Errorf("%+v because %q, want %q", d.Records, d.Why, c.why)
			}
		})
	}
}

func TestFixedChunks(t *testing.T) {
	b := newWorld(t, 1, 1)
	b.submit("a", "practice", farm.ModeRange, "1-25", farm.RunQueued)
	b.s.Runs[1].Spec.Chunk = 10
	for _, want := range []string{"1-10", "11-20", "21-25"} {
		l := b.lease(b.ask(1, 0))
		if l.Given.String() != want {
			t.Errorf("got %v, want %s", l.Given, want)
		}
		b.apply(farm.LeaseEnded{Lease: l.ID, Node: 1, Run: 1, At: b.now})
		b.s.Runs[1].ToDo = b.s.Runs[1].ToDo.Minus(l.Given) // as if they were done
		b.s.Runs[1].Done = b.s.Runs[1].Done.Union(l.Given)
	}
}

func TestFeedLeaseGoesOn(t *testing.T) {
	b := newWorld(t, 1)
	b.submit("a", "practice", farm.ModeFeed, "1-3", farm.RunQueued)
	l := b.lease(b.ask(1, 0))
	for left := 2; ; left-- {
		b.finish(l, l.Left.First())
		d := b.ask(1, l.ID)
		if left == 0 {
			if len(d.Records) > 0 {
				t.Errorf("got %v after the last frame", d.Records)
			}
			break
		}
		if got := b.lease(d); got != l || got.Left.Len() != 1 {
			t.Errorf("with %d frames left: lease %d with %v", left, got.ID, got.Left)
		}
	}
}

func TestFailedFrameGoesElsewhere(t *testing.T) {
	b := newWorld(t, 1, 1)
	b.submit("a", "practice", farm.ModeSingle, "1-2", farm.RunQueued)
	l := b.lease(b.ask(1, 0))
	b.apply(triage.Failed(b.s, triage.Failure{Lease: l.ID, Launch: 1, Frame: 1, Cause: triage.CauseCrash}, b.now)...)
	b.apply(farm.LeaseEnded{Lease: l.ID, Node: 1, Run: 1, At: b.now})
	if l := b.lease(b.ask(1, 0)); l.Given.String() != "2" {
		t.Errorf("kiln-01 got %v although it failed frame 1", l.Given)
	}
	if l := b.lease(b.ask(2, 0)); l.Given.String() != "1" {
		t.Errorf("kiln-02 got %v, want frame 1", l.Given)
	}
}

func TestFailedFrameComesBackWhereThereIsNoOtherNode(t *testing.T) {
	b := newWorld(t, 1)
	b.submit("a", "practice", farm.ModeSingle, "1", farm.RunQueued)
	for try := 1; try <= 3; try++ {
		l := b.lease(b.ask(1, 0))
		b.apply(
			triage.Failed(b.s, triage.Failure{Lease: l.ID, Launch: 1, Frame: 1, Cause: triage.CauseCrash}, b.now)...)
		b.apply(farm.LeaseEnded{Lease: l.ID, Node: 1, Run: 1, At: b.now})
	}
	run := b.s.Runs[1]
	if state, settled := run.Settled(); run.Parked.String() != "1" || !settled || state != farm.RunFailed {
		t.Errorf("parked %v, settled %v as %q", run.Parked, settled, state)
	}
}

// TestNoFrameTwiceNoneForgotten lets random farms work in random order, with
// failures, silence, holds and late answers, until every run has settled.
func TestNoFrameTwiceNoneForgotten(t *testing.T) {
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 3))
		var speeds []float64
		for range 1 + r.IntN(6) {
			speeds = append(speeds, 0.2+3*r.Float64())
		}
		b := newWorld(t, speeds...)
		modes := []farm.Mode{farm.ModeRange, farm.ModeSingle, farm.ModeFeed, farm.ModeWhole}
		for i := range 1 + r.IntN(3) {
			set := []string{"1-60", "1-90/3", "-5-20", "1,4,9-30", "7"}[r.IntN(5)]
			b.submit(fmt.Sprintf("job%d", i), "practice", modes[r.IntN(4)], set, farm.RunQueued)
		}
		results := map[farm.RunID]map[int]int{}
		for step := 0; ; step++ {
			if step > 20_000 {
				t.Fatalf("seed %d: not settled after %d steps", seed, step)
			}
			b.now = b.now.Add(time.Second)
			b.randomStep(r, results)
			for _, run := range b.s.Queue() {
				if state, settled := run.Settled(); settled {
					for l := range run.OpenLeases {
						b.apply(farm.LeaseEnded{Lease: l.ID, Node: l.Node, Run: run.ID, At: b.now})
					}
					b.apply(farm.RunMoved{Run: run.ID, State: state, At: b.now})
				}
			}
			if len(b.s.Queue()) == 0 {
				break
			}
		}
		for id, run := range b.s.Runs {
			for f := range run.Spec.Frames.All() {
				if got := results[id][f]; got != 1 && !run.Parked.Has(f) || got > 1 {
					t.Fatalf("seed %d: frame %d of run %d counted %d times", seed, f, id, got)
				}
			}
		}
	}
}

func (b *world) randomStep(r *rand.Rand, results map[farm.RunID]map[int]int) {
	n := b.s.Nodes[farm.NodeID(1+r.IntN(len(b.s.Nodes)))]
	leases := b.s.LeasesOf(n.ID)
	switch {
	case n.Reach == farm.Silent:
		if r.IntN(3) == 0 {
			records, _ := accept.Start(b.s, n, n.Facts, nil, b.now)
			b.apply(records...)
		}
	case r.IntN(40) == 0:
		b.apply(farm.NodeReach{Node: n.ID, Reach: farm.Silent, At: b.now})
	case len(leases) == 0:
		b.ask(n.ID, 0)
	default:
		l := leases[0]
		run := b.s.Runs[l.Run]
		if l.Left.Empty() {
			if d := b.ask(n.ID, l.ID); run.Spec.Mode != farm.ModeFeed || len(d.Records) == 0 {
				if l.Open() && l.Left.Empty() {
					b.apply(farm.LeaseEnded{Lease: l.ID, Node: n.ID, Run: l.Run, At: b.now})
				}
			}
			return
		}
		f := l.Left.First()
		if r.IntN(8) == 0 {
			b.apply(
				triage.Failed(
					b.s, triage.Failure{Lease: l.ID, Launch: int(b.now.Unix()), Frame: f, Cause: triage.CauseCrash},
					b.now,
				)...)
			return
		}
		if !run.Wants(f) {
			b.t.Fatalf("frame %d is leased but not wanted", f)
		}
		b.finish(l, f)
		if results[l.Run] == nil {
			results[l.Run] = map[int]int{}
		}
		results[l.Run][f]++
	}
}

func TestWhySentences(t *testing.T) {
	b := newWorld(t, 1)
	if why := b.d.WhyNode(b.s.Nodes[1], b.now); why != "is ready, but the queue is empty" {
		t.Errorf("nothing to do: %s", why)
	}
	b.submit("a", "practice", farm.ModeWhole, "1-3", farm.RunQueued)
	b.submit("b", "practice", farm.ModeWhole, "1-3", farm.RunQueued)
	b.submit("c", "povray", farm.ModeRange, "1-3", farm.RunQueued)
	b.submit("d", "practice", farm.ModeRange, "1-3", farm.RunHeld)
	if why := b.d.WhyNode(b.s.Nodes[1], b.now); !strings.Contains(why, "ready") {
		t.Errorf("idle node: %s", why)
	}
	b.ask(1, 0)
	for run, want := range map[farm.RunID]string{2: "waits its turn", 3: "no node has povray", 4: "release it to start"} {
		if why := whyRun(b.s, b.s.Runs[run]); !strings.Contains(why, want) {
			t.Errorf("run %d: %q, want %q", run, why, want)
		}
	}
	if why := b.d.WhyNode(b.s.Nodes[1], b.now); !strings.Contains(why, "renders a/final-1") {
		t.Errorf("busy node: %s", why)
	}
	for _, c := range []struct {
		record farm.Record
		want   string
	}{
		{farm.NodeDuty{Node: 1, Duty: farm.Held, At: b.now}, "is held; release it"},
		{farm.NodeDuty{Node: 1, Duty: farm.Draining, At: b.now}, "draining"},
		{farm.NodeDuty{Node: 1, Duty: farm.OffDuty, At: b.now}, "off duty"},
		{farm.NodeReach{Node: 1, Reach: farm.Silent, At: b.now}, "not been heard from"},
	} {
		b := newWorld(t, 1)
		b.apply(c.record)
		if why := b.d.WhyNode(b.s.Nodes[1], b.now); !strings.Contains(why, c.want) {
			t.Errorf("%+v: %q, want %q", c.record, why, c.want)
		}
		b.submit("a", "practice", farm.ModeRange, "1", farm.RunQueued)
		if why := whyRun(b.s, b.s.Runs[1]); !strings.Contains(why, "no node that has practice is ready") {
			t.Errorf("%+v: run: %q", c.record, why)
		}
	}
}

// TestATurnLeavesNoCrumbs has two people whose runs take turns of a minute: what
// is little more than a turn is given as one, and what is much more is not.
func TestATurnLeavesNoCrumbs(t *testing.T) {
	for set, want := range map[string]string{"1-40": "1-40", "1-62": "1-62", "1-90": "1-60"} {
		b := newWorld(t, 1)
		b.submit("a", "practice", farm.ModeRange, set, farm.RunQueued)
		other := b.submit("b", "practice", farm.ModeRange, "1-90", farm.RunQueued)
		b.s.Runs[other].Spec.Owner = "oskar"
		d := b.ask(1, 0)
		if got := b.lease(d).Given.String(); got != want {
			t.Errorf("of %s it gets %s, want %s: %s", set, got, want, d.Why)
		}
		if set == "1-90" && !strings.Contains(d.Why, "its share for this turn") {
			t.Errorf("it says %q", d.Why)
		}
	}
}
