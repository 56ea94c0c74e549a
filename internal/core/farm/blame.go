package farm

import "slices"

// Blame is a frame that a node has failed and another has done.
type Blame struct {
	Run   RunID
	Frame int
	Cause string
	By    NodeID // who has done it
}

// mostBlames bounds what is remembered of one node.
const mostBlames = 20

// blame notes what a frame that is done says about the nodes: of the one that did
// it, and of those that had failed it. It is not kept: a service that starts
// begins with no suspicion.
func (s *State) blame(run *Run, r FrameDone) {
	if n := s.Nodes[r.Node]; n != nil && len(n.Blames) > 0 {
		n.DoneSince++
	}
	t := run.Trouble[r.Frame]
	if t == nil {
		return
	}
	for _, a := range t.Attempts {
		n := s.Nodes[a.Node]
		told := func(b Blame) bool { return b.Run == r.Run && b.Frame == r.Frame }
		if n == nil || a.Node == r.Node || slices.ContainsFunc(n.Blames, told) {
			continue
		}
		if len(n.Blames) == 0 {
			n.DoneSince = 0
		}
		n.Blames = append(n.Blames, Blame{Run: r.Run, Frame: r.Frame, Cause: a.Cause, By: r.Node})
		if len(n.Blames) > mostBlames {
			n.Blames = n.Blames[1:]
		}
	}
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
