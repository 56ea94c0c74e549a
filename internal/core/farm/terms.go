package farm

import (
	"fmt"
	"time"
)

// Terms are what may be changed of a run while it renders.
type Terms struct {
	Level   Level     `json:"level,omitempty"`  // how urgent it is
	Ceiling Ceiling   `json:"ceiling,omitzero"` // the most nodes at once
	Due     time.Time `json:"due,omitzero"`     // when it must be ready; zero: at any time
	// Put is where a wrangler has put it inside its level: lower comes first,
	// and 0 is where its project's part of the farm puts it.
	Put int64 `json:"put,omitempty"`
	// Scouted: a person has said yes to the rest after the scouts.
	Scouted bool `json:"scouted,omitempty"`
}

// Sequence is the order in which the frames of a run are dealt.
type Sequence string

// The sequences.
const (
	DealersChoice Sequence = ""        // what ends earliest
	Forward       Sequence = "forward" // from the first frame on
	Reverse       Sequence = "reverse" // from the last
	ScoutsFirst   Sequence = "scouts"  // a few spread over the range, then the rest
)

// ParseSequence reads the name of a sequence; an empty one leaves it to the
// dealer.
func ParseSequence(text string) (Sequence, error) {
	switch s := Sequence(text); s {
	case DealersChoice, Forward, Reverse, ScoutsFirst:
		return s, nil
	}
	return "", fmt.Errorf("%q is not an order of frames: use forward, reverse or scouts, or leave it to the dealer", text)
}

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

// LicencesUsed returns how many of a licence the open leases of the farm take
// up, without those of one lease if it is not 0.
func (s *State) LicencesUsed(name string, without LeaseID) (used int) {
	nodes := map[NodeID]bool{}
	for _, run := range s.openRuns {
		need := run.Spec.Licence
		if need == nil || need.Name != name {
			continue
		}
		for l := range run.OpenLeases {
			if l.ID == without {
				continue
			}
			switch {
			case need.Per == PerDevice:
				used += max(1, len(l.Share.Devices))
			case need.Per == PerProcess || !nodes[l.Node]:
				used++
			}
			nodes[l.Node] = true
		}
	}
	return used
}
