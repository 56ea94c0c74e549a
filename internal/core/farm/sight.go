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
	if from := s.Runs[run.Spec.From]; from != nil {
		if why := s.blindTo(sights, from.Spec.Project); why != "" {
			return why
		}
	}
	if len(sights) == 0 || run.Spec.Scene == "" || run.Spec.Bundle != "" || run.Spec.SceneText != "" {
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

// blindTo says why a node that sees so much cannot read the frames of a project; empty where
// it can, or nobody knows.
func (s *State) blindTo(sights []PlaceSight, project string) string {
	p := s.Projects[project]
	if p == nil {
		return ""
	}
	for _, seen := range sights {
		if seen.Place == p.Frames && !seen.Writes && !seen.Reads {
			return seen.Why
		}
	}
	return ""
}
