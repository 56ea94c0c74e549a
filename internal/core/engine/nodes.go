package engine

import (
	"fmt"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/protocol/accept"
)

// node is what is known of a node just now and is not kept.
type node struct {
	seen     time.Time
	fell     bool // silent without having said that it leaves
	freed    bool // silent for so long that all was taken from it
	progress map[farm.LeaseID]Progress
	missing  map[farm.LeaseID]absence   // open leases that its last signs of life did not name
	trim     *trim                      // that it has not answered
	rests    map[farm.LeaseID]time.Time // until when a lease is not trimmed again
	advanced map[farm.LeaseID]time.Time // when a lease's last frame was accepted
	launched map[farm.LeaseID]time.Time // when its renderer had to be launched again
	answered int64                      // number of the newest ask of the session that was answered
}

// Progress is how far a node is with a lease.
type Progress struct {
	Frame       *int
	Phase       string
	Detail      string    // of the phase, in words; may be empty
	Fraction    float64   // 0 to 1, of the frame
	Since       time.Time // of the frame and phase
	Verifying   []int
	Checking    string // what a check that takes long is at, in words
	Trouble     string // why frames wait to be delivered
	Full        string // why no further frame is begun
	MemoryBytes int64  // that its processes have
}

// Hear notes that a node is heard from.
func (e *Engine) Hear(id farm.NodeID) {
	n, l := e.s.Nodes[id], e.nodes[id]
	l.seen, l.fell, l.freed = e.now, false, false
	if n.Reach != farm.Online {
		e.Append(farm.NodeReach{Node: id, Reach: farm.Online, Reason: n.Name + " is heard from again", At: e.now})
	}
}

// Seen notes that something of a node arrived, which is no sign of life of its
// session.
func (e *Engine) Seen(id farm.NodeID) { e.nodes[id].seen = e.now }

// Start opens a new session of a node process that holds the given leases. All
// other work of the node is dealt to others. It returns the leases that go on.
func (e *Engine) Start(id farm.NodeID, facts farm.Facts, holding []farm.LeaseID) (keep []farm.LeaseID) {
	records, keep := accept.Start(e.s, e.s.Nodes[id], facts, holding, e.now)
	e.Append(records...)
	return keep
}

// Leave takes in that a node process ends: its work is dealt to others.
func (e *Engine) Leave(id farm.NodeID, reason string) {
	name := e.s.NodeName(id)
	e.Append(accept.Release(e.s, id, nil, fmt.Sprintf("the node process of %s ended: %s", name, reason), e.now)...)
	e.Append(
		farm.NodeReach{Node: id, Reach: farm.Away, Reason: fmt.Sprintf("%s has left: %s", name, reason), At: e.now},
	)
	delete(e.asks, id)
}

// Report takes in one thing that a node reports, and answers it. What is
// reported again gets the same answer and changes nothing.
func (e *Engine) Report(id farm.NodeID, r accept.Report) accept.Verdict {
	records, verdict := accept.Take(e.s, id, r, e.now)
	e.Append(records...)
	return verdict
}

// Beat takes in a node's sign of life: what it does with each of its leases, and
// the memory that new processes could have, below 0 where it does not know.
func (e *Engine) Beat(id farm.NodeID, leases map[farm.LeaseID]Progress, memoryFree int64) {
	l := e.nodes[id]
	e.missing(l, id, leases)
	for lease, p := range leases {
		old := l.progress[lease]
		if old.Frame == nil && p.Frame != nil {
			e.loaded()
		}
		p.Since = e.now
		if old.Phase == p.Phase && sameFrame(old.Frame, p.Frame) {
			p.Since = old.Since
		}
		leases[lease] = p
	}
	l.progress = leases
	e.measure(id, memoryFree, leases)
}

func sameFrame(a, b *int) bool { return a == b || a != nil && b != nil && *a == *b }

