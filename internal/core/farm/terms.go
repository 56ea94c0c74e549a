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
	// Renderer is the version of the renderer that its frames come from; empty: any. It is
	// that of the node which got the first of them, and holds from then on.
	Renderer string `json:"renderer,omitempty"`
	// Scouted: a person has said yes to the rest after the scouts.
	Scouted bool `json:"scouted,omitempty"`
	// Freed: a person has said that it shall not wait for other runs any more.
	Freed bool `json:"freed,omitempty"`
	// Takes and Needs replace those that the run was submitted with, for leases from then on; nil:
	// as it was submitted.
	Takes *Amounts `json:"takes,omitempty"`
	Needs *string  `json:"needs,omitempty"`
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
	return "", fmt.Errorf(
		"%q is not an order of frames: use forward, reverse or scouts, or leave it to the dealer", text,
	)
}
