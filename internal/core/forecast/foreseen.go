package forecast

import (
	"slices"

	"vexillum/internal/core/farm"
)

// foreseen returns the runs of a farm that can be played to their end, in the order of the
// queue, but none before one that it waits for.
func foreseen(s *farm.State, further []*farm.Run) (open []*farm.Run) {
	goes, all := map[farm.RunID]bool{}, map[farm.RunID]*farm.Run{}
	queue := append(slices.Clone(s.Queue()), further...)
	inTurn := slices.Clone(queue)
	slices.SortStableFunc(inTurn, func(a, b *farm.Run) int {
		switch {
		case a.Before(b):
			return -1
		case b.Before(a):
			return 1
		}
		return 0
	})
	for _, run := range queue {
		all[run.ID] = run
	}
	slices.SortFunc(queue, func(a, b *farm.Run) int { return int(a.ID - b.ID) }) // others first
	for _, run := range queue {
		switch run.State {
		case farm.RunQueued, farm.RunRendering:
			goes[run.ID] = true
		case farm.RunWaiting:
			gate, _ := s.Gate(run)
			goes[run.ID] = gate != farm.GateBroken && !slices.ContainsFunc(run.Spec.After, func(a farm.After) bool {
				other := s.Runs[a.Run]
				return (other == nil || !other.State.Closed()) && !goes[a.Run]
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
			if other := all[a.Run]; other != nil {
				add(other)
			}
		}
		open = append(open, run)
	}
	for _, run := range inTurn {
		add(run)
	}
	return open
}
