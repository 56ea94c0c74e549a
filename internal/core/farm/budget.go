package farm

import (
	"fmt"
	"time"
)

// MostBudget bounds the budget of a project, in machine hours.
const MostBudget = 1e9

// NearBudget is the part of its budget from which on people are told that a project uses it up.
const NearBudget = 0.8

// CheckBudget returns an error for a budget, in machine hours, that no project can have.
func CheckBudget(hours float64) error {
	if !(hours >= 0 && hours <= MostBudget) {
		return fmt.Errorf("a budget is a number of machine hours up to %.0f, or 0 for none", MostBudget)
	}
	return nil
}

// SpentHours returns how many machine hours the leases of a project have taken up: each from
// when it was given until it ended or until now, by the part of its node that it had.
func (s *State) SpentHours(project string, now time.Time) float64 {
	seconds := s.spent[project]
	for _, run := range s.openRuns {
		if run.Spec.Project != project {
			continue
		}
		for l := range run.OpenLeases {
			seconds += s.costOf(l, now)
		}
	}
	return seconds / 3600
}

// PutSpent notes for a loader what leases of a project took up that have ended: seconds on a
// node, with a share of it.
func (s *State) PutSpent(project string, node NodeID, share Share, seconds float64) {
	s.spend(project, seconds*s.partOf(node, share))
}

// costOf is what a lease takes up until a moment, in seconds of a whole node.
func (s *State) costOf(l *Lease, at time.Time) float64 {
	return max(0, at.Sub(l.OpenedAt).Seconds()) * s.partOf(l.Node, l.Share)
}

func (s *State) partOf(node NodeID, share Share) float64 {
	if n := s.Nodes[node]; n != nil {
		return n.Part(share)
	}
	return 1
}

func (s *State) spend(project string, seconds float64) {
	if s.spent == nil {
		s.spent = map[string]float64{}
	}
	s.spent[project] += seconds
}
