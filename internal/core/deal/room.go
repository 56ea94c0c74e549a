package deal

import (
	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/pace"
)

// keepsRoom reports whether a node should begin nothing that comes after the
// run, as the run would have room once those leases have ended that come after
// it, and they soon do: between one frame and the next.
func keepsRoom(s *farm.State, m *pace.Model, n *farm.Node, run *farm.Run, measured *capacity.Memory) bool {
	later := 0
	for _, l := range s.LeasesOf(n.ID) {
		if l.Run == run.ID || s.Runs[l.Run].Before(run) {
			continue
		}
		if mode := s.Runs[l.Run].Spec.Mode; mode != farm.ModeFeed && mode != farm.ModeSingle {
			return false
		}
		later++
	}
	if later == 0 {
		return false
	}
	_, full := capacity.Room(
		s, m, n, run, measured, func(l *farm.Lease) bool { return l.Run != run.ID && !s.Runs[l.Run].Before(run) },
	)
	return full == ""
}
