package deal_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/testkit/smallfarm"
)

// TestACutEndsAsSoonAsPossible tries random speeds, costs and start-ups and
// compares with all cuts that there are: what is cut off are frames of the end
// that nobody has begun, no other number of them ends sooner, and nothing is
// cut that does not bring more than it costs.
func TestACutEndsAsSoonAsPossible(t *testing.T) {
	cuts, none := 0, 0
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 9))
		theirs, mine := 0.2+2*r.Float64(), 0.2+2*r.Float64()
		b := smallfarm.New(t, theirs, mine)
		n := 2 + r.IntN(60)
		run := b.Submit("a", "practice", farm.ModeRange, fmt.Sprintf("1-%d", n), farm.RunRendering)
		b.Apply(farm.LeaseOpened{Lease: 1, Node: 1, Run: run, Session: 1, Frames: b.State.Runs[run].ToDo, At: b.Now})
		cost, startup := 1+20*r.Float64(), 40*r.Float64()
		b.Observe(
			1, farm.FrameAccepted{Run: run, Frame: 1, Node: 1, StartupSeconds: startup, RenderSeconds: cost / theirs},
		)
		b.Seen[1] = deal.Sight{Begun: true, Frame: 1}
		cut, ok, _ := b.Dealer.TakeOver(2, b.Now)
		ends := func(take int) float64 {
			return max(float64(n-take)*cost/theirs, startup+float64(take)*cost/mine)
		}
		alone := float64(n) * cost / theirs
		best := alone
		for take := 1; take < n; take++ { // the first frame is begun
			best = min(best, ends(take))
		}
		gain := alone - best - startup/10
		if ok != (gain > 0) && math.Abs(gain) > alone/200 {
			t.Errorf(
				"seed %d: cut is %v, although the best cut ends after %.1f s instead of %.1f s", seed, ok, best, alone,
			)
		}
		if !ok {
			none++
			continue
		}
		cuts++
		if cut.Frames.Last() != n || cut.Frames.Has(1) || cut.Frames.Len() != n-cut.Frames.First()+1 {
			t.Errorf("seed %d: of 1-%d it cuts %v", seed, n, cut.Frames)
		}
		if got := ends(cut.Frames.Len()); got > best*1.005 {
			t.Errorf("seed %d: it ends after %.2f s, could after %.2f s", seed, got, best)
		}
	}
	if cuts < 50 || none < 10 {
		t.Errorf("%d cuts and %d refusals: that was not tried", cuts, none)
	}
	b := smallfarm.New(t, 1)
	if _, ok, _ := b.Dealer.TakeOver(1, b.Now); ok {
		t.Error("something was cut off nothing")
	}
}
