package explain_test

import (
	"strings"
	"testing"

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
			Run(b.State.Runs[1], b.Now); !strings.Contains(why, "no node that has practice is ready") {
			t.Errorf("%+v: run: %q", c.record, why)
		}
	}
}
