// Package accept holds the rules by which the farm takes what nodes bring:
// which picture of a frame counts, when it is published, what a node keeps
// over a restart, and what it gives back. Each rule takes the farm and a
// message and returns Records and an answer. Told the same message twice, a
// rule gives the same answer and no Records the second time.
//
// It knows neither how messages travel nor which node should get what.
package accept

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/triage"
)

// Outcome is what became of a frame or a lease.
type Outcome int

// The outcomes that a node reports.
const (
	Good      Outcome = iota + 1 // verified, may be delivered
	Delivered                    // stands in its place
	Failed                       // the try failed
	Ended                        // the lease's processes are gone
)

// Report is one thing that a node reports.
type Report struct {
	Outcome        Outcome
	Lease          farm.LeaseID
	Launch         int
	Frame          int
	Hash           string // see farm.FrameHash
	Bytes          int64
	Files          []farm.File // of a frame with passes
	StartupSeconds float64
	Fetched        farm.Fetched
	RenderSeconds  float64
	CheckSeconds   float64
	MemoryBytes    int64  // most that the launch had so far; 0: not known
	Warning        string // that makes a good frame suspect
	Scene          string // SHA-256 of a scene that has changed
	Cause          string
	Message        string
}

// Verdict says what a node shall do with what it reported.
type Verdict struct {
	Deliver bool
	Discard bool
	Why     string
	Replace bool     // another picture may stand in the frame's place: it is set aside
	Adopt   []string // hashes that may already stand in the frame's place
	Forged  bool     // what was reported can never have been: no honest node says it
}

// Take decides about a report of a node.
func Take(s *farm.State, id farm.NodeID, r Report, now time.Time) ([]farm.Record, Verdict) {
	l := s.Lease(r.Lease)
	if l == nil || l.Node != id {
		forged := r.Lease < 1 || r.Lease > s.LastLease || l != nil // one of a closed run is late, and only that
		return nil, Verdict{
			Discard: true, Forged: forged,
			Why: fmt.Sprintf("lease %d is over or was never given to this node", r.Lease),
		}
	}
	run := s.Runs[l.Run]
	if r.Outcome == Ended {
		if !l.Open() {
			return nil, Verdict{Why: "the lease has ended"}
		}
		ended := farm.LeaseEnded{
			Lease: l.ID, Node: id, Run: run.ID, Reason: s.NodeName(id) + " " + firstLine(r.Message), At: now,
		}
		return []farm.Record{ended}, Verdict{Why: "the lease has ended"}
	}
	if !l.Given.Has(r.Frame) {
		return nil, Verdict{
			Discard: true, Forged: true, Why: fmt.Sprintf("frame %d was never on lease %d", r.Frame, l.ID),
		}
	}
	if r.Outcome == Good || r.Outcome == Delivered {
		if err := run.Spec.CheckFiles(r.Files, r.Hash, r.Bytes); err != nil {
			return nil, Verdict{Discard: true, Forged: true, Why: err.Error()}
		}
	}
	switch r.Outcome {
	case Good:
		return good(run, l, r, now)
	case Delivered:
		if !awaited(run, id, r) {
			return nil, Verdict{Why: "noted"}
		}
		done := farm.FrameDone{
			Run: run.ID, Frame: r.Frame, Lease: l.ID, Node: id, Hash: r.Hash, Bytes: r.Bytes, Files: r.Files,
			At: now,
		}
		return triage.Done(s, done, now), Verdict{Why: "noted"}
	case Failed:
		if d, delivering := run.Delivering[r.Frame]; delivering && d.Node == id && r.Hash == d.Hash {
			return undelivered(s, run, r, now), Verdict{Why: "noted"}
		}
		return triage.Failed(
				s, triage.Failure{
					Lease: l.ID, Launch: r.Launch, Frame: r.Frame, Cause: r.Cause, Message: r.Message, Scene: r.Scene,
				},
				now,
			), Verdict{
				Why: "noted",
			}
	}
	return nil, Verdict{Discard: true, Why: "no such outcome"}
}

