package farm

// PlaceSight is what a node sees of a place. It is on no record: nodes tell it anew with
// each session.
type PlaceSight struct {
	Place         string
	Reads, Writes bool   // what it is wanted for and can do
	Why           string // why it cannot do all that it is wanted for; empty: it can
	// bytes a second, about; 0: not known
	ReadRate, WriteRate int64
}

// Blind says why a node cannot read the scene of a run in its place; empty where it can,
// the scene comes along, or nobody knows.
func (s *State) Blind(n *Node, run *Run) string {
	sights := s.Sights[n.ID]
	if len(sights) == 0 || run.Spec.Bundle != "" || run.Spec.SceneText != "" {
		return ""
	}
	p := s.Projects[run.Spec.Project]
	if p == nil {
		return ""
	}
	for _, seen := range sights {
		if seen.Place == p.Scenes && !seen.Reads {
			return seen.Why
		}
	}
	return ""
}
