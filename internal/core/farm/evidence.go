package farm

import (
	"slices"
	"strings"
	"time"

	"vexillum/internal/core/blame"
	"vexillum/internal/core/frames"
)

// Mishap is a try that failed, as it is remembered after its frame has come out well,
// too: what it says about machines, runs and what is around them.
type Mishap struct {
	Run      RunID
	Frame    int
	Node     NodeID
	Lease    LeaseID
	Launch   int
	Cause    string
	Message  string // its beginning
	At       time.Time
	Memory   int64           // of the node, in bytes; 0: not told
	Suspects []blame.Suspect // who may be to blame
	Asked    bool            // its frame was asked for again since
	Good     bool            // the frame has come out well since
	GoodOn   NodeID          // where
	nodeTry  int             // how many tries the node had had
	goodMem  int64           // memory of the node where it came out well
}

// MishapMark is different after each try that failed or was asked for again.
type MishapMark struct {
	count int64
	at    time.Time
}

// LastMishap returns the mark of the newest of the tries that failed.
func (s *State) LastMishap() MishapMark { return s.suspicion.mark }

// What is remembered.
const (
	mishapsMost  = 160            // of the farm
	mishapsFor   = 12 * time.Hour // and no longer
	mishapText   = 1000           // bytes of its message
	mishapsTries = 200            // of a node, in tries of it
	// passedFades is what a try that went well counts for after one more of the same
	// node or device: machines break.
	passedFades = 0.99
	// passedBefore is what all counts for at most that went well before a first failure.
	passedBefore = 1
	// eraAfter is how many tries in a row have to go well so that a place or a licence is
	// well again: what fails then is another story.
	eraAfter = 5
	// tallies that are kept at most before those are dropped that nothing refers to
	talliesMost = 4096
)

// tally counts the tries of a suspect.
type tally struct {
	tries  int
	passed float64
	since  int // tries that went well since the last that failed
	era    int64
	prior  float64 // 0: that of its kind
}

// suspicion is what is remembered of tries. It is not kept by itself: a service that starts
// reads it out of what happened last, see [State.Recall].
type suspicion struct {
	mishaps []Mishap                 // oldest first
	tallies map[blame.Suspect]*tally // by suspects without their eras
	held    map[RunID]bool           // runs, as far as that is recalled
	mark    MishapMark
	failures
}

func (s *suspicion) tally(of blame.Suspect) *tally {
	of.Era = 0
	t := s.tallies[of]
	if t == nil {
		if s.tallies == nil {
			s.tallies = map[blame.Suspect]*tally{}
		}
		if len(s.tallies) >= talliesMost {
			s.prune()
		}
		t = &tally{}
		s.tallies[of] = t
	}
	return t
}

// prune drops tallies that no mishap refers to.
func (s *suspicion) prune() {
	used := map[blame.Suspect]*tally{}
	for _, m := range s.mishaps {
		for _, of := range m.Suspects {
			of.Era = 0
			if t := s.tallies[of]; t != nil {
				used[of] = t
			}
		}
	}
	s.tallies = used
}

// around returns who took part in a try: all but its frame. Eras are not set.
func (s *State) around(run *Run, n *Node, l *Lease) []blame.Suspect {
	const most = 7
	out := append(
		make([]blame.Suspect, 0, most),
		blame.Suspect{Kind: blame.Run, ID: int64(run.ID)}, blame.Suspect{Kind: blame.Node, ID: int64(n.ID)},
	)
	if l != nil && len(l.Share.Devices) == 1 && len(n.Facts.Devices) > 1 {
		out = append(out, blame.Suspect{Kind: blame.Device, ID: int64(n.ID), Name: l.Share.Devices[0]})
	}
	renderer, _ := n.Facts.Renderer(run.Spec.Recipe)
	out = append(out, blame.Suspect{Kind: blame.Renderer, Name: run.Spec.Recipe, Of: renderer.Version})
	if p := s.Projects[run.Spec.Project]; p != nil {
		if p.Scenes != "" {
			out = append(out, blame.Suspect{Kind: blame.Place, Name: p.Scenes})
		}
		if p.Frames != "" && p.Frames != p.Scenes {
			out = append(out, blame.Suspect{Kind: blame.Place, Name: p.Frames})
		}
	}
	if need := run.Spec.Licence; need != nil {
		out = append(out, blame.Suspect{Kind: blame.Licence, Name: need.Name})
	}
	return out
}

