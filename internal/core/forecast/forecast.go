// Package forecast tells when a run will be finished, as a median and a time
// that it keeps in nine of ten cases. It plays what is left of the run over
// the nodes that work on it; it knows no clock of its own.
package forecast

import (
	"math"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/pace"
	"vexillum/internal/core/span"
)

// Finish is the forecast of one run.
type Finish struct {
	Known  bool
	Median time.Time
	Late   time.Time // 90 % of such runs are finished by then
	Why    string    // why it is not known
	// Early is when one in ten such runs is finished at the earliest, as far as what
	// frames of its recipe mostly cost tells of a run that itself has told nothing;
	// zero where nothing does.
	Early time.Time
}

// z90 is the 90 % point of the standard normal distribution.
const z90 = 1.2816

// minSpread is assumed between frames until the run itself has told.
const minSpread = 0.05

// Run forecasts one run from what its first frames cost and from the nodes
// that hold leases of it. Frames not dealt yet go to whichever of these nodes
// is free first. progress gives, for a lease, the part of its current frame
// that is already rendered, from 0 to 1.
func Run(s *farm.State, m *pace.Model, run *farm.Run, progress func(farm.LeaseID) float64, now time.Time) Finish {
	switch {
	case run.State.Closed():
		return Finish{Known: true, Median: run.EndedAt, Late: run.EndedAt}
	case run.State == farm.RunHeld:
		return Finish{Why: "the run is held"}
	}
	cost, known := m.Cost(run)
	if !known {
		return Finish{Why: "no frame is finished yet"}
	}
	again, _ := m.Relaunch(run)
	var workers []worker
	frames := run.ToDo.Len()
	for l := range run.OpenLeases {
		n := s.Nodes[l.Node]
		if n == nil || n.Reach != farm.Online {
			frames += l.Left.Len()
			continue
		}
		per := cost.Mean / (m.SpeedFor(n, run) * n.Part(l.Share))
		left := float64(l.Left.Len()) - min(max(progress(l.ID), 0), 1)
		workers = append(workers, worker{free: max(0, left) * per, perFrame: per, launch: again.Mean})
	}
	if len(workers) == 0 {
		return Finish{Why: "no node renders it at the moment"}
	}
	share(workers, frames)
	seconds, longest := 0.0, 0.0
	for _, w := range workers {
		if w.free > seconds {
			seconds, longest = w.free, w.free/w.perFrame
		}
	}
	// The finish is the sum of about so many frames on the last node; their
	// mean is known only as well as the frames seen so far tell it.
	spread := max(cost.Spread, minSpread)
	relative := spread * math.Sqrt(1/max(1, longest)+1/float64(cost.Count))
	at := func(seconds float64) time.Time {
		return now.Add(span.Of(seconds)).Round(time.Second)
	}
	return Finish{Known: true, Median: at(seconds), Late: at(seconds * math.Exp(z90*relative))}
}

// worker is a node that renders the run.
type worker struct {
	free, perFrame float64 // seconds
	launch         float64 // seconds until its next lease has its first frame
}

// share gives frames to whichever worker would finish one first, again and
// again. They then all end within one frame of a common time, which is found
// by halving an interval instead.
func share(workers []worker, frames int) {
	if frames == 0 {
		return
	}
	most := func(w worker, end float64) float64 { return max(0, math.Floor((end-w.free-w.launch)/w.perFrame)) }
	early, late := 0.0, math.Inf(1)
	for _, w := range workers {
		late = min(late, w.free+w.launch+float64(frames)*w.perFrame) // one does them all
	}
	for range 64 {
		middle := early + (late-early)/2
		done := 0.0
		for _, w := range workers {
			done += most(w, middle)
		}
		if done >= float64(frames) {
			late = middle
		} else {
			early = middle
		}
		if late-early < 1e-3 {
			break
		}
	}
	for i := range workers {
		if n := most(workers[i], late); n > 0 {
			workers[i].free += workers[i].launch + n*workers[i].perFrame
		}
	}
}