// awaited reports whether a frame waits to be delivered as it is reported.
func awaited(run *farm.Run, id farm.NodeID, r Report) bool {
	d, delivering := run.Delivering[r.Frame]
	return delivering && (d.Hash == r.Hash && d.Node == id || slices.Contains(acceptedBefore(run, r.Frame), r.Hash))
}

// Awaits returns the run whose frame a report brings to its end: the files that
// it names are then to stand in their place. nil: it brings nothing to an
// end.
func Awaits(s *farm.State, id farm.NodeID, r Report) *farm.Run {
	l := s.Lease(r.Lease)
	if r.Outcome != Delivered || l == nil || l.Node != id || !l.Given.Has(r.Frame) {
		return nil
	}
	run := s.Runs[l.Run]
	if run.Spec.CheckFiles(r.Files, r.Hash, r.Bytes) != nil || !awaited(run, id, r) {
		return nil
	}
	return run
}

// good takes the first good picture of a frame that is still wanted, from any
// lease that ever held it. That one rule covers races, late returns and trims
// that crossed a report.
func good(run *farm.Run, l *farm.Lease, r Report, now time.Time) ([]farm.Record, Verdict) {
	if d, delivering := run.Delivering[r.Frame]; delivering {
		if d.Node == l.Node && d.Hash == r.Hash {
			return nil, Verdict{
				Deliver: true, Why: "accepted before", Replace: run.Redo.Has(r.Frame),
				Adopt: acceptedBefore(run, r.Frame),
			}
		}
		return nil, Verdict{Discard: true, Why: fmt.Sprintf("another picture of frame %d is being delivered", r.Frame)}
	}
	if run.Done.Has(r.Frame) {
		return nil, Verdict{Discard: true, Why: fmt.Sprintf("frame %d is done", r.Frame)}
	}
	if mine := l.Open() && l.Left.Has(r.Frame) && !run.State.Closed(); !mine && !run.Wants(r.Frame) {
		return nil, Verdict{Discard: true, Why: fmt.Sprintf("frame %d is no longer wanted", r.Frame)}
	}
	accepted := farm.FrameAccepted{
		Run: run.ID, Frame: r.Frame, Lease: l.ID, Node: l.Node,
		Launch: r.Launch, Hash: r.Hash, Bytes: r.Bytes, Files: r.Files,
		StartupSeconds: r.StartupSeconds, Fetched: r.Fetched, RenderSeconds: r.RenderSeconds,
		CheckSeconds: r.CheckSeconds,
		MemoryBytes:  r.MemoryBytes, Suspect: r.Warning, At: now,
	}
	return []farm.Record{accepted}, Verdict{
		Deliver: true, Why: "accepted", Replace: run.Redo.Has(r.Frame), Adopt: acceptedBefore(run, r.Frame),
	}
}

// acceptedBefore returns the hashes that were accepted for a frame and whose
// delivery was lost: their files may stand in its place nevertheless.
func acceptedBefore(run *farm.Run, frame int) []string {
	if t := run.Trouble[frame]; t != nil {
		return t.Accepted
	}
	return nil
}

// mostDeliveries bounds how often a frame is accepted and not published
// before a person has to look.
const mostDeliveries = 5

// undelivered takes back a frame that was accepted but that its node could
// not publish: another file stands in its place, or the place is gone.
func undelivered(s *farm.State, run *farm.Run, r Report, now time.Time) []farm.Record {
	d := run.Delivering[r.Frame]
	reason := fmt.Sprintf("frame %d could not be delivered by %s: %s", r.Frame, s.NodeName(d.Node), r.Message)
	records := []farm.Record{
		farm.DeliveryLost{Run: run.ID, Frame: r.Frame, Node: d.Node, Hash: d.Hash, Reason: reason, At: now},
	}
	if r.Cause == triage.CauseOutput || len(acceptedBefore(run, r.Frame))+1 >= mostDeliveries {
		records = append(records, farm.FrameParked{Run: run.ID, Frame: r.Frame, Reason: reason, At: now})
	}
	return records
}

