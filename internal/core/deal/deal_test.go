package deal_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/pace"
	"vexillum/internal/core/protocol/accept"
	"vexillum/internal/core/triage"
	"vexillum/internal/testkit/smallfarm"
)

func TestSharesFollowSpeed(t *testing.T) {
	b := smallfarm.New(t, 3, 1)
	b.Submit("salt_010", "practice", farm.ModeRange, "1-80", farm.RunQueued)
	fast := b.Lease(b.Ask(1, 0))
	slow := b.Lease(b.Ask(2, 0))
	if fast.Given.String() != "1-60" || slow.Given.String() != "61-80" {
		t.Errorf("fast got %v, slow %v; want 3/4 and 1/4 of 80", fast.Given, slow.Given)
	}
	if b.State.Runs[1].State != farm.RunRendering {
		t.Errorf("the run is %s", b.State.Runs[1].State)
	}
}

// TestWhoWouldEndLastIsPassedOver has few frames left, and a node that would
// need longer for one of them than others for all.
func TestWhoWouldEndLastIsPassedOver(t *testing.T) {
	for _, mode := range []farm.Mode{farm.ModeRange, farm.ModeFeed, farm.ModeSingle} {
		b := smallfarm.New(t, 0.05, 1)
		id := b.Submit("salt_010", "practice", mode, "1-6", farm.RunQueued)
		for f := 1; f <= 3; f++ {
			b.Observe(2, farm.FrameAccepted{Run: id, Frame: f, RenderSeconds: 10, StartupSeconds: 2})
		}
		d := b.Ask(1, 0)
		if len(d.Records) > 0 || !strings.Contains(d.Why, "kiln-01 is passed over for salt_010/final-1") {
			t.Errorf("%s: the slow node gets %v: %s", mode, d.Records, d.Why)
		}
		if l := b.Lease(b.Ask(2, 0)); mode == farm.ModeRange && l.Given.Len() != 6 {
			t.Errorf("%s: the fast node got %v, want all", mode, l.Given)
		}
	}
}

// TestWhoHasMuchToGetIsPassedOver has a node without the files of a run, beside one that
// has done all before they could be there; and where it is worth it, gets them.
func TestWhoHasMuchToGetIsPassedOver(t *testing.T) {
	for _, mode := range []farm.Mode{farm.ModeRange, farm.ModeFeed, farm.ModeSingle} {
		for line, passed := range map[int64]bool{1 << 20: true, 1 << 30: false} {
			b := smallfarm.New(t, 1, 1)
			b.State.Nodes[1].Facts.NetworkRate = line
			id := b.Submit("salt_010", "practice", mode, "1-9", farm.RunQueued)
			b.State.Runs[id].Spec.Bundle, b.State.Runs[id].Spec.BundleBytes = "a", 1<<30
			for f := 1; f <= 3; f++ {
				b.Observe(2, farm.FrameAccepted{Run: id, Frame: f, RenderSeconds: 10, StartupSeconds: 2})
			}
			d := b.Ask(1, 0)
			says := strings.Contains(d.Why, "kiln-01 is passed over for salt_010/final-1") &&
				strings.Contains(d.Why, "with 1.0 GiB of the scene to get first")
			if passed != says || passed != (len(d.Records) == 0) {
				t.Errorf("%s, %d bytes a second: %v, %s", mode, line, d.Records, d.Why)
			}
		}
	}
}

