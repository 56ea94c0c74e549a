package farm

import (
	"fmt"
	"slices"
	"time"
)

// FreezeScope names what a person holds as a whole: a place, a recipe or a pool.
type FreezeScope struct {
	Kind FreezeKind `json:"kind"`
	Name string     `json:"name"`
}

// FreezeKind is what a Stay is about.
type FreezeKind string

// The kinds of Stay.
const (
	FreezePlace  FreezeKind = "place"  // runs of projects that read or write there
	FreezeRecipe FreezeKind = "recipe" // runs with that recipe
	FreezePool   FreezeKind = "pool"   // nodes in it
)

// String names it for sentences.
func (o FreezeScope) String() string { return fmt.Sprintf("the %s %s", o.Kind, o.Name) }

// Freeze says that nothing new is begun with a place, a recipe or a pool, or,
// after it was released in steps, on how many nodes.
type Freeze struct {
	Held   bool      `json:"held"`
	Step   int       `json:"step"`          // of a release: nodes that may begin at once, and again after each Every
	Every  int       `json:"every_seconds"` // of a release in steps
	Reason string    `json:"reason"`
	By     string    `json:"by"`
	At     time.Time `json:"at"`
}

// Nodes returns how many nodes may work at a time.
func (s Freeze) Nodes(now time.Time) int {
	if s.Held {
		return 0
	}
	steps := 1
	if s.Every > 0 {
		steps += int(max(0, now.Sub(s.At)) / (time.Duration(s.Every) * time.Second))
	}
	return s.Step * steps
}

// Concerns reports whether a stay is about a run on a node.
func (s *State) Concerns(of FreezeScope, n *Node, run *Run) bool {
	switch of.Kind {
	case FreezeRecipe:
		return run.Spec.Recipe == of.Name
	case FreezePlace:
		p := s.Projects[run.Spec.Project]
		return p != nil && (p.Scenes == of.Name || p.Frames == of.Name)
	case FreezePool:
		return n != nil && slices.Contains(n.Settings.Pools, of.Name)
	}
	return false
}

// At returns the nodes that work at something that a stay is about.
func (s *State) At(of FreezeScope) map[NodeID]bool {
	out := map[NodeID]bool{}
	for id, leases := range s.working {
		for _, l := range leases {
			if s.Concerns(of, s.Nodes[id], s.Runs[l.Run]) {
				out[id] = true
				break
			}
		}
	}
	return out
}
