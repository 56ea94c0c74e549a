package deal

import (
	"fmt"
	"math"
	"time"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
	"vexillum/internal/core/span"
)

// p90Factor is by how much more than its mean a frame is reckoned to take, so that
// nine of ten take less: the 90 % quantile of a lognormal distribution with
// the spread that was seen, and of one of a third where too little was seen.
func p90Factor(cost pace.Estimate) float64 {
	spread := cost.Spread
	if cost.Count < 5 {
		spread = max(spread, 1.0/3)
	}
	return math.Exp(pace.Normal90*spread - spread*spread/2)
}

// framesBeforeOffDuty returns how many frames of a set a node may begin so that nine
// times of ten they are done before its duty hours end, and why it is none. An
// empty set stands for frames of the run that cost as much as its mean.
func framesBeforeOffDuty(
	m *pace.Model, n *farm.Node, run *farm.Run, set frames.Set, now time.Time,
) (most int, why string) {
	if n.Settings.Hours == nil {
		return math.MaxInt, ""
	}
	on, until := n.Settings.Hours.At(now)
	if !on {
		return 0, n.Name + " is outside its duty hours"
	}
	if until.IsZero() {
		return math.MaxInt, ""
	}
	left := until.Sub(now)
	cost, known := m.Cost(run)
	if !known || cost.Mean <= 0 {
		return 0, fmt.Sprintf(
			"it is not yet known how long frames of %s take, and the duty hours of %s end in %s", run.Spec.Name(),
			n.Name, span.Text(left),
		)
	}
	startup, _ := m.StartupOn(run, n.ID)
	launch := startup.Mean + m.Fetch(run, n)
	frame := cost.Mean / capacity.Speed(m, n, run) * p90Factor(cost)
	inTime := (left.Seconds() - launch) / frame
	if !set.Empty() {
		curve := m.Curve(run)
		frame = curve.Cost(set.First()) / capacity.Speed(m, n, run) * p90Factor(cost)
		count, _ := curve.Within(set, (left.Seconds()-launch)*capacity.Speed(m, n, run)/p90Factor(cost))
		inTime = float64(count)
	}
	if inTime < 1 {
		one := span.Of(launch + frame)
		return 0, fmt.Sprintf(
			"a frame of %s may take %s, and the duty hours of %s end in %s", run.Spec.Name(), span.Text(one), n.Name,
			span.Text(left),
		)
	}
	return int(min(inTime, 1e9)), ""
}