func TestWhatANodeGets(t *testing.T) {
	for _, c := range []struct {
		name  string
		setUp func(b *smallfarm.Farm)
		want  string // frames of the lease, "" for none
		why   string
	}{
		{"an empty queue", func(_ *smallfarm.Farm) {}, "", "queue is empty"},
		{"a held run", func(b *smallfarm.Farm) {
			b.Submit(
				"a", "practice", farm.ModeRange, "1-9", farm.RunHeld,
			)
		}, "", "a/final-1 is held"},
		{"a renderer that it lacks", func(b *smallfarm.Farm) { b.Submit("a", "povray", farm.ModeRange, "1-9", farm.RunQueued) }, "", "needs povray, which kiln-01 does not have"},
		{"one frame by one", func(b *smallfarm.Farm) { b.Submit("a", "practice", farm.ModeSingle, "5-9", farm.RunQueued) }, "7", "far from those that are dealt"},
		{"one frame of a feed", func(b *smallfarm.Farm) { b.Submit("a", "practice", farm.ModeFeed, "5-9", farm.RunQueued) }, "7", "far from those that are dealt"},
		{"the whole", func(b *smallfarm.Farm) { b.Submit("a", "practice", farm.ModeWhole, "5-9", farm.RunQueued) }, "5-9", "in one go"},
		{"the first in the queue", func(b *smallfarm.Farm) {
			b.Submit("a", "practice", farm.ModeWhole, "1-3", farm.RunHeld)
			b.Submit("b", "practice", farm.ModeWhole, "4-6", farm.RunQueued)
			b.Submit("c", "practice", farm.ModeWhole, "7-9", farm.RunQueued)
		}, "4-6", "in one go"},
		{"nothing while held", func(b *smallfarm.Farm) {
			b.Submit("a", "practice", farm.ModeWhole, "1-3", farm.RunQueued)
			b.Apply(farm.NodeDuty{Node: 1, Duty: farm.Held, At: b.Now})
		}, "", "kiln-01 is held"},
		{"nothing while silent", func(b *smallfarm.Farm) {
			b.Submit("a", "practice", farm.ModeWhole, "1-3", farm.RunQueued)
			b.Apply(farm.NodeReach{Node: 1, Reach: farm.Silent, At: b.Now})
		}, "", "kiln-01 is silent"},
	} {
		t.Run(c.name, func(t *testing.T) {
			b := smallfarm.New(t, 1, 1)
			c.setUp(b)
			d := b.Ask(1, 0)
			got := ""
			if len(d.Records) > 0 {
				got = b.Lease(d).Given.String()
			}
			if got != c.want || !strings.Contains(d.Why, c.why) {
				t.Errorf("got %q because %q; want %q because %q", got, d.Why, c.want, c.why)
			}
		})
	}
}

func TestSingleFramesGoOutByTheShortWhile(t *testing.T) {
	b := smallfarm.New(t, 2, 1)
	id := b.Submit("a", "practice", farm.ModeSingle, "1-300", farm.RunQueued)
	for f := 10; f <= 300; f += 4 { // 8 reference seconds each
		b.Observe(1, farm.FrameAccepted{Run: id, Frame: f, RenderSeconds: 4})
	}
	b.Observe(1, farm.FrameAccepted{Run: id, Frame: 1, RenderSeconds: 4, StartupSeconds: 1})
	if l := b.Lease(b.Ask(1, 0)); l.Given.Len() < 3 || l.Given.Len() > 4 {
		t.Errorf("the fast node got %v, want as many frames of 1 + 8/2 s as fit into 20 s", l.Given)
	}
	if l := b.Lease(b.Ask(2, 0)); l.Given.Len() != 2 {
		t.Errorf("the slow node got %v, want 2 frames of 1 + 8 s", l.Given)
	}
}

