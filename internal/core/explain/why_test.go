package explain_test

import (
	"strings"
	"testing"
	"time"

	"vexillum/internal/core/deal"
	"vexillum/internal/core/explain"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/triage"
	"vexillum/internal/testkit/smallfarm"
)

func TestWhyOfPairsAndFrames(t *testing.T) {
	b := smallfarm.New(t, 1, 1)
	why := explain.New(b.Dealer, b.State, b.Pace)
	a := b.Submit("a", "practice", farm.ModeWhole, "1-5", farm.RunQueued)
	c := b.Submit("c", "practice", farm.ModeRange, "1-5", farm.RunQueued)
	p := b.Submit("p", "povray", farm.ModeRange, "1-5", farm.RunQueued)
	h := b.Submit("h", "practice", farm.ModeRange, "1-5", farm.RunHeld)
	pair := func(run farm.RunID, n farm.NodeID) string {
		return why.Pair(b.State.Runs[run], b.State.Nodes[n], b.Now)
	}
	want := func(got, says string) {
		t.Helper()
		if !strings.Contains(got, says) {
			t.Errorf("it says %q, want %q", got, says)
		}
	}
	want(pair(a, 1), "as soon as it asks")
	want(pair(c, 1), "gets a/final-1 first")
	want(pair(p, 1), "needs povray, which kiln-01 does not have")
	want(pair(h, 1), "h/final-1 is held")
	l := b.Lease(b.Ask(1, 0))
	want(pair(a, 1), "kiln-01 works on it: kiln-01 gets all frames in one go")
	want(pair(c, 1), "works on a/final-1, which comes first, and has 5 frames of it left")
	want(pair(a, 2), "all frames of a/final-1 are dealt")
	b.Apply(farm.NodeDuty{Node: 2, Duty: farm.Held, Reason: "by nadia", At: b.Now})
	want(pair(c, 2), "kiln-02 is held")

	frame := func(f int) string { return why.Frame(b.State.Runs[a], f, b.Now) }
	want(frame(9), "a/final-1 has no frame")
	want(frame(1), "is the next of kiln-01")
	want(frame(3), "is dealt to kiln-01, which has 2 frames before it")
	b.Seen[l.ID] = deal.Sight{Begun: true, Frame: 1}
	want(frame(1), "is rendering on kiln-01")
	b.Finish(l, 1)
	want(frame(1), "is done")
	b.Apply(
		triage.Failed(b.State, triage.Failure{Lease: l.ID, Launch: 1, Frame: 2, Cause: triage.CauseCrash}, b.Now)...)
	want(frame(2), "waits to be dealt; it failed on kiln-01 (crash), and 1 of 3 tries are used")
	b.Apply(farm.FrameAccepted{Run: a, Frame: 3, Lease: l.ID, Node: 1, Hash: "x", At: b.Now})
	want(frame(3), "kiln-01 is delivering it")
	b.Apply(farm.FrameParked{Run: a, Frame: 2, At: b.Now})
	want(frame(2), "is parked")
}

func TestWhySentences(t *testing.T) {
	b := smallfarm.New(t, 1)
	if why := explain.New(b.Dealer, b.State, b.Pace).
		Node(b.State.Nodes[1], b.Now); why != "is ready, but the queue is empty" {
		t.Errorf("nothing to do: %s", why)
	}
	b.Submit("a", "practice", farm.ModeWhole, "1-3", farm.RunQueued)
	b.Submit("b", "practice", farm.ModeWhole, "1-3", farm.RunQueued)
	b.Submit("c", "povray", farm.ModeRange, "1-3", farm.RunQueued)
	b.Submit("d", "practice", farm.ModeRange, "1-3", farm.RunHeld)
	if why := explain.New(b.Dealer, b.State, b.Pace).Node(b.State.Nodes[1], b.Now); !strings.Contains(why, "ready") {
		t.Errorf("idle node: %s", why)
	}
	b.Ask(1, 0)
	for run, want := range map[farm.RunID]string{2: "waits its turn", 3: "no node has povray", 4: "release it to start"} {
		if why := explain.New(b.Dealer, b.State, b.Pace).Run(b.State.Runs[run], b.Now); !strings.Contains(why, want) {
			t.Errorf("run %d: %q, want %q", run, why, want)
		}
	}
	if why := explain.New(b.Dealer, b.State, b.Pace).
		Node(b.State.Nodes[1], b.Now); !strings.Contains(why, "renders a/final-1") {
		t.Errorf("busy node: %s", why)
	}
	for _, c := range []struct {
		record farm.Record
		want   string
	}{
		{farm.NodeDuty{Node: 1, Duty: farm.Held, At: b.Now}, "is held; release it"},
		{farm.NodeDuty{Node: 1, Duty: farm.Draining, At: b.Now}, "draining"},
		{farm.NodeDuty{Node: 1, Duty: farm.OffDuty, At: b.Now}, "off duty"},
		{farm.NodeReach{Node: 1, Reach: farm.Silent, At: b.Now}, "not been heard from"},
	} {
		b := smallfarm.New(t, 1)
		b.Apply(c.record)
		if why := explain.New(b.Dealer, b.State, b.Pace).Node(b.State.Nodes[1], b.Now); !strings.Contains(why, c.want) {
			t.Errorf("%+v: %q, want %q", c.record, why, c.want)
		}
		b.Submit("a", "practice", farm.ModeRange, "1", farm.RunQueued)
		if why := explain.New(b.Dealer, b.State, b.Pace).
			Run(b.State.Runs[1], b.Now); !strings.Contains(why, "no node ") ||
			!strings.Contains(why, "ready") {
			t.Errorf("%+v: run: %q", c.record, why)
		}
	}
}

