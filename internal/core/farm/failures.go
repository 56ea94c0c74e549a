package farm

import (
	"slices"
	"time"
)

// Windows in which tries that fail are counted, and how many of each are remembered.
const (
	NodeWindow   = 10 * time.Minute
	RunWindow    = time.Hour
	failuresMost = 512
	leasesMost   = 4096
)

// failures are the tries that failed lately, by whom they happened to.
type failures struct {
	nodes  map[NodeID][]time.Time
	runs   map[RunID][]time.Time
	leases map[LeaseID]int
}

func (f *failures) note(r FrameFailed) {
	if f.nodes == nil {
		*f = failures{map[NodeID][]time.Time{}, map[RunID][]time.Time{}, map[LeaseID]int{}}
	}
	if len(f.leases) >= leasesMost {
		clear(f.leases)
	}
	f.leases[r.Lease]++
	f.nodes[r.Node] = within(append(f.nodes[r.Node], r.At), r.At.Add(-NodeWindow))
	f.runs[r.Run] = within(append(f.runs[r.Run], r.At), r.At.Add(-RunWindow))
}

// within returns those of some times, in order, that are not before a time: the newest.
func within(times []time.Time, from time.Time) []time.Time {
	i, _ := slices.BinarySearchFunc(times, from, time.Time.Compare)
	return slices.Delete(times, 0, max(i, len(times)-failuresMost))
}

// FailedLately counts the tries that failed lately on a node, of a run, and ever on a lease.
func (s *State) FailedLately(n NodeID, run RunID, l LeaseID, now time.Time) (onNode, ofRun, onLease int) {
	f := &s.suspicion.failures
	after := func(times []time.Time, window time.Duration) int {
		i, _ := slices.BinarySearchFunc(times, now.Add(-window), time.Time.Compare)
		return len(times) - i
	}
	return after(f.nodes[n], NodeWindow), after(f.runs[run], RunWindow), f.leases[l]
}