// Release takes from a node all work of which it holds nothing any more: its
// open leases, and the frames that it had not yet published. holds says which
// leases it still holds; nil means none.
func Release(s *farm.State, n farm.NodeID, holds func(farm.LeaseID) bool, reason string, now time.Time) []farm.Record {
	var records []farm.Record
	for _, l := range s.LeasesOf(n) {
		if holds == nil || !holds(l.ID) {
			records = append(records, farm.LeaseEnded{Lease: l.ID, Node: n, Run: l.Run, Reason: reason, At: now})
		}
	}
	for _, run := range s.Queue() {
		for _, f := range slices.Sorted(maps.Keys(run.Delivering)) {
			if d := run.Delivering[f]; d.Node == n && (holds == nil || !holds(d.Lease)) {
				records = append(
					records, farm.DeliveryLost{Run: run.ID, Frame: f, Node: n, Hash: d.Hash, Reason: reason, At: now},
				)
			}
		}
	}
	return records
}

// Start opens a session of a node process that holds the given leases. Those
// that are open go on in it; all other work of the node is dealt to others.
func Start(
	s *farm.State, n *farm.Node, facts farm.Facts, holding []farm.LeaseID, now time.Time,
) (records []farm.Record, keep []farm.LeaseID) {
	holds := func(id farm.LeaseID) bool { return slices.Contains(holding, id) }
	records = Release(s, n.ID, holds, n.Name+" started its node process anew and holds nothing of it", now)
	for _, l := range s.LeasesOf(n.ID) {
		if holds(l.ID) {
			keep = append(keep, l.ID)
		}
	}
	return append(
		records, farm.NodeStarted{Node: n.ID, Session: n.Session + 1, Facts: facts, Kept: keep, At: now},
	), keep
}

// Trimmed takes a node's answer to a trim: the frames that it gave back go to
// be dealt to others. What has a result by now is not touched.
func Trimmed(
	s *farm.State, n farm.NodeID, lease farm.LeaseID, given frames.Set, reason string, now time.Time,
) []farm.Record {
	l := s.Lease(lease)
	if l == nil || l.Node != n || !l.Open() {
		return nil
	}
	back := given.Intersect(l.Left)
	if back.Empty() {
		return nil
	}
	return []farm.Record{farm.LeaseTrimmed{Lease: l.ID, Node: n, Run: l.Run, Frames: back, Reason: reason, At: now}}
}

// Limits of a delivery.
const (
	// DeliverAfter is how long an accepted frame may be out of its node's
	// hands, as its signs of life tell, before it is dealt to others.
	DeliverAfter = time.Minute
	// DeliverWithin is how long a delivery may take in all.
	DeliverWithin = 2 * time.Hour
)

// Delivery names a frame on its way from a node.
type Delivery struct {
	Node  farm.NodeID
	Run   farm.RunID
	Frame int
	Hash  string
}

// Overdue returns the Records that take deliveries back which do not come to
// an end. watch tells for how long this service has known of a delivery, and
// for how long it has not been in its node's hands: neither is reckoned from
// times of day, which may be set, and differ from service to service.
func Overdue(s *farm.State, watch func(Delivery) (known, quiet time.Duration), now time.Time) []farm.Record {
	var records []farm.Record
	for _, run := range s.Queue() {
		for _, f := range slices.Sorted(maps.Keys(run.Delivering)) {
			d := run.Delivering[f]
			reason := ""
			known, quiet := watch(Delivery{d.Node, run.ID, f, d.Hash})
			switch {
			case known > DeliverWithin:
				reason = fmt.Sprintf(
					"%s has not delivered frame %d in %.0f hours", s.NodeName(d.Node), f, DeliverWithin.Hours(),
				)
			case quiet > DeliverAfter:
				reason = fmt.Sprintf("%s no longer has frame %d", s.NodeName(d.Node), f)
			default:
				continue
			}
			records = append(
				records, farm.DeliveryLost{Run: run.ID, Frame: f, Node: d.Node, Hash: d.Hash, Reason: reason, At: now},
			)
		}
	}
	return records
}

func firstLine(text string) string {
	for i, c := range text {
		if c == '\n' {
			return text[:i]
		}
	}
	return text
}
