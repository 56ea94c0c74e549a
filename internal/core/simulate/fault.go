package simulate

import (
	"math"
	"math/rand/v2"

	"vexillum/internal/core/blame"
	"vexillum/internal/core/farm"
)

// fault is how a try goes wrong; of one that goes well it has no cause.
type fault struct {
	cause string
	of    blame.Kind
	gone  string // what was gone, if something was
}

// draw returns the chance of one try, the same whichever node asks, and when.
func (w *world) draw(job, frame, try int) *rand.Rand {
	return rand.New(rand.NewPCG(w.farm.Seed, uint64(job)<<48^uint64(uint32(frame))<<16^uint64(try)))
}

// lasts returns how long a try at a frame takes on a machine that has nothing beside it,
// and how it fails. share is what of it the lease owns.
func (w *world) lasts(job, node, frame, try int, share farm.Share) (seconds float64, f fault) {
	j, n := &w.farm.Jobs[job], &w.farm.Nodes[node]
	r := w.draw(job, frame, try)
	speed := n.Speed
	if j.Speeds != nil {
		speed = j.Speeds[node]
	}
	cost := j.Costs[w.index(job, frame)]
	seconds = cost / speed
	if j.Noise > 0 {
		seconds *= math.Exp(j.Noise * r.NormFloat64())
	}
	if n.Fails > 0 {
		chance := r.Float64() < n.Fails
		if chance && w.ails(n, cost, share.Devices) {
			kind := blame.Node
			if n.FailsOn != "" {
				kind = blame.Device
			}
			return early(seconds, n.FailsIn), fault{cause: orCrash(n.FailsCause), of: kind}
		}
	}
	if need := j.Heavy[frame]; need > n.Memory {
		return early(seconds, j.FailsIn), fault{cause: blame.Memory, of: blame.Heavy}
	}
	switch {
	case j.Wrong:
		return early(seconds, j.FailsIn), fault{cause: orCrash(j.FailsCause), of: blame.Run}
	case w.broken[job][frame], j.Sometimes[frame] > 0 && r.Float64() < j.Sometimes[frame]:
		return early(seconds, j.FailsIn), fault{cause: orCrash(j.FailsCause), of: blame.Frame}
	}
	if w.farm.Chance > 0 && r.Float64() < w.farm.Chance {
		return seconds * r.Float64(), fault{cause: blame.Crash, of: blame.Chance}
	}
	return w.outage(j, n, seconds, w.s.Nodes[w.machines[node].id].Part(share))
}

// ails reports whether a machine fails frames of a cost now that run on some devices.
func (w *world) ails(n *Node, cost float64, devices []string) bool {
	if n.FailsOn != "" && (len(devices) != 1 || devices[0] != n.FailsOn) {
		return false
	}
	return cost >= n.FailsOver && w.now >= n.FailsFrom && (n.Mended == 0 || w.now < n.Mended)
}

// outage lets a try fail when something goes that it needs. part is what of the machine
// it has.
func (w *world) outage(j *Job, n *Node, seconds, part float64) (float64, fault) {
	for _, o := range w.farm.Outages {
		if w.now+seconds/part < o.From || w.now >= o.To || !w.concerns(o.Of, j, n) {
			continue
		}
		kind := blame.Place
		switch o.Of.Kind {
		case farm.SurroundingLicence:
			if w.now < o.From {
				continue // who has one keeps it
			}
			kind = blame.Licence
		case farm.SurroundingRenderer:
			kind = blame.Renderer
		}
		const notices = 1 // second
		return min(seconds, (max(0, o.From-w.now)+notices)*part), fault{o.Cause, kind, o.Of.Name}
	}
	return seconds, fault{}
}

func (w *world) concerns(of farm.Surrounding, j *Job, n *Node) bool {
	switch of.Kind {
	case farm.SurroundingLicence:
		return j.Spec.Licence != nil && j.Spec.Licence.Name == of.Name
	case farm.SurroundingRenderer:
		return j.Spec.Recipe == of.Name && n.Version == of.Version
	}
	p := w.s.Projects[j.Spec.Project]
	return p != nil && (p.Scenes == of.Name || p.Frames == of.Name)
}

func early(seconds, in float64) float64 {
	if in > 0 {
		return min(seconds, in)
	}
	return seconds
}

func orCrash(cause string) string {
	if cause == "" {
		return blame.Crash
	}
	return cause
}
