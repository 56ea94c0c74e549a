package capacity

import (
	"time"

	"vexillum/internal/core/farm"
)

// takes returns how many licences a lease with this number of devices takes up.
// charged says that its node is counted already, for another lease.
func takes(need farm.LicenceNeed, devices int, charged bool) int {
	switch {
	case need.Per == farm.PerDevice:
		return max(1, devices)
	case need.Per == farm.PerNode && charged:
		return 0
	}
	return 1
}

// LicencesUsed returns how many of a licence the open leases of the farm take
// up, without those of one lease if it is not 0. A node that is counted once is
// so for all runs that need the licence for each node.
func LicencesUsed(s *farm.State, name string, without farm.LeaseID) (used int) {
	charged := map[farm.NodeID]bool{}
	for _, run := range s.Queue() {
		need := run.Spec.Licence
		if need == nil || need.Name != name {
			continue
		}
		for l := range run.OpenLeases {
			if l.ID == without {
				continue
			}
			used += takes(*need, len(l.Share.Devices), charged[l.Node])
			charged[l.Node] = charged[l.Node] || need.Per == farm.PerNode
		}
	}
	return used
}

// LicencesFor returns how many licences a further lease of a run would take up
// on a node, where one lease is not counted if it is not 0. The run must need a
// licence.
func LicencesFor(s *farm.State, run *farm.Run, n *farm.Node, without farm.LeaseID) int {
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
	return takes(*need, devices, charged)
}

// LicencesFree returns how many more of the licence that a run needs may be
// taken up now, without those of one lease if it is not 0. ok is false where
// nothing limits that.
func LicencesFree(s *farm.State, run *farm.Run, without farm.LeaseID, now time.Time) (free int, ok bool) {
	if run.Spec.Licence == nil {
		return 0, false
	}
	l := s.Licences[run.Spec.Licence.Name]
	if l == nil {
		return 0, false
	}
	return l.Most(now) - LicencesUsed(s, l.Name, without), true
}
