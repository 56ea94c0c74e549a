package deal

import (
	"cmp"
	"slices"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/pace"
)

// Dealer deals the frames of one farm. It belongs to whoever owns the State.
type Dealer struct {
	s     *farm.State
	m     *pace.Model
	sight func(*farm.Lease) Sight
}

// New returns the Dealer of a farm. sight tells what is seen of an open lease
// at the moment; nil where nothing is.
func New(s *farm.State, m *pace.Model, sight func(*farm.Lease) Sight) *Dealer {
	if sight == nil {
		sight = func(*farm.Lease) Sight { return Sight{} }
	}
	return &Dealer{s: s, m: m, sight: sight}
}

func sortLoads(loads []load) {
	slices.SortFunc(loads, func(a, b load) int { return cmp.Compare(a.lease.ID, b.lease.ID) })
}

// sortTakers puts the fastest first.
func sortTakers(takers []taker) {
	slices.SortFunc(takers, func(a, b taker) int {
		return cmp.Or(cmp.Compare(b.speed, a.speed), cmp.Compare(a.node.ID, b.node.ID))
	})
}
