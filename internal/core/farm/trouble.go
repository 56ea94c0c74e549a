package farm

import "vexillum/internal/core/blame"

// ShortOn returns the memory of the largest node on which a frame was short of it, in bytes;
// 0 where it was not, or the node does not tell.
func (s *State) ShortOn(t *Trouble) (most int64) {
	for _, a := range t.Attempts {
		if n := s.Nodes[a.Node]; n != nil && a.Cause == blame.Memory {
			most = max(most, n.OfferedMemory())
		}
	}
	return most
}

// PutTrouble notes frames that have failed on nodes before a run was put into
// the State. It is for loaders and plays.
func (s *State) PutTrouble(id RunID, frame int, nodes ...NodeID) {
	run := s.Runs[id]
	t := run.trouble(frame)
	for _, n := range nodes {
		t.Attempts = append(t.Attempts, Attempt{Node: n, Cause: "crash", Counts: true})
	}
}