// TestWhyNamesTheBindingReason asks why in states in which something else than the turn is in the
// way: each answer names that, and what clears it.
func TestWhyNamesTheBindingReason(t *testing.T) {
	says := func(b *smallfarm.Farm, run farm.RunID, parts ...string) {
		t.Helper()
		got := explain.New(b.Dealer, b.State, b.Pace).Run(b.State.Runs[run], b.Now)
		for _, part := range parts {
			if !strings.Contains(got, part) {
				t.Errorf("it says %q, without %q", got, part)
			}
		}
	}
	fail := func(b *smallfarm.Farm, l *farm.Lease, frame int, cause string) {
		b.Apply(triage.Failed(
			b.State, triage.Failure{Lease: l.ID, Launch: frame, Frame: frame, Cause: cause, Message: "signal: killed"}, b.Now,
		)...)
	}

	// An idle node that the farm set aside, beside one that is busy with another run.
	b := smallfarm.New(t, 1, 1)
	b.Apply(farm.NodeHealth{Node: 2, Health: farm.Sidelined, Reason: "it fails what others render", At: b.Now})
	b.Submit("first", "practice", farm.ModeWhole, "1-5", farm.RunQueued)
	second := b.Submit("second", "practice", farm.ModeWhole, "1-5", farm.RunQueued)
	b.Ask(1, 0)
	says(b, second, "waits its turn", "kiln-02 is idle, but sidelined", "vexillum nodes release kiln-02")

	// A disk that is full: the frame to do has failed for that.
	b = smallfarm.New(t, 1, 1)
	run := b.Submit("salt", "practice", farm.ModeSingle, "1-2", farm.RunQueued)
	one := b.Lease(b.Ask(1, 0))
	b.Ask(2, 0)
	fail(b, one, one.Left.First(), triage.CauseDiskFull)
	b.Apply(farm.LeaseEnded{Lease: one.ID, Run: run, Node: 1, At: b.Now})
	says(b, run, "disk full", "make room on the disk")

	// A frame that takes much longer than expected.
	b.Now = b.Now.Add(time.Minute)
	b = smallfarm.New(t, 1)
	run = b.Submit("slow", "practice", farm.ModeRange, "1-4", farm.RunQueued)
	two := b.Lease(b.Ask(1, 0))
	for f := 1; f <= 3; f++ {
		rec := farm.FrameAccepted{
			Run: run, Frame: f, Lease: two.ID, Node: 1, Hash: "h", At: b.Now, RenderSeconds: 10, StartupSeconds: 1,
		}
		b.Observe(1, rec)
		b.Finish(two, f)
	}
	b.Seen[two.ID] = deal.Sight{Begun: true, Frame: 4, Seconds: 300}
	says(b, run, "all frames are dealt", "frame 4 for 5m", "10s was expected", "vexillum trouble --node kiln-01")
	b.Seen[two.ID] = deal.Sight{Begun: true, Frame: 4, Seconds: 2}
	says(b, run, "all frames are dealt", "kiln-01 ends last", "about 8s")

	// A run that is held while a frame of it is parked.
	b.Apply(
		farm.LeaseEnded{Lease: two.ID, Run: run, Node: 1, At: b.Now},
		farm.FrameParked{Run: run, Frame: 4, Reason: "frame 4 is parked", At: b.Now},
		farm.RunMoved{Run: run, State: farm.RunHeld, Reason: "held by nadia", At: b.Now},
	)
	says(b, run, "held by nadia", "frame 4 is parked", "vexillum retry slow/final-1")
}

// TestAnIdleNodeNamesWhatItLacks asks why a node is idle that cannot meet the need of the first run
// and could render the next.
func TestAnIdleNodeNamesWhatItLacks(t *testing.T) {
	b := smallfarm.New(t, 1)
	b.Submit("glow", "povray", farm.ModeRange, "1-4", farm.RunQueued)
	b.SubmitFor("needy", "gpu")
	why := func() string { return explain.New(b.Dealer, b.State, b.Pace).Node(b.State.Nodes[1], b.Now) }
	if got := why(); !strings.Contains(got, "it can render none of the 2 runs that wait") ||
		!strings.Contains(got, "needs povray, which kiln-01 does not have") {
		t.Errorf("an idle node says %q", got)
	}
	b.Submit("frozen", "practice", farm.ModeRange, "1-4", farm.RunQueued)
	b.Apply(farm.FreezeSet{
		Of: farm.FreezeScope{Kind: farm.FreezeRecipe, Name: "practice"}, Freeze: farm.Freeze{Held: true, By: "nadia"},
		At: b.Now,
	})
	if got := why(); !strings.Contains(got, "practice is held by nadia") {
		t.Errorf("an idle node says %q", got)
	}
}
