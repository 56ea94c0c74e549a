package deal

import (
	"math"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// A renderer may be silent for a multiple of the time that a frame is expected
// to take; and for longer as little is known.
const (
	silentTimes   = 5
	silentLeast   = 120.0      // seconds
	silentMost    = 24 * 3600. // seconds
	silentUnknown = 2 * 3600.  // seconds
)

// Silent returns for how many seconds a renderer may give no sign of life that
// works on frames of a run on a node: as the job says, else the recipe, else
// several times what the dearest of the frames is expected to take at most.
func (d *Dealer) Silent(run *farm.Run, n *farm.Node, share farm.Share, set frames.Set) float64 {
	if run.Spec.Stall > 0 {
		return run.Spec.Stall
	}
	curve := d.m.Curve(run)
	if !curve.Known() || set.Empty() {
		return silentUnknown
	}
	dearest := 0.0
	first, last := set.First(), set.Last()
	const looks = 16
	for i := range looks {
		if f, ok := set.From(first + (last-first)*i/(looks-1)); ok {
			dearest = max(dearest, curve.Cost(f)*math.Exp(curve.Doubt(f)))
		}
	}
	startup, _ := d.m.StartupOn(run, n.ID)
	expected := startup.Mean + dearest/(d.m.SpeedFor(n, run)*n.Part(share))*math.Exp(2*curve.Spread())
	return min(max(silentTimes*expected, silentLeast), silentMost)
}
