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

// mostShort bounds the frames of a run of which it is remembered that they were short of
// memory.
const mostShort = 4096

// NoteShort remembers, also for loaders, that a frame failed on a node, if it was short of
// memory.
func (r *Run) NoteShort(frame int, cause string, n *Node) {
	if cause != blame.Memory || n == nil || n.OfferedMemory() == 0 || len(r.Short) >= mostShort {
		return
	}
	if r.Short == nil {
		r.Short = map[int]int64{}
	}
	r.Short[frame] = max(r.Short[frame], n.OfferedMemory())
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