// concerned reports whether a failure by a cause may come from a place of a run: what is
// missing was to be read, and what is not delivered was to be written.
func (s *State) concerned(run *Run, place, cause string) bool {
	p := s.Projects[run.Spec.Project]
	switch {
	case blame.Reads(cause):
		return p.Scenes == place || len(run.Spec.After) > 0 // of a step: it reads frames, too
	case blame.Writes(cause):
		return p.Frames == place
	}
	return true
}

// heavy is who is to blame where a frame is too heavy for its node.
func heavy(run RunID, frame int) blame.Suspect {
	return blame.Suspect{Kind: blame.Heavy, ID: int64(run), Sub: int64(frame)}
}

// mishap puts together what is known of a try that failed.
func (s *State) mishap(r FrameFailed) (m Mishap, ok bool) {
	run, n := s.Runs[r.Run], s.Nodes[r.Node]
	if run == nil || n == nil {
		return m, false
	}
	m = Mishap{
		Run: r.Run, Frame: r.Frame, Node: r.Node, Lease: r.Lease, Launch: r.Launch, Cause: r.Cause, At: r.At,
		Message: strings.ToValidUTF8(r.Message[:min(len(r.Message), mishapText)], ""),
		Memory:  n.OfferedMemory(),
	}
	named := s.PlaceIn(s.Projects[run.Spec.Project], n.Facts.OS, m.Message)
	m.Suspects = slices.DeleteFunc(s.around(run, n, s.Lease(r.Lease)), func(of blame.Suspect) bool {
		return of.Kind == blame.Place && (named != "" && named != of.Name || !s.concerned(run, of.Name, r.Cause))
	})
	for i := range m.Suspects {
		of := &m.Suspects[i]
		of.Era = s.suspicion.eraOf(*of, r.Cause)
		if of.Kind == blame.Node {
			m.nodeTry = s.suspicion.tally(*of).tries
		}
	}
	m.Suspects = append(
		m.Suspects, blame.Suspect{Kind: blame.Frame, ID: int64(r.Run), Sub: int64(r.Frame)}, heavy(r.Run, r.Frame),
	)
	return m, true
}

// comesAndGoes reports whether suspects of a kind fail all for a while and are well before
// and after.
func comesAndGoes(k blame.Kind) bool { return k == blame.Place || k == blame.Licence }

// eraOf is the era that a failure of a suspect belongs to.
func (s *suspicion) eraOf(of blame.Suspect, cause string) int64 {
	t := s.tally(of)
	if comesAndGoes(of.Kind) && t.since >= eraAfter && blame.May(cause, of.Kind) {
		return t.era + 1
	}
	return t.era
}

// failed remembers a try that failed.
func (s *State) noteFailed(r FrameFailed) {
	s.suspicion.note(r)
	m, ok := s.mishap(r)
	if !ok {
		return
	}
	susp := &s.suspicion
	for _, of := range m.Suspects {
		if of.Kind == blame.Frame || of.Kind == blame.Heavy {
			continue
		}
		t := susp.tally(of)
		if comesAndGoes(of.Kind) && !blame.May(r.Cause, of.Kind) {
			continue
		}
		switch {
		case t.era != of.Era:
			t.era, t.passed, t.since = of.Era, 0, 0
		case s.suspicion.fresh(of) && comesAndGoes(of.Kind):
			t.passed, t.since = 0, 0
		case s.suspicion.fresh(of):
			t.passed = min(t.passed, passedBefore)
		}
		t.tries++
		if comesAndGoes(of.Kind) {
			t.passed += float64(t.since) // it was not gone all the time
		}
		t.since = 0
	}
	susp.mishaps = append(susp.mishaps, m)
	susp.mark = MishapMark{susp.mark.count + 1, r.At}
	old := 0
	for old < len(susp.mishaps) &&
		(len(susp.mishaps)-old > mishapsMost || r.At.Sub(susp.mishaps[old].At) > mishapsFor) {
		old++
	}
	susp.mishaps = slices.Delete(susp.mishaps, 0, old)
}