// TestLeasesThatGoOn asks for further frames on a lease: one whose renderer is
// up and one of single launches are extended, and a range is not.
func TestLeasesThatGoOn(t *testing.T) {
	for mode, extended := range map[farm.Mode]bool{farm.ModeFeed: true, farm.ModeSingle: true, farm.ModeRange: false} {
		b := smallfarm.New(t, 1)
		b.Submit("a", "practice", mode, "1-9", farm.RunQueued)
		b.State.Runs[1].Spec.Chunk = 2
		l := b.Lease(b.Ask(1, 0))
		d := b.Ask(1, l.ID)
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
			ask := func(a deal.Ask) deal.Decision {
				d := deal.New(s, m, nil).Next(a, time.Now())
				put(t, s, d.Records...)
				return d
			}
			full := &capacity.Memory{Free: 28 * gib, Used: map[farm.LeaseID]int64{1: 4 * gib}}
			ask(deal.Ask{Node: 1, Number: 1, Memory: full})
			ask(deal.Ask{Node: 1, Number: 2, Memory: full})
			put(t, s, farm.NodeSet{Node: 1, Version: 2, Settings: farm.Settings{Caps: c.caps}})
			if c.alone {
				put(t, s, farm.LeaseEnded{Lease: 1, Node: 1, Run: 1})
			}
			d := ask(
				deal.Ask{
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
	b := smallfarm.New(t, 1, 1)
	b.Submit("a", "practice", farm.ModeRange, "1-25", farm.RunQueued)
	b.State.Runs[1].Spec.Chunk = 10
	for _, want := range []string{"1-10", "11-20", "21-25"} {
		l := b.Lease(b.Ask(1, 0))
		if l.Given.String() != want {
			t.Errorf("got %v, want %s", l.Given, want)
		}
		b.Apply(farm.LeaseEnded{Lease: l.ID, Node: 1, Run: 1, At: b.Now})
		b.State.Runs[1].ToDo = b.State.Runs[1].ToDo.Minus(l.Given) // as if they were done
		b.State.Runs[1].Done = b.State.Runs[1].Done.Union(l.Given)
	}
}

func TestFeedLeaseGoesOn(t *testing.T) {
	b := smallfarm.New(t, 1)
	b.Submit("a", "practice", farm.ModeFeed, "1-3", farm.RunQueued)
	l := b.Lease(b.Ask(1, 0))
	for left := 2; ; left-- {
		b.Finish(l, l.Left.First())
		d := b.Ask(1, l.ID)
		if left == 0 {
			if len(d.Records) > 0 {
				t.Errorf("got %v after the last frame", d.Records)
			}
			break
		}
		if got := b.Lease(d); got != l || got.Left.Len() != 1 {
			t.Errorf("with %d frames left: lease %d with %v", left, got.ID, got.Left)
		}
	}
}

func TestFailedFrameGoesElsewhere(t *testing.T) {
	b := smallfarm.New(t, 1, 1)
	b.Submit("a", "practice", farm.ModeSingle, "1-2", farm.RunQueued)
	l := b.Lease(b.Ask(1, 0))
	b.Apply(
		triage.Failed(b.State, triage.Failure{Lease: l.ID, Launch: 1, Frame: 1, Cause: triage.CauseCrash}, b.Now)...)
	b.Apply(farm.LeaseEnded{Lease: l.ID, Node: 1, Run: 1, At: b.Now})
	if l := b.Lease(b.Ask(1, 0)); l.Given.String() != "2" {
		t.Errorf("kiln-01 got %v although it failed frame 1", l.Given)
	}
	if l := b.Lease(b.Ask(2, 0)); l.Given.String() != "1" {
		t.Errorf("kiln-02 got %v, want frame 1", l.Given)
	}
}

func TestFailedFrameComesBackWhereThereIsNoOtherNode(t *testing.T) {
	b := smallfarm.New(t, 1)
	b.Submit("a", "practice", farm.ModeSingle, "1", farm.RunQueued)
	for try := 1; try <= 3; try++ {
		if try > 1 { // each time it rests for longer
			if d := b.Ask(1, 0); len(d.Records) > 0 || !strings.Contains(d.Why, "is tried there again in") {
				t.Errorf("try %d follows at once: %s", try, d.Why)
			}
			b.Now = b.Now.Add(time.Duration(1<<(try-2)) * time.Second)
		}
		l := b.Lease(b.Ask(1, 0))
		b.Apply(
			triage.Failed(
				b.State, triage.Failure{Lease: l.ID, Launch: 1, Frame: 1, Cause: triage.CauseCrash}, b.Now,
			)...)
		b.Apply(farm.LeaseEnded{Lease: l.ID, Node: 1, Run: 1, At: b.Now})
	}
	run := b.State.Runs[1]
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
		b := smallfarm.New(t, speeds...)
		modes := []farm.Mode{farm.ModeRange, farm.ModeSingle, farm.ModeFeed, farm.ModeWhole}
		for i := range 1 + r.IntN(3) {
			set := []string{"1-60", "1-90/3", "-5-20", "1,4,9-30", "7"}[r.IntN(5)]
			b.Submit(fmt.Sprintf("job%d", i), "practice", modes[r.IntN(4)], set, farm.RunQueued)
		}
		results := map[farm.RunID]map[int]int{}
		for step := 0; ; step++ {
			if step > 20_000 {
				t.Fatalf("seed %d: not settled after %d steps", seed, step)
			}
			b.Now = b.Now.Add(time.Second)
			randomStep(b, r, results)
			for _, run := range b.State.Queue() {
				if state, settled := run.Settled(); settled {
					for l := range run.OpenLeases {
						b.Apply(farm.LeaseEnded{Lease: l.ID, Node: l.Node, Run: run.ID, At: b.Now})
					}
					b.Apply(farm.RunMoved{Run: run.ID, State: state, At: b.Now})
				}
			}
			if len(b.State.Queue()) == 0 {
				break
			}
		}
		for id, run := range b.State.Runs {
			for f := range run.Spec.Frames.All() {
				if got := results[id][f]; got != 1 && !run.Parked.Has(f) || got > 1 {
					t.Fatalf("seed %d: frame %d of run %d counted %d times", seed, f, id, got)
				}
			}
		}
	}
}

func randomStep(b *smallfarm.Farm, r *rand.Rand, results map[farm.RunID]map[int]int) {
	n := b.State.Nodes[farm.NodeID(1+r.IntN(len(b.State.Nodes)))]
	leases := b.State.LeasesOf(n.ID)
	switch {
	case n.Reach == farm.Silent:
		if r.IntN(3) == 0 {
			records, _ := accept.Start(b.State, n, n.Facts, nil, b.Now)
			b.Apply(records...)
		}
	case r.IntN(40) == 0:
		b.Apply(farm.NodeReach{Node: n.ID, Reach: farm.Silent, At: b.Now})
	case len(leases) == 0:
		b.Ask(n.ID, 0)
	default:
		l := leases[0]
		run := b.State.Runs[l.Run]
		if l.Left.Empty() {
			if d := b.Ask(n.ID, l.ID); run.Spec.Mode != farm.ModeFeed || len(d.Records) == 0 {
				if l.Open() && l.Left.Empty() {
					b.Apply(farm.LeaseEnded{Lease: l.ID, Node: n.ID, Run: l.Run, At: b.Now})
				}
			}
			return
		}
		f := l.Left.First()
		if r.IntN(8) == 0 {
			b.Apply(
				triage.Failed(
					b.State, triage.Failure{Lease: l.ID, Launch: int(b.Now.Unix()), Frame: f, Cause: triage.CauseCrash},
					b.Now,
				)...)
			return
		}
		if !run.Wants(f) {
			b.T.Fatalf("frame %d is leased but not wanted", f)
		}
		b.Finish(l, f)
		if results[l.Run] == nil {
			results[l.Run] = map[int]int{}
		}
		results[l.Run][f]++
	}
}

// TestATurnLeavesNoCrumbs has two people whose runs take turns of a minute: what
// is little more than a turn is given as one, and what is much more is not.
func TestATurnLeavesNoCrumbs(t *testing.T) {
	for set, want := range map[string]string{"1-40": "1-40", "1-62": "1-62", "1-90": "1-60"} {
		b := smallfarm.New(t, 1)
		b.Submit("a", "practice", farm.ModeRange, set, farm.RunQueued)
		other := b.Submit("b", "practice", farm.ModeRange, "1-90", farm.RunQueued)
		b.State.Runs[other].Spec.Owner = "oskar"
		d := b.Ask(1, 0)
		if got := b.Lease(d).Given.String(); got != want {
			t.Errorf("of %s it gets %s, want %s: %s", set, got, want, d.Why)
		}
		if set == "1-90" && !strings.Contains(d.Why, "its share for this turn") {
			t.Errorf("it says %q", d.Why)
		}
	}
}
