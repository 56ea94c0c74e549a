// Package triage judges what went wrong: whose fault a failed frame is,
// whether it is tried again, and when a silent node's work is dealt to others. It
// returns Records and durations; it stops nothing itself.
package triage

import (
	"fmt"
	"slices"
	"time"

	"vexillum/internal/core/blame"
	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// Causes of a failed frame; see [blame].
const (
	CauseCrash       = blame.Crash
	CauseNoFrame     = blame.NoFrame
	CauseWrongOutput = blame.WrongOutput
	CauseBlank       = blame.Blank
	CauseMissingFile = blame.MissingFile
	CauseChanged     = blame.Changed
	CauseScene       = blame.SceneError
	CauseNoPlugin    = blame.NoPlugin
	CauseMemory      = blame.Memory
	CauseNoLicence   = blame.NoLicence
	CauseDiskFull    = blame.DiskFull
	CauseStalled     = blame.Stalled
	CauseNodeLost    = blame.NodeLost
	CauseNoStart     = blame.NoStart
	CauseNotAllowed  = blame.NotAllowed
	CausePlaceGone   = blame.PlaceGone
	CauseOutput      = blame.Output
	CauseDelivery    = blame.Delivery
)

// mostAttempts bounds how often a frame is tried in all, no matter who is to
// blame: nothing repeats for ever unseen.
const mostAttempts = 12

// Counts reports whether a failure by this cause uses up one of the frame's
// tries. What is plainly the machine's fault does not.
func Counts(cause string) bool {
	switch cause {
	case CauseDiskFull, CauseNodeLost, CauseNoLicence, CauseNoStart, CauseChanged, CausePlaceGone:
		return false
	}
	return true
}

// Failure is a try that did not give a good picture.
type Failure struct {
	Lease   farm.LeaseID
	Launch  int
	Frame   int
	Cause   string
	Message string
	Scene   string // SHA-256 of the scene that was found, where it has changed
}

// Failed decides what follows from a failed try: it is noted with who is to blame, the
// frame is parked once its tries are used up, and whoever is at fault is kept from doing
// more harm. The same failure told twice gives no Records the second time, and neither
// does one that no longer matters.
func Failed(s *farm.State, f Failure, now time.Time) []farm.Record {
	l := s.Lease(f.Lease)
	if l == nil || !l.Open() || !l.Left.Has(f.Frame) {
		return nil
	}
	run := s.Runs[l.Run]
	told := func(a farm.Attempt) bool { return a.Lease == f.Lease && a.Launch == f.Launch }
	if t := run.Trouble[f.Frame]; t != nil && slices.ContainsFunc(t.Attempts, told) {
		return nil
	}
	failed := farm.FrameFailed{
		Run: run.ID, Frame: f.Frame, Lease: l.ID, Node: l.Node, Launch: f.Launch,
		Cause: f.Cause, Message: f.Message, At: now,
	}
	if f.Cause == CauseChanged {
		return sceneChanged(run, failed, f, now)
	}
	j := judge(s, &failed, nil)
	share := j.last()
	failed.Blame = farm.Blame{Kind: share.Suspect.Kind.String(), Sure: share.Of}
	failed.Counts = j.counts(len(j.mishaps) - 1)
	if t := run.Trouble[f.Frame]; Counts(f.Cause) && t.FailedOn(l.Node) && !share.Suspect.Kind.Surrounds() {
		failed.Counts = true // it came back to this node as nobody else is there
	}
	waits := j.waits(l, now)
	tried, attempts, waited := j.used(run, l, &failed, len(waits) > 0)
	node := s.NodeName(l.Node)
	used := tried >= run.Spec.Tries || attempts >= mostAttempts || waited >= mostAttempts
	park := (f.Cause == CauseOutput || used) && !run.Raced(f.Frame)
	switch {
	case !park && failed.Counts:
		failed.Reason = fmt.Sprintf(
			"frame %d failed on %s (%s); %d of %d tries left", f.Frame, node, f.Cause, run.Spec.Tries-tried,
			run.Spec.Tries,
		)
	case !park:
		failed.Reason = fmt.Sprintf(
			"frame %d failed on %s (%s), which does not count against the frame", f.Frame, node, f.Cause,
		)
	default:
		failed.Reason = fmt.Sprintf("frame %d failed on %s (%s)", f.Frame, node, f.Cause)
	}
	records := []farm.Record{failed}
	if need := run.Spec.Licence; need != nil && f.Cause == CauseNoLicence &&
		capacity.LicencesUsed(s, need.Name, l.ID) > 0 {
		records = append(records, lowered(s, need.Name, l.ID, now))
	}
	if park {
		reason := fmt.Sprintf(
			"frame %d is parked: it failed %s, last by %s on %s",
			f.Frame,
			Times(max(attempts+waited, tried)),
			f.Cause,
			node,
		)
		records = append(records, farm.FrameParked{Run: run.ID, Frame: f.Frame, Reason: reason, At: now})
	}
	records = append(records, waits...)
	held := j.failing(run, l, failed, now)
	if len(waits)+len(held) == 0 {
		records = append(records, j.inVain(l, now)...)
	}
	records = append(records, held...)
	records = append(records, j.aside(s.Nodes[l.Node], l, now)...)
	return append(records, j.bounded(l, run, f.Frame, records, now)...)
}

// used counts the tries that a frame has used up, those that it has had, and those that were
// spent on something that all wait for, with the one that has just failed. Tries that count
// otherwise than it seemed are noted with that.
func (j *judgement) used(
	run *farm.Run, l *farm.Lease, failed *farm.FrameFailed, waits bool,
) (tried, attempts, waited int) {
	tried, attempts = 1, 1
	if !failed.Counts {
		tried = 0
	}
	if waits || j.waited(len(j.mishaps)-1) {
		attempts, waited = 0, 1
	}
	if t := run.Trouble[failed.Frame]; t != nil {
		for _, a := range t.Attempts {
			i := j.of(run.ID, failed.Frame, a)
			counts := a.Counts
			if i >= 0 && j.counts(i) != a.Counts && (!a.Counts || a.Node != l.Node) {
				counts = !a.Counts
				failed.Recounts = append(
					failed.Recounts,
					farm.Recount{Lease: a.Lease, Launch: a.Launch, Counts: counts},
				)
			}
			if counts {
				tried++
			}
			if i < 0 || !j.waited(i) {
				attempts++
			} else {
				waited++ // by the clock; and not for ever, if nothing else is left to try
			}
		}
	}
	return tried, attempts, waited
}

// sceneChanged holds a run whose scene is not the one any more that it was submitted
// with: pictures of two states would stand side by side. Going on is for a person to say.
func sceneChanged(run *farm.Run, failed farm.FrameFailed, f Failure, now time.Time) []farm.Record {
	failed.Reason = fmt.Sprintf("frame %d was not begun: the scene has changed", f.Frame)
	records := []farm.Record{failed}
	if run.State != farm.RunQueued && run.State != farm.RunRendering || f.Scene == "" || f.Scene == run.Scene() {
		return records
	}
	old := "no frame is done yet"
	if !run.Done.Empty() {
		old = OfOldState(run.Done)
	}
	return append(records, farm.RunMoved{
		Run: run.ID, State: farm.RunHeld, Held: farm.HeldChanged, Scene: f.Scene, At: now,
		Reason: fmt.Sprintf("%s; %s. To go on with the scene as it is now: vexillum mended %s", f.Message, old,
			run.Spec.Name()),
	})
}

// OfOldState says which frames were rendered before a scene has changed.
func OfOldState(old frames.Set) string {
	if old.Len() == 1 {
		return FramesText(old) + " is of the old state"
	}
	return FramesText(old) + " are of the old state"
}

// FoundNoLicence reports whether a renderer of a lease has found no licence.
func FoundNoLicence(run *farm.Run, lease farm.LeaseID) bool {
	for _, t := range run.Trouble {
		for _, a := range t.Attempts {
			if a.Lease == lease && a.Cause == CauseNoLicence {
				return true
			}
		}
	}
	return false
}

// loweredFor is how long fewer licences are reckoned with after a renderer
// found none.
const loweredFor = 5 * time.Minute

// lowered reckons for a while with as many licences as are used without the
// one that was not to be had.
func lowered(s *farm.State, name string, without farm.LeaseID, now time.Time) farm.Record {
	until := now.Add(loweredFor)
	r := farm.LicenceSet{
		Name: name, Count: farm.Uncounted, Lowered: capacity.LicencesUsed(s, name, without),
		LoweredUntil: &until, At: now,
	}
	if l := s.Licences[name]; l != nil {
		r.Count = l.Count
	}
	r.Reason = fmt.Sprintf(
		"a renderer found no licence %s: for %.0f minutes the farm reckons with %d", name, loweredFor.Minutes(),
		r.Lowered,
	)
	return r
}

// SilentAfter is how long nothing is heard from a node before it is shown
// silent.
const SilentAfter = 15 * time.Second

// FreeAfter returns how long a node must be silent before a frame on which it
// has spent so much is dealt to others: a tenth of that, at least a minute and at
// most half an hour.
func FreeAfter(spent time.Duration) time.Duration {
	return min(max(time.Minute, spent/10), 30*time.Minute)
}

// When many nodes fall silent together, it is not the nodes.
const (
	hushLeast  = 3                // the fewest nodes
	hushShare  = 5                // and more than one in this number of the farm
	hushWindow = 30 * time.Second // within this time
	hushFor    = 10 * time.Minute // nothing is freed for this time
)

// MassOutage reports whether nodes fell silent in such numbers that the network or
// the service must be to blame. fell holds when each silent node was last
// heard from; members is how many nodes the farm has. Until the returned time
// nothing is taken from silent nodes; it is zero when there is no hush.
func MassOutage(fell []time.Time, members int, now time.Time) (until time.Time, nodes int) {
	sorted := slices.SortedFunc(slices.Values(fell), time.Time.Compare)
	for i, first := range sorted {
		n := 0
		for n < len(sorted)-i && !sorted[i+n].After(first.Add(hushWindow)) {
			n++
		}
		if n >= hushLeast && n*hushShare > members && now.Before(first.Add(hushFor)) && n >= nodes {
			until, nodes = first.Add(hushFor), n
		}
	}
	return until, nodes
}

// Times prints how often something happened: once, 3 times.
func Times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}