// Begun notes that a node has begun a frame of a lease, where nothing but that
// has changed since its last sign of life. since may lie in the past.
func (e *Engine) Begun(id farm.NodeID, lease farm.LeaseID, frame int, since time.Time) {
	l := e.nodes[id]
	if l.progress == nil {
		l.progress = map[farm.LeaseID]Progress{}
	}
	if _, loaded := l.progress[lease]; !loaded {
		e.loaded()
	}
	l.progress[lease] = Progress{Frame: &frame, Since: since}
}

// loaded notes that a launch has come to its first frame: another may load from
// the same place then.
func (e *Engine) loaded() {
	for _, p := range e.s.Places {
		e.redeal = e.redeal || p.Loads > 0
	}
}

// failed notes that a try at a frame of a lease has failed: its renderer goes on
// with the next if it is fed, and is launched again otherwise.
func (e *Engine) failed(r farm.FrameFailed) {
	n, run := e.nodes[r.Node], e.s.Runs[r.Run]
	if n == nil {
		return
	}
	if run.Spec.Mode == farm.ModeFeed {
		note(&n.advanced, r.Lease, r.At)
		return
	}
	n.relaunches(r.Lease, r.Frame, r.At)
}

// goesOn notes that a frame of a lease was accepted: the renderer that did it goes
// on with the next, or another is launched for that.
func (n *node) goesOn(run *farm.Run, l *farm.Lease, frame int, at time.Time) {
	gap := run.Spec.Mode == farm.ModeRange && !l.Left.Empty() && l.Left.First() != frame+1
	if gap || run.Spec.Mode == farm.ModeSingle {
		n.relaunches(l.ID, frame, at)
		return
	}
	note(&n.advanced, l.ID, at)
}

// relaunches notes that a renderer is launched again after a frame.
func (n *node) relaunches(lease farm.LeaseID, frame int, at time.Time) {
	if p := n.progress[lease]; p.Frame != nil && *p.Frame == frame {
		delete(n.progress, lease)
	}
	delete(n.advanced, lease)
	note(&n.launched, lease, at)
}

func note(times *map[farm.LeaseID]time.Time, lease farm.LeaseID, at time.Time) {
	if *times == nil {
		*times = map[farm.LeaseID]time.Time{}
	}
	(*times)[lease] = at
}

// Progress returns how far a node is with its leases, as its last sign of life
// told. The caller must not change it.
func (e *Engine) Progress(id farm.NodeID) map[farm.LeaseID]Progress {
	if l := e.nodes[id]; l != nil {
		return l.progress
	}
	return nil
}

// FramesInFlight returns how many frames a node has begun and not finished.
func (e *Engine) FramesInFlight(id farm.NodeID) (frames int) {
	for lease, p := range e.Progress(id) {
		if held := e.s.Lease(lease); held != nil && held.Open() && p.Frame != nil {
			frames++
		}
	}
	return frames
}

// FellSilent reports whether a silent node has not said that it leaves.
func (e *Engine) FellSilent(id farm.NodeID) bool { return e.nodes[id] != nil && e.nodes[id].fell }

// absence is how long a lease has not been named.
type absence struct {
	times int
	since time.Time
}

// A lease that is missing from this number of beats in a row, and for this
// time, has not arrived or is lost.
const (
	missingMost  = 2
	missingAfter = 15 * time.Second
)

// missing ends leases of which the node does not know.
func (e *Engine) missing(l *node, id farm.NodeID, holds map[farm.LeaseID]Progress) {
	missing := map[farm.LeaseID]absence{}
	for _, lease := range e.s.LeasesOf(id) {
		if _, held := holds[lease.ID]; held {
			continue
		}
		a, known := l.missing[lease.ID]
		if !known {
			a.since = e.now
		}
		if a.times++; a.times >= missingMost && e.now.Sub(a.since) >= missingAfter {
			e.Append(farm.LeaseEnded{
				Lease: lease.ID, Node: id, Run: lease.Run, Reason: e.s.NodeName(id) + " does not know of it", At: e.now,
			})
			continue
		}
		missing[lease.ID] = a
	}
	l.missing = missing
}