// fresh reports whether tries of a suspect that went well begin to count with its first
// failure: those of machines and of what comes and goes.
func (s *suspicion) fresh(of blame.Suspect) bool {
	if of.Kind == blame.Run || of.Kind == blame.Renderer {
		return false
	}
	for i := range s.mishaps {
		m := &s.mishaps[i]
		if comesAndGoes(of.Kind) && !blame.May(m.Cause, of.Kind) {
			continue
		}
		if slices.Contains(m.Suspects, of) && s.counts(m) {
			return false
		}
	}
	return true
}

// counts reports whether a mishap still says something: its node has not done too much
// since.
func (s *suspicion) counts(m *Mishap) bool {
	return s.tally(blame.Suspect{Kind: blame.Node, ID: int64(m.Node)}).tries-m.nodeTry <= mishapsTries
}

// notePassed remembers a try that went well.
func (s *State) notePassed(run *Run, r FrameDone) {
	n := s.Nodes[r.Node]
	if n == nil {
		return
	}
	for _, of := range s.around(run, n, s.Lease(r.Lease)) {
		t := s.suspicion.tally(of)
		t.tries++
		t.since++
		switch {
		case comesAndGoes(of.Kind):
			continue // it counts if it fails again before long
		case of.Kind == blame.Node || of.Kind == blame.Device:
			t.passed *= passedFades
		}
		t.passed++
	}
	if run.Trouble[r.Frame] != nil {
		s.suspicion.good(r, n)
	}
}

// passedNow counts a try that has just gone well.
func (s *State) passedNow(done *FrameDone, passed map[blame.Suspect]float64) {
	run, n := s.Runs[done.Run], s.Nodes[done.Node]
	if run == nil || n == nil {
		return
	}
	for _, of := range s.around(run, n, s.Lease(done.Lease)) {
		of.Era = s.suspicion.tally(of).era
		if _, known := passed[of]; known && !comesAndGoes(of.Kind) {
			passed[of]++
		}
	}
}

// asked notes that frames are tried again that had been given up.
func (s *suspicion) asked(run RunID, set frames.Set) {
	s.mark.count++
	for i := range s.mishaps {
		if m := &s.mishaps[i]; m.Run == run && set.Has(m.Frame) {
			m.Asked = true
		}
	}
}

// good notes that a frame that had failed has come out well.
func (s *suspicion) good(r FrameDone, n *Node) {
	for i := range s.mishaps {
		if m := &s.mishaps[i]; m.Run == r.Run && m.Frame == r.Frame {
			m.Good, m.GoodOn, m.goodMem = true, n.ID, n.OfferedMemory()
		}
	}
}

// forgive begins a new era of a suspect: somebody has looked at it, or it has shown
// that it is well. prior is how likely it is to be faulty all the same; 0: as all are.
func (s *State) forgive(of blame.Suspect, prior float64) {
	t := s.suspicion.tally(of)
	t.era++
	t.passed, t.since, t.prior = 0, 0, prior
}

// againPrior is how likely a machine is to be faulty that was, and whose trial went well.
const againPrior = 0.3

// forgiven begins a new era of a machine that is fine again.
func (s *State) forgiven(r NodeHealth) {
	if r.Health != Fine {
		return
	}
	of, prior := blame.Suspect{Kind: blame.Node, ID: int64(r.Node)}, 0.0
	if r.Device != "" {
		of.Kind, of.Name = blame.Device, r.Device
	}
	if r.By == ByTriage {
		prior = againPrior
	}
	s.forgive(of, prior)
}

