package forecast

import (
	"slices"

	"vexillum/internal/core/farm"
)

// foreseen returns the runs of a farm that can be played to their end, in the order of the
// queue, but none before one that it waits for.
func foreseen(s *farm.State) (open []*farm.Run) {
	goes := map[farm.RunID]bool{}
	queue := slices.Clone(s.Queue())
	slices.SortFunc(queue, func(a, b *farm.Run) int { return int(a.ID - b.ID) }) // others first
	for _, run := range queue {
		switch run.State {
		case farm.RunQueued, farm.RunRendering:
			goes[run.ID] = true
		case farm.RunWaiting:
			gate, _ := s.Gate(run)
			goes[run.ID] = gate == farm.GateShut && !slices.ContainsFunc(run.Spec.After, func(a farm.After) bool {
				other := s.Runs[a.Run]
				return other != nil && !other.State.Closed() && !goes[a.Run]
			})
		}
	}
	var add func(run *farm.Run)
	add = func(run *farm.Run) {
		if !goes[run.ID] {
			return
		}
		delete(goes, run.ID)
		for _, a := range run.Spec.After {
			if other := s.Runs[a.Run]; other != nil {
				add(other)
			}
		}
		open = append(open, run)
	}
	for _, run := range s.Queue() {
		add(run)
	}
	return open
}
