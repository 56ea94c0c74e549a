package deal

import (
	"strings"
	"testing"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/triage"
)

func TestWhyOfPairsAndFrames(t *testing.T) {
	b := newWorld(t, 1, 1)
	a := b.submit("a", "practice", farm.ModeWhole, "1-5", farm.RunQueued)
	c := b.submit("c", "practice", farm.ModeRange, "1-5", farm.RunQueued)
	p := b.submit("p", "povray", farm.ModeRange, "1-5", farm.RunQueued)
	h := b.submit("h", "practice", farm.ModeRange, "1-5", farm.RunHeld)
	pair := func(run farm.RunID, n farm.NodeID) string { return b.d.WhyPair(b.s.Runs[run], b.s.Nodes[n], b.now) }
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
	l := b.lease(b.ask(1, 0))
	want(pair(a, 1), "kiln-01 works on it: kiln-01 gets all frames in one go")
	want(pair(c, 1), "works on a/final-1, which comes first, and has 5 frames of it left")
	want(pair(a, 2), "all frames of a/final-1 are dealt")
	b.apply(farm.NodeDuty{Node: 2, Duty: farm.Held, Reason: "by nadia", At: b.now})
	want(pair(c, 2), "kiln-02 is held")

	frame := func(f int) string { return b.d.WhyFrame(b.s.Runs[a], f, b.now) }
	want(frame(9), "a/final-1 has no frame")
	want(frame(1), "is the next of kiln-01")
	want(frame(3), "is dealt to kiln-01, which has 2 frames before it")
	b.seen[l.ID] = Sight{Begun: true, Frame: 1}
	want(frame(1), "is rendering on kiln-01")
	b.finish(l, 1)
	want(frame(1), "is done")
	b.apply(triage.Failed(b.s, triage.Failure{Lease: l.ID, Launch: 1, Frame: 2, Cause: triage.CauseCrash}, b.now)...)
	want(frame(2), "waits to be dealt; it failed on kiln-01 (crash), and 1 of 3 tries are used")
	b.apply(farm.FrameAccepted{Run: a, Frame: 3, Lease: l.ID, Node: 1, Hash: "x", At: b.now})
	want(frame(3), "kiln-01 is delivering it")
	b.apply(farm.FrameParked{Run: a, Frame: 2, At: b.now})
	want(frame(2), "is parked")
}
