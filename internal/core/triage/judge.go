package triage

import (
	"fmt"
	"slices"
	"time"

	"vexillum/internal/core/blame"
	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
)

// Whose fault it is, and what follows. A verdict must be sure before a machine is set
// aside, a run is held or others wait; a person may say otherwise by a release.

const (
	// sureNode is how likely a node must be faulty, 0 to 1, so that it is sidelined.
	sureNode = 0.99
	// provenLeast is how many frames that it has failed others must have rendered.
	provenLeast = 2
	// sidelinedShare: at most one node in this number is sidelined by the farm
	// itself, and one may always be.
	sidelinedShare = 2
	// sureRun is how likely a run must be wrong so that it is held.
	sureRun = 0.97
	// failingLeast is how many frames of a run must have failed by then.
	failingLeast = 3
	// failingNodes is on how many nodes that must be, if the farm has them; on failingFew it
	// must be the surer.
	failingNodes = 3
	failingFew   = 2
	sureOfFew    = 0.995
	// crossedLeast is how many frames must have failed on both of a few, which have
	// rendered others; without that it is crossedMost.
	crossedLeast = 2
	crossedMost  = 5
	// failingWorth is how many frames a run must have so that holding it saves
	// anything.
	failingWorth = 3
	// sureSurrounding is how likely it must be that a place, a licence or a renderer
	// fails all so that they wait for it, and after how many failures on how many nodes.
	sureSurrounding  = 0.95
	surroundingLeast = 3
	surroundingNodes = 2
)

// How long a node waits for its trial: at first, and at most. Each time it is twice as
// long.
const (
	firstTrial = 10 * time.Minute // unless the farm says otherwise
	lastTrial  = 2 * time.Hour
	// trialShare: trials take at most one part in this number of a node's time.
	trialShare = 30
	// trialsForgotten is after how long a node that works well again begins anew.
	trialsForgotten = 12 * time.Hour
)

// How long all wait before a frame tries whether a surrounding is back. Each time in vain
// it is twice as long.
const (
	firstWait = 15 * time.Second
	lastWait  = 5 * time.Minute
)

// judgement is what follows from all tries of a while.
type judgement struct {
	s       *farm.State
	mishaps []farm.Mishap
	opinion blame.Opinion
	passed  map[blame.Suspect]float64 // tries that went well
}

// Verdict is who is to blame for a try that failed, as it is seen now.
type Verdict struct {
	farm.Mishap
	Shares []blame.Share // those who may be, the likeliest first
}

// Verdicts returns who is to blame for all tries that failed and are remembered, the
// oldest first.
func Verdicts(s *farm.State) []Verdict {
	j := judge(s, nil, nil)
	out := make([]Verdict, len(j.mishaps))
	for i, m := range j.mishaps {
		out[i] = Verdict{m, j.opinion.Shares[i]}
	}
	return out
}

// judge weighs all that is remembered; as if failed had just failed, or done had just come
// out well.
func judge(s *farm.State, failed *farm.FrameFailed, done *farm.FrameDone) judgement {
	mishaps, evidence := s.Evidence(failed, done)
	return judgement{s, mishaps, blame.Judge(evidence), evidence.Passed}
}

// last is who is to blame for the newest of the mishaps.
func (j *judgement) last() blame.Share { return j.opinion.By(len(j.mishaps) - 1) }

// waited reports whether all wait for what a mishap is blamed on.
func (j *judgement) waited(i int) bool {
	of, surrounds := farm.SurroundingOf(j.opinion.By(i).Suspect)
	return surrounds && j.s.Waits[of] != nil
}

// of returns which of the mishaps a try at a frame is; -1 if it is forgotten.
func (j *judgement) of(run farm.RunID, frame int, a farm.Attempt) int {
	return slices.IndexFunc(j.mishaps, func(m farm.Mishap) bool {
		return m.Run == run && m.Frame == frame && m.Lease == a.Lease && m.Launch == a.Launch
	})
}

// counts reports whether a mishap uses up one of its frame's tries.
func (j *judgement) counts(i int) bool {
	if j.larger(i) {
		return false // with more memory it may be fine
	}
	frame, others := 0.0, 0.0
	for _, share := range j.opinion.Shares[i] {
		switch k := share.Suspect.Kind; {
		case k == blame.Frame || k == blame.Heavy:
			frame += share.Of
		case k == blame.Node || k == blame.Device || k.Surrounds():
			others += share.Of
		}
	}
	if !Counts(j.mishaps[i].Cause) {
		return frame >= 0.8
	}
	return others < 0.8
}

// larger reports whether a mishap is one for lack of memory, and a node is there that has
// more: then the frame goes there, which cannot go on for ever.
func (j *judgement) larger(i int) bool {
	m := &j.mishaps[i]
	run := j.s.Runs[m.Run]
	if m.Cause != CauseMemory || m.Memory == 0 || run == nil {
		return false
	}
	return slices.ContainsFunc(j.s.NodeList(), func(n *farm.Node) bool {
		return n.OfferedMemory() > m.Memory && n.Ready() && capacity.Fits(j.s, n, run)
	})
}

// Done returns what follows from a frame that is done: besides that Record, nodes are
// sidelined that have failed what others do, a node whose trial it was works again, and
// what was waited for is back.
func Done(s *farm.State, done farm.FrameDone, now time.Time) []farm.Record {
	records := []farm.Record{done}
	run, n, l := s.Runs[done.Run], s.Nodes[done.Node], s.Lease(done.Lease)
	if run == nil {
		return records
	}
	if n != nil && l != nil {
		records = append(records, back(s, run, n, l, done, now)...)
	}
	t := run.Trouble[done.Frame]
	if t == nil || len(t.Attempts) == 0 {
		return records
	}
	j := judge(s, nil, &done)
	seen := map[farm.NodeID]bool{done.Node: true}
	for _, a := range t.Attempts {
		if o := s.Nodes[a.Node]; o != nil && !seen[a.Node] {
			seen[a.Node] = true
			records = append(records, j.aside(o, s.Lease(a.Lease), now)...)
		}
	}
	return records
}

// back returns what a frame that came out well brings back: its node, or what its run
// waited for.
func back(
	s *farm.State, run *farm.Run, n *farm.Node, l *farm.Lease, done farm.FrameDone, now time.Time,
) (records []farm.Record) {
	frame := fmt.Sprintf("frame %d of %s", done.Frame, run.Spec.Name())
	if n.OnTrial(l) {
		reason := fmt.Sprintf("its trial went well: it rendered %s", frame)
		records = append(records, health(n, farm.NodeHealth{Node: n.ID, Health: farm.Fine, Reason: reason, At: now})...)
	}
	for _, of := range s.WaitsAround(n, run) {
		if w := s.Waits[of]; of.Kind != farm.SurroundingLicence || w.Scout == l.ID {
			word := "is back"
			if !w.Holds(run.ID) {
				word = "is there"
			}
			reason := fmt.Sprintf("%s %s: %s came out well on %s", of, word, frame, n.Name)
			records = append(records, farm.WaitSet{Of: of, Reason: reason, At: now})
			j := judge(s, nil, &done)
			records = append(records, j.unparked(is(of), fmt.Sprintf("%s was to blame, and not they", of), now)...)
		}
	}
	return records
}

// able counts the nodes that could render a run now.
func (j *judgement) able(run *farm.Run) (able int) {
	for _, n := range j.s.NodeList() {
		if n.Ready() && capacity.Fits(j.s, n, run) {
			able++
		}
	}
	return able
}
