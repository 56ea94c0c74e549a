package farm

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"time"

	"vexillum/internal/core/blame"
)

// Surrounding names what stands around nodes and runs and may fail them all: a place, a
// licence, or a version of a renderer.
type Surrounding struct {
	Kind    SurroundingKind `json:"kind"`
	Name    string          `json:"name"`
	Version string          `json:"version,omitempty"` // of a renderer
}

// SurroundingKind is what a Surrounding is.
type SurroundingKind string

// The kinds of Surrounding.
const (
	SurroundingPlace    SurroundingKind = "place"
	SurroundingLicence  SurroundingKind = "licence"
	SurroundingRenderer SurroundingKind = "renderer"
)

// String names it for sentences.
func (o Surrounding) String() string {
	if o.Version != "" {
		return o.Name + " " + o.Version
	}
	return fmt.Sprintf("the %s %s", o.Kind, o.Name)
}

// SurroundingOf returns what a suspect is, if it stands around nodes and runs.
func SurroundingOf(of blame.Suspect) (Surrounding, bool) {
	switch of.Kind {
	case blame.Place:
		return Surrounding{Kind: SurroundingPlace, Name: of.Name}, true
	case blame.Licence:
		return Surrounding{Kind: SurroundingLicence, Name: of.Name}, true
	case blame.Renderer:
		return Surrounding{Kind: SurroundingRenderer, Name: of.Name, Version: of.Of}, true
	}
	return Surrounding{}, false
}

// Wait says that what needs a Surrounding waits for it, and that one frame at a time
// tries whether it is back.
type Wait struct {
	Since  time.Time `json:"since"`
	Until  time.Time `json:"until"`         // from then on one frame may try
	Pause  float64   `json:"pause_seconds"` // before that; it grows
	Tries  int       `json:"tries"`         // frames that have tried in vain
	Cause  string    `json:"cause"`
	Reason string    `json:"reason"`
	// Only are the runs that wait, as it may be they that are wrong: what comes of the others
	// tells; empty: all wait.
	Only []RunID `json:"only,omitempty"`
	// Scout is the lease of the frame that tries just now; 0: none. It is not kept.
	Scout LeaseID `json:"-"`
}

// WaitSet lets all wait that needs a Surrounding, or go on.
type WaitSet struct {
	Of     Surrounding `json:"of"`
	Wait   *Wait       `json:"wait"` // nil: it is over
	Reason string      `json:"reason"`
	At     time.Time   `json:"at"`
}

// Kind implements [Record].
func (WaitSet) Kind() Kind { return "wait set" }

// About implements [Record].
func (r WaitSet) About() About { return About{At: r.At, Reason: r.Reason} }

// Wakes implements [Record].
func (WaitSet) Wakes() Wakes { return WakesAsks | WakesOrders }

func (r WaitSet) apply(s *State) error {
	if r.Wait == nil {
		delete(s.Waits, r.Of)
		return nil
	}
	w := *r.Wait
	s.Waits[r.Of] = &w
	return nil
}

// WaitsOf returns what a run on a node waits for, in order. n may be nil: then it is what
// the run waits for on any node.
func (s *State) WaitsOf(n *Node, run *Run) []Surrounding {
	return slices.DeleteFunc(s.WaitsAround(n, run), func(of Surrounding) bool {
		return !s.Waits[of].Holds(run.ID)
	})
}

// Holds reports whether a run that needs what is waited for waits, too.
func (w *Wait) Holds(run RunID) bool { return len(w.Only) == 0 || slices.Contains(w.Only, run) }

// WaitsAround returns what a run on a node needs and somebody waits for, in order, also where
// that is another run alone.
func (s *State) WaitsAround(n *Node, run *Run) []Surrounding {
	if len(s.Waits) == 0 {
		return nil
	}
	var out []Surrounding
	for _, of := range slices.SortedFunc(maps.Keys(s.Waits), func(a, b Surrounding) int {
		return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Name, b.Name), cmp.Compare(a.Version, b.Version))
	}) {
		if s.needs(of, n, run) {
			out = append(out, of)
		}
	}
	return out
}

// Needs reports whether a run needs a Surrounding, on some node.
func (s *State) Needs(of Surrounding, run *Run) bool { return s.needs(of, nil, run) }

func (s *State) needs(of Surrounding, n *Node, run *Run) bool {
	switch of.Kind {
	case SurroundingPlace:
		p := s.Projects[run.Spec.Project]
		return p != nil && (p.Scenes == of.Name || p.Frames == of.Name)
	case SurroundingLicence:
		return run.Spec.Licence != nil && run.Spec.Licence.Name == of.Name
	case SurroundingRenderer:
		if run.Spec.Recipe != of.Name {
			return false
		}
		if n == nil {
			return true
		}
		r, _ := n.Facts.Renderer(run.Spec.Recipe)
		return r.Version == of.Version
	}
	return false
}

// scouts notes that a lease that gets frames tries whether what it waits for is back.
func (s *State) scouts(l *Lease, at time.Time) {
	if len(s.Waits) == 0 || l.Race {
		return
	}
	for _, of := range s.WaitsOf(s.Nodes[l.Node], s.Runs[l.Run]) {
		if w := s.Waits[of]; w.Scout == 0 && !at.Before(w.Until) {
			w.Scout = l.ID
		}
	}
}

// scouted notes that a lease tries no more.
func (s *State) scouted(l *Lease) {
	for _, w := range s.Waits {
		if w.Scout == l.ID {
			w.Scout = 0
		}
	}
}
