package farm

import "time"

// Counting is what takes up a licence.
type Counting string

// The ways to count licences.
const (
	PerProcess Counting = "process" // each launch
	PerNode    Counting = "node"    // each node, however many launches it has
	PerDevice  Counting = "device"  // each graphics device that a launch owns
)

// LicenceNeed is the licence that a renderer needs to run.
type LicenceNeed struct {
	Name string   `json:"name"`
	Per  Counting `json:"per"`
}

// Licence is a counted right to run a renderer. One that nobody counts does
// not limit anything.
type Licence struct {
	Name  string
	Count int
	// When a renderer found none although the count says that there are some,
	// somebody else uses them: until then it is lower.
	Lowered      int
	LoweredUntil time.Time
}

// Uncounted is the Count of a licence that nobody has counted.
const Uncounted = 1 << 30

// Most returns how many there are to use now.
func (l *Licence) Most(now time.Time) int {
	if now.Before(l.LoweredUntil) {
		return min(l.Count, l.Lowered)
	}
	return l.Count
}

// takes returns how many licences a lease takes up that owns so many devices.
// charged says that its node is counted already, for another lease.
func (need LicenceNeed) takes(devices int, charged bool) int {
	switch {
	case need.Per == PerDevice:
		return max(1, devices)
	case need.Per == PerNode && charged:
		return 0
	}
	return 1
}

// LicencesUsed returns how many of a licence the open leases of the farm take
// up, without those of one lease if it is not 0. A node that is counted once is
// so for all runs that need the licence for each node.
func (s *State) LicencesUsed(name string, without LeaseID) (used int) {
	charged := map[NodeID]bool{}
	for _, run := range s.openRuns {
		need := run.Spec.Licence
		if need == nil || need.Name != name {
			continue
		}
		for l := range run.OpenLeases {
			if l.ID == without {
				continue
			}
			used += need.takes(len(l.Share.Devices), charged[l.Node])
			charged[l.Node] = charged[l.Node] || need.Per == PerNode
		}
	}
	return used
}

// LicencesFor returns how many licences a further lease of a run would take up
// on a node, where one lease is not counted if it is not 0. The run must need a
// licence.
func (s *State) LicencesFor(run *Run, n *Node, without LeaseID) int {
	need := run.Spec.Licence
	devices := run.Spec.Takes.Devices
	if run.Spec.Takes.Whole() { // such a lease owns all of them
		devices = len(n.Offer().Devices)
	}
	charged := false
	for _, l := range s.LeasesOf(n.ID) {
		other := s.Runs[l.Run].Spec.Licence
		charged = charged || l.ID != without && other != nil && *other == *need
	}
	return need.takes(devices, charged)
}

// LicencesFree returns how many more of the licence that a run needs may be
// taken up now, without those of one lease if it is not 0. ok is false where
// nothing limits that.
func (s *State) LicencesFree(run *Run, without LeaseID, now time.Time) (free int, ok bool) {
	if run.Spec.Licence == nil {
		return 0, false
	}
	l := s.Licences[run.Spec.Licence.Name]
	if l == nil {
		return 0, false
	}
	return l.Most(now) - s.LicencesUsed(l.Name, without), true
}
