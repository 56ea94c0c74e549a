package floor

import (
	"context"
	"fmt"

	"vexillum/internal/core/farm"
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
	Hash           string
	Bytes          int64
	StartupSeconds float64
	RenderSeconds  float64
	CheckSeconds   float64
	Cause          string
	Message        string
}

// Verdict says what a node shall do with what it reported.
type Verdict struct {
	Deliver bool
	Discard bool
	Why     string
	Adopt   []string // hashes that may already stand in the frame's place
}

// Report takes what a node reports, in order, and answers each item. An item
// that is told again gets the same answer and changes nothing.
func (f *Floor) Report(ctx context.Context, id farm.NodeID, session int64, reports []Report) ([]Verdict, error) {
	verdicts := make([]Verdict, 0, len(reports))
	err := f.do(ctx, func(t *turn) error {
		if _, err := t.session(id, session); err != nil {
			return err
		}
		for _, r := range reports {
			verdicts = append(verdicts, f.report(t, id, r))
		}
		return nil
	})
	return verdicts, err
}

func (f *Floor) report(t *turn, id farm.NodeID, r Report) Verdict {
	l := t.s.Lease(r.Lease)
	if l == nil || l.Node != id {
		return Verdict{Discard: true, Why: fmt.Sprintf("lease %d is over or was never given to this node", r.Lease)}
	}
	run := t.s.Runs[l.Run]
	if r.Outcome == Ended {
		if l.Open() {
			t.append(farm.LeaseEnded{Lease: l.ID, Node: id, Run: run.ID, Reason: t.s.NodeName(id) + " " + firstLine(r.Message), At: t.now})
		}
		return Verdict{Why: "the lease has ended"}
	}
	if !l.Given.Has(r.Frame) {
		return Verdict{Discard: true, Why: fmt.Sprintf("frame %d was never on lease %d", r.Frame, l.ID)}
	}
	switch r.Outcome {
	case Good:
		return f.good(t, run, l, r)
	case Delivered:
		d, delivering := run.Delivering[r.Frame]
		if delivering && (d.Hash == r.Hash && d.Node == id || acceptedBefore(run, r)) {
			t.append(farm.FrameDone{Run: run.ID, Frame: r.Frame, Lease: l.ID, Node: id, Hash: r.Hash, At: t.now})
		}
		return Verdict{Why: "noted"}
	default:
		t.append(triage.Failed(t.s, triage.Failure{Lease: l.ID, Launch: r.Launch, Frame: r.Frame, Cause: r.Cause, Message: r.Message}, t.now)...)
		if d, delivering := run.Delivering[r.Frame]; delivering && d.Node == id && r.Hash == d.Hash {
			f.undelivered(t, run, r)
		}
		return Verdict{Why: "noted"}
	}
}

// good takes the first good picture of a frame that is still wanted, from any
// lease that ever held it.
func (f *Floor) good(t *turn, run *farm.Run, l *farm.Lease, r Report) Verdict {
	if d, delivering := run.Delivering[r.Frame]; delivering {
		if d.Node == l.Node && d.Hash == r.Hash {
			return Verdict{Deliver: true, Why: "accepted before", Adopt: hashes(run, r.Frame)}
		}
		return Verdict{Discard: true, Why: fmt.Sprintf("another picture of frame %d is being delivered", r.Frame)}
	}
	if run.Done.Has(r.Frame) {
		return Verdict{Discard: true, Why: fmt.Sprintf("frame %d is done", r.Frame)}
	}
	if !run.Wants(r.Frame) {
		return Verdict{Discard: true, Why: fmt.Sprintf("frame %d is no longer wanted", r.Frame)}
	}
	adopt := hashes(run, r.Frame)
	t.append(farm.FrameAccepted{
		Run: run.ID, Frame: r.Frame, Lease: l.ID, Node: l.Node, Launch: r.Launch, Hash: r.Hash, Bytes: r.Bytes,
		StartupSeconds: r.StartupSeconds, RenderSeconds: r.RenderSeconds, CheckSeconds: r.CheckSeconds, At: t.now,
	})
	return Verdict{Deliver: true, Why: "accepted", Adopt: adopt}
}

func hashes(run *farm.Run, frame int) []string {
	if trouble := run.Trouble[frame]; trouble != nil {
		return trouble.Accepted
	}
	return nil
}

// acceptedBefore reports whether the hash is one that was accepted earlier
// for the frame and turned out to stand in its place already.
func acceptedBefore(run *farm.Run, r Report) bool {
	for _, h := range hashes(run, r.Frame) {
		if h == r.Hash {
			return true
		}
	}
	return false
}

// mostDeliveries bounds how often a frame is accepted and not published
// before a person has to look.
const mostDeliveries = 5

// undelivered takes back a frame that was accepted but that its node could
// not publish: another file stands in its place, or the place is gone.
func (f *Floor) undelivered(t *turn, run *farm.Run, r Report) {
	d := run.Delivering[r.Frame]
	reason := fmt.Sprintf("frame %d could not be delivered by %s: %s", r.Frame, t.s.NodeName(d.Node), r.Message)
	t.append(farm.DeliveryLost{Run: run.ID, Frame: r.Frame, Node: d.Node, Hash: d.Hash, Reason: reason, At: t.now})
	if r.Cause == triage.CauseOutput || len(hashes(run, r.Frame)) >= mostDeliveries {
		t.append(farm.FrameParked{Run: run.ID, Frame: r.Frame, Reason: reason, At: t.now})
	}
}