// Recall remembers what a Record of before says about who may be to blame, and changes nothing
// else. It is for who loads a farm that has no suspicion yet: the Records of the last hours, in
// order; those of other kinds say nothing.
func (s *State) Recall(r Record) {
	run := s.Runs[r.About().Run]
	switch r := r.(type) {
	case FrameFailed:
		s.noteFailed(r)
	case FrameDone:
		if n := s.Nodes[r.Node]; run != nil && n != nil {
			s.notePassed(run, r)
			s.suspicion.good(r, n)
		}
	case FramesRetried:
		s.suspicion.asked(r.Run, r.Frames)
	case RunMoved:
		if s.suspicion.held == nil {
			s.suspicion.held = map[RunID]bool{}
		}
		if s.suspicion.held[r.Run] && (r.State == RunQueued || r.State == RunRendering) {
			s.forgive(blame.Suspect{Kind: blame.Run, ID: int64(r.Run)}, 0)
		}
		s.suspicion.held[r.Run] = r.State == RunHeld
	case NodeHealth:
		s.forgiven(r)
	}
}

// Evidence returns the mishaps that still say something, the oldest first, and what they
// say together with what else was tried; as if failed had just failed and done had just
// come out well, unless they are nil.
func (s *State) Evidence(failed *FrameFailed, done *FrameDone) ([]Mishap, blame.Evidence) {
	var mishaps []Mishap
	for i := range s.suspicion.mishaps {
		if m := &s.suspicion.mishaps[i]; s.suspicion.counts(m) {
			mishaps = append(mishaps, *m)
		}
	}
	if done != nil {
		if n := s.Nodes[done.Node]; n != nil {
			(&suspicion{mishaps: mishaps}).good(*done, n)
		}
	}
	var last *Mishap
	if failed != nil {
		if m, ok := s.mishap(*failed); ok {
			mishaps = append(mishaps, m)
			last = &m
		}
	}
	e := blame.Evidence{
		Failures: make([]blame.Failure, len(mishaps)), Passed: map[blame.Suspect]float64{},
		Prior: map[blame.Suspect]float64{},
	}
	small := map[blame.Suspect]int64{} // the largest node on which a frame was short of memory
	for i, m := range mishaps {
		e.Failures[i] = blame.Failure{Cause: m.Cause, Suspects: m.Suspects}
		if m.Cause == blame.Memory {
			of := heavy(m.Run, m.Frame)
			small[of] = max(small[of], m.Memory)
		}
	}
	for _, m := range mishaps {
		for _, of := range m.Suspects {
			switch of.Kind {
			case blame.Frame:
				if m.Good {
					e.Passed[of] = 1
				}
			case blame.Heavy:
				if m.Good && m.goodMem <= small[of] {
					e.Passed[of] = 1
				}
			default:
				t := s.suspicion.tally(of)
				switch {
				case t.era == of.Era && comesAndGoes(of.Kind):
					e.Passed[of] = t.passed + min(1, float64(t.since)/eraAfter)
				case t.era == of.Era:
					e.Passed[of] = t.passed
				case comesAndGoes(of.Kind):
					e.Passed[of] = 1 // it is over
				}
				if t.prior > 0 && t.era == of.Era {
					e.Prior[of] = t.prior
				}
			}
		}
	}
	if done != nil {
		s.passedNow(done, e.Passed)
	}
	if last != nil {
		for _, of := range last.Suspects {
			switch {
			case of.Kind == blame.Frame || of.Kind == blame.Heavy || !s.suspicion.fresh(of):
			case comesAndGoes(of.Kind):
				delete(e.Passed, of)
			default:
				e.Passed[of] = min(e.Passed[of], passedBefore)
			}
		}
	}
	return mishaps, e
}
