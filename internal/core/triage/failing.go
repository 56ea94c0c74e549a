package triage

import (
	"fmt"
	"slices"
	"time"

	"vexillum/internal/core/blame"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// failing returns the Records that hold a run whose frames fail wherever they are tried,
// as of one more failure; nil where it is not so. Where it may as well be that a place is
// gone, one frame tries a few times whether it is back before that.
func (j *judgement) failing(run *farm.Run, l *farm.Lease, more farm.FrameFailed, now time.Time) []farm.Record {
	if run.State != farm.RunRendering || run.Spec.Frames.Len() < failingWorth {
		return nil
	}
	last := j.mishaps[len(j.mishaps)-1]
	at := slices.IndexFunc(last.Suspects, func(of blame.Suspect) bool { return of.Kind == blame.Run })
	of := last.Suspects[at]
	failed, nodes := map[int]bool{}, map[farm.NodeID]bool{}
	for i, m := range j.mishaps {
		if m.Cause == more.Cause && slices.Contains(m.Suspects, of) && j.opinion.By(i).Suspect == of {
			failed[m.Frame], nodes[m.Node] = true, true
		}
	}
	able := j.able(run)
	sure := j.opinion.Faulty[of]
	if len(failed) < failingLeast || sure < 0.5 || len(nodes) < min(failingFew, able) {
		return nil
	}
	var gone blame.Suspect // that may be instead
	for _, of := range last.Suspects {
		perhaps := of.Kind == blame.Place && blame.Fits(more.Cause, blame.Place) && !j.between(of, run.ID, more.Cause)
		if !of.Kind.Surrounds() || j.passed[of] > 0 || !perhaps && !j.alone(of, run.ID) {
			continue
		}
		sure += j.opinion.Faulty[of] // it stops with the run, too
		if perhaps && (gone.Kind != blame.Place || j.needing(of) < j.needing(gone)) {
			gone = of
		}
	}
	if n := j.s.Nodes[more.Node]; len(nodes) == 1 && n.Health == farm.Fine && run.Done.Empty() && able <= 1 {
		sure += j.opinion.Faulty[j.machine(n, nil)[0]] // nobody is there who could tell them apart
	}
	if sure < sureRun || len(nodes) < min(failingNodes, able) &&
		(sure < sureOfFew || j.crossed(of) < crossedLeast || !j.proven(nodes) && j.crossed(of) < crossedMost) {
		return nil
	}
	reason := fmt.Sprintf(
		"all of its first %d frames failed with %s, on %s: %s", len(failed), more.Cause, j.names(nodes),
		firstLine(more.Message),
	)
	if gone.Kind == blame.Place {
		if wait, again := j.doubt(gone, l, reason, more.Cause, now); again {
			return wait
		}
	}
	records := []farm.Record{
		farm.RunMoved{Run: run.ID, State: farm.RunHeld, Held: farm.HeldFailing, Reason: reason, At: now},
	}
	itself := func(s blame.Suspect) bool { return s == of }
	return append(records, j.unparked(itself, run.Spec.Name()+" itself is to blame, and not they", now)...)
}

// doubt lets a run wait for a place that may be gone, as long as it has not been tried often
// whether it is back. The others that need it go on: what comes of them tells soonest.
func (j *judgement) doubt(
	gone blame.Suspect, l *farm.Lease, why, cause string, now time.Time,
) (records []farm.Record, again bool) {
	of, _ := farm.SurroundingOf(gone)
	w := j.s.Waits[of]
	next := farm.Wait{Since: now, Pause: doubtFirst.Seconds(), Cause: cause, Only: []farm.RunID{l.Run}}
	switch {
	case w != nil && !w.Holds(l.Run): // another is doubted already
		next = *w
		next.Only = append(slices.Clone(w.Only), l.Run)
		next.Reason = doubtText(why, of)
		return []farm.Record{farm.WaitSet{Of: of, Wait: &next, Reason: next.Reason, At: now}}, true
	case w != nil && w.Scout != l.ID && l.OpenedAt.Before(w.Until):
		return nil, true // it began before
	case w != nil && w.Tries+1 >= doubtTries:
		return nil, false
	case w != nil:
		next = *w
		next.Tries++
		next.Pause *= doubtGrows
	}
	next.Until = now.Add(time.Duration(next.Pause * float64(time.Second)))
	next.Reason = doubtText(why, of)
	return []farm.Record{farm.WaitSet{Of: of, Wait: &next, Reason: next.Reason, At: now}}, true
}

func doubtText(why string, of farm.Surrounding) string {
	return fmt.Sprintf("%s; it may be that %s is gone: that is tried before the run is held", why, of)
}

// How often and when it is tried whether a place is back that may be gone, where the run
// may be wrong as well: after 1, 4 and 13 minutes.
const (
	doubtTries = 3
	doubtFirst = time.Minute
	doubtGrows = 3
)

// proven reports whether all of the nodes have rendered something in the same while: then
// it is not they who are to blame.
func (j *judgement) proven(nodes map[farm.NodeID]bool) bool {
	well := map[farm.NodeID]bool{}
	for _, m := range j.mishaps {
		for _, of := range m.Suspects {
			if of.Kind == blame.Node && j.passed[of] > 0 {
				well[m.Node] = true
			}
		}
	}
	for id := range nodes {
		if !well[id] {
			return false
		}
	}
	return true
}

// between reports whether a place was well between failures of a run by a cause: then it is not the
// place.
func (j *judgement) between(place blame.Suspect, run farm.RunID, cause string) bool {
	return slices.ContainsFunc(j.mishaps, func(m farm.Mishap) bool {
		return m.Run == run && m.Cause == cause && slices.ContainsFunc(m.Suspects, func(of blame.Suspect) bool {
			return of.Kind == place.Kind && of.Name == place.Name && of.Era != place.Era
		})
	})
}

// unparked returns the Records that try frames again which are parked for what somebody
// else is to blame for, as it is seen now.
func (j *judgement) unparked(of func(blame.Suspect) bool, why string, now time.Time) (records []farm.Record) {
	for _, run := range j.s.Queue() {
		if run.Parked.Empty() {
			continue
		}
		var again []frames.Span
		for frame := range run.Parked.All() {
			if j.innocent(run, frame, of) {
				again = append(again, frames.Span{First: frame, Last: frame})
			}
		}
		if len(again) > 0 {
			set := frames.Of(again...)
			records = append(records, farm.FramesRetried{
				Run: run.ID, Frames: set, Reason: fmt.Sprintf("%s: tried again, for %s", FramesText(set), why), At: now,
			})
		}
	}
	return records
}

// Rethought returns the Records that try frames of a run again which are parked for what, as
// it is seen now, is the fault of a place or a licence. It is for when nothing else of the run is left.
func Rethought(s *farm.State, run *farm.Run, now time.Time) []farm.Record {
	open := run.NeedsHand()
	if open.Empty() {
		return nil
	}
	j := judge(s, nil, nil)
	var again []frames.Span
	for frame := range open.All() {
		if j.innocent(
			run,
			frame,
			func(of blame.Suspect) bool { return of.Kind == blame.Place || of.Kind == blame.Licence },
		) {
			again = append(again, frames.Span{First: frame, Last: frame})
		}
	}
	if len(again) == 0 {
		return nil
	}
	set := frames.Of(again...)
	reason := FramesText(set) + ": tried again, for a place or a licence is to blame for what failed"
	return []farm.Record{farm.FramesRetried{Run: run.ID, Frames: set, Reason: reason, At: now}}
}

// innocent reports whether a frame would not be parked if its tries were counted as they
// are seen now, for what somebody else is to blame for.
func (j *judgement) innocent(run *farm.Run, frame int, of func(blame.Suspect) bool) bool {
	t := run.Trouble[frame]
	if t == nil || len(t.Attempts) >= mostAttempts {
		return false
	}
	had := 0 // also those that were forgiven when it was tried again before
	for _, m := range j.mishaps {
		if m.Run == run.ID && m.Frame == frame {
			had++
		}
	}
	if had >= mostAttempts {
		return false
	}
	tried, blamed := 0, false
	for _, a := range t.Attempts {
		i := j.of(run.ID, frame, a)
		switch {
		case i >= 0 && of(j.opinion.By(i).Suspect):
			blamed = true
		case a.Cause == CauseOutput:
			return false
		case i >= 0 && j.opinion.By(i).Suspect.Kind == blame.Run:
			// not the frame's: others of the run came out well
		case i >= 0 && j.counts(i), i < 0 && a.Counts:
			tried++
		}
	}
	return blamed && tried < run.Spec.Tries
}

// crossed counts the frames of a run that have failed on two nodes each.
func (j *judgement) crossed(run blame.Suspect) int {
	on, crossed := map[int]farm.NodeID{}, map[int]bool{}
	for _, m := range j.mishaps {
		if !slices.Contains(m.Suspects, run) {
			continue
		}
		if other, known := on[m.Frame]; known && other != m.Node {
			crossed[m.Frame] = true
		}
		on[m.Frame] = m.Node
	}
	return len(crossed)
}

// alone reports whether a suspect has failed no other run than one, as far as can be told.
func (j *judgement) alone(of blame.Suspect, run farm.RunID) bool {
	const perhaps = 0.05
	for i, m := range j.mishaps {
		if m.Run != run && slices.ContainsFunc(j.opinion.Shares[i], func(s blame.Share) bool {
			return s.Suspect == of && s.Of > perhaps
		}) {
			return false
		}
	}
	return true
}
