package farm

import (
	"fmt"
	"time"

	"vexillum/internal/core/frames"
)

// RunSet changes the terms of a run.
type RunSet struct {
	Run    RunID     `json:"run"`
	Terms  Terms     `json:"terms"`
	Reason string    `json:"reason"` // what is different, and who wanted it
	At     time.Time `json:"at"`
}

// Kind implements [Record].
func (RunSet) Kind() Kind { return "run set" }

// About implements [Record].
func (r RunSet) About() About { return About{Run: r.Run, At: r.At, Reason: r.Reason} }

// Wakes implements [Record].
func (RunSet) Wakes() Wakes { return WakesAsks }

func (r RunSet) apply(s *State) error {
	run, err := s.run(r.Run)
	if err != nil {
		return err
	}
	run.Terms, s.queue = r.Terms, nil
	run.read()
	if r.Terms.Freed {
		run.free()
	}
	return nil
}

// RunSubmitted puts a run into the queue, held or at once.
type RunSubmitted struct {
	Run    RunID     `json:"run"`
	Spec   Spec      `json:"spec"`
	State  RunState  `json:"state"`
	Order  int64     `json:"order"`
	Key    string    `json:"key"`    // the submitter's own, to make a submit repeatable; may be empty
	Digest string    `json:"digest"` // of what was asked for under that key
	Reason string    `json:"reason"`
	At     time.Time `json:"at"`
}

// Kind implements [Record].
func (RunSubmitted) Kind() Kind { return "run submitted" }

// About implements [Record].
func (r RunSubmitted) About() About { return About{Run: r.Run, At: r.At, Reason: r.Reason} }

// Wakes implements [Record].
func (RunSubmitted) Wakes() Wakes { return WakesAsks }

func (r RunSubmitted) apply(s *State) error {
	return s.runSubmitted(r)
}

// RunMoved puts a run into another state.
type RunMoved struct {
	Run   RunID    `json:"run"`
	State RunState `json:"state"`
	Held  HeldFor  `json:"held"` // of a run that the farm itself holds
	// SHA-256 of the scene: of one that is held as that has changed, the one that was found;
	// of one that goes on, the one that it goes on with; empty: as before
	Scene  string    `json:"scene,omitempty"`
	Reason string    `json:"reason"`
	At     time.Time `json:"at"`
}

// Kind implements [Record].
func (RunMoved) Kind() Kind { return "run moved" }

// About implements [Record].
func (r RunMoved) About() About { return About{Run: r.Run, At: r.At, Reason: r.Reason} }

// Wakes implements [Record].
func (RunMoved) Wakes() Wakes { return WakesAsks | WakesOrders }

func (r RunMoved) apply(s *State) error {
	return s.runMoved(r)
}

// RunKept says that Done and Parked are kept whole up to here, so that frames
// finished earlier need not be read one by one at a start.
type RunKept struct {
	Run    RunID     `json:"run"`
	Done   string    `json:"done"`   // as multirange
	Parked string    `json:"parked"` // as multirange
	Seq    int64     `json:"seq"`
	At     time.Time `json:"at"`
}

// Kind implements [Record].
func (RunKept) Kind() Kind { return "run kept" }

// About implements [Record].
func (r RunKept) About() About { return About{Run: r.Run, At: r.At} }

// Wakes implements [Record].
func (RunKept) Wakes() Wakes { return 0 }

func (r RunKept) apply(s *State) error {
	run, err := s.run(r.Run)
	if err != nil {
		return err
	}
	run.Checkpoint, run.SinceCheckpoint = r.Seq, 0
	return nil
}

// LeaseOpened gives frames of a run to a node.
type LeaseOpened struct {
	Lease   LeaseID    `json:"lease"`
	Node    NodeID     `json:"node"`
	Run     RunID      `json:"run"`
	Session int64      `json:"session"`
	Ask     int64      `json:"ask"`
	Frames  frames.Set `json:"frames"`
	Share   Share      `json:"share"`          // of the node, until the lease has ended
	Race    bool       `json:"race"`           // the frame is in flight on another node, too
	From    NodeID     `json:"from,omitempty"` // the frames were taken over from this node; 0: from none
	Reason  string     `json:"reason"`
	At      time.Time  `json:"at"`
}

// Kind implements [Record].
func (LeaseOpened) Kind() Kind { return "lease opened" }

// About implements [Record].
func (r LeaseOpened) About() About {
	return About{Run: r.Run, Node: r.Node, At: r.At, Reason: r.Reason}
}

// Wakes implements [Record].
func (LeaseOpened) Wakes() Wakes { return 0 }

func (r LeaseOpened) apply(s *State) error {
	return s.leaseOpened(r)
}

// LeaseExtended moves the end of a lease: it gets more frames.
type LeaseExtended struct {
	Lease  LeaseID    `json:"lease"`
	Node   NodeID     `json:"node"`
	Run    RunID      `json:"run"`
	Ask    int64      `json:"ask"`
	Frames frames.Set `json:"frames"`
	Reason string     `json:"reason"`
	At     time.Time  `json:"at"`
}

// Kind implements [Record].
func (LeaseExtended) Kind() Kind { return "lease extended" }

// About implements [Record].
func (r LeaseExtended) About() About {
	return About{Run: r.Run, Node: r.Node, At: r.At, Reason: r.Reason}
}

// Wakes implements [Record].
func (LeaseExtended) Wakes() Wakes { return 0 }

func (r LeaseExtended) apply(s *State) error {
	return s.leaseExtended(r)
}

// LeaseTrimmed moves the end of a lease: frames that the node has not begun
// go back to be dealt.
type LeaseTrimmed struct {
	Lease  LeaseID    `json:"lease"`
	Node   NodeID     `json:"node"`
	Run    RunID      `json:"run"`
	Frames frames.Set `json:"frames"`
	Reason string     `json:"reason"`
	At     time.Time  `json:"at"`
}

// Kind implements [Record].
func (LeaseTrimmed) Kind() Kind { return "lease trimmed" }

// About implements [Record].
func (r LeaseTrimmed) About() About {
	return About{Run: r.Run, Node: r.Node, At: r.At, Reason: r.Reason}
}

// Wakes implements [Record].
func (LeaseTrimmed) Wakes() Wakes { return WakesAsks }

func (r LeaseTrimmed) apply(s *State) error {
	return s.leaseTrimmed(r)
}

// LeaseEnded ends a lease; frames without a result go back to be dealt.
type LeaseEnded struct {
	Lease  LeaseID   `json:"lease"`
	Node   NodeID    `json:"node"`
	Run    RunID     `json:"run"`
	Reason string    `json:"reason"`
	At     time.Time `json:"at"`
}

// Kind implements [Record].
func (LeaseEnded) Kind() Kind { return "lease ended" }

// About implements [Record].
func (r LeaseEnded) About() About { return About{Run: r.Run, Node: r.Node, At: r.At, Reason: r.Reason} }

// Wakes implements [Record].
func (LeaseEnded) Wakes() Wakes { return WakesAsks | WakesOrders }

func (r LeaseEnded) apply(s *State) error {
	return s.leaseEnded(r)
}

// Fetched is what a node got of a bundle before it could launch.
type Fetched struct {
	Bytes   int64   `json:"bytes"`
	Seconds float64 `json:"seconds"`
}

// FrameAccepted takes a node's picture of a frame as the one that counts.
// The node now publishes it.
type FrameAccepted struct {
	Run            RunID   `json:"run"`
	Frame          int     `json:"frame"`
	Lease          LeaseID `json:"lease"`
	Node           NodeID  `json:"node"`
	Launch         int     `json:"launch"`
	Hash           string  `json:"hash"` // see FrameHash
	Bytes          int64   `json:"bytes"`
	Files          []File  `json:"files,omitempty"`  // of a frame with passes
	StartupSeconds float64 `json:"startup_seconds"`  // of the launch, with its first frame; 0 otherwise
	Fetched        Fetched `json:"fetched,omitzero"` // before the launch, with its first frame
	RenderSeconds  float64 `json:"render_seconds"`
	CheckSeconds   float64 `json:"check_seconds"`
	// most that the launch had of main memory so far; 0: not known
	MemoryBytes int64 `json:"memory_bytes,omitempty"`
	// why somebody should look at the frame; empty: nothing was odd
	Suspect string    `json:"suspect,omitempty"`
	At      time.Time `json:"at"`
}

// Kind implements [Record].
func (FrameAccepted) Kind() Kind { return "frame accepted" }

// About implements [Record].
func (r FrameAccepted) About() About { return About{Run: r.Run, Node: r.Node, At: r.At} }

// Wakes implements [Record].
func (FrameAccepted) Wakes() Wakes { return 0 }

func (r FrameAccepted) apply(s *State) error {
	return s.frameAccepted(r)
}

// FrameDone reports that an accepted picture stands in its place, all its files
// together. It may be one that was accepted earlier, and has other bytes.
type FrameDone struct {
	Run   RunID     `json:"run"`
	Frame int       `json:"frame"`
	Lease LeaseID   `json:"lease"`
	Node  NodeID    `json:"node"`
	Hash  string    `json:"hash"`
	Bytes int64     `json:"bytes"`
	Files []File    `json:"files,omitempty"` // of a frame with passes
	At    time.Time `json:"at"`
}

// Kind implements [Record].
func (FrameDone) Kind() Kind { return "frame done" }

// About implements [Record].
func (r FrameDone) About() About { return About{Run: r.Run, Node: r.Node, At: r.At} }

// Wakes implements [Record].
func (FrameDone) Wakes() Wakes { return 0 }

func (r FrameDone) apply(s *State) error {
	return s.frameDone(r)
}

// DeliveryLost takes an acceptance back because its node can no longer
// publish the picture. The frame goes back to be dealt.
type DeliveryLost struct {
	Run    RunID     `json:"run"`
	Frame  int       `json:"frame"`
	Node   NodeID    `json:"node"`
	Hash   string    `json:"hash"`
	Reason string    `json:"reason"`
	At     time.Time `json:"at"`
}

// Kind implements [Record].
func (DeliveryLost) Kind() Kind { return "delivery lost" }

// About implements [Record].
func (r DeliveryLost) About() About {
	return About{Run: r.Run, Node: r.Node, At: r.At, Reason: r.Reason}
}

// Wakes implements [Record].
func (DeliveryLost) Wakes() Wakes { return WakesAsks }

func (r DeliveryLost) apply(s *State) error {
	return s.deliveryLost(r)
}

// Recount says whether one try at a frame uses up one of its tries.
type Recount struct {
	Lease  LeaseID `json:"lease"`
	Launch int     `json:"launch"`
	Counts bool    `json:"counts"`
}

// FrameFailed reports that a try at a frame failed. The frame goes back to be
// dealt.
type FrameFailed struct {
	Run     RunID   `json:"run"`
	Frame   int     `json:"frame"`
	Lease   LeaseID `json:"lease"`
	Node    NodeID  `json:"node"`
	Launch  int     `json:"launch"`
	Cause   string  `json:"cause"`
	Message string  `json:"message"`
	Counts  bool    `json:"counts"`
	// Recounts are tries at the frame before that count now, or do not any more: somebody
	// else is to blame than it seemed.
	Recounts []Recount `json:"recounts,omitempty"`
	Blame    Blame     `json:"blame"`
	Reason   string    `json:"reason"`
	At       time.Time `json:"at"`
}

// Kind implements [Record].
func (FrameFailed) Kind() Kind { return "frame failed" }

// About implements [Record].
func (r FrameFailed) About() About {
	return About{Run: r.Run, Node: r.Node, At: r.At, Reason: r.Reason}
}

// Wakes implements [Record].
func (FrameFailed) Wakes() Wakes { return WakesAsks | WakesYields }

func (r FrameFailed) apply(s *State) error {
	return s.frameFailed(r)
}

// FrameParked sets a frame aside for a person.
type FrameParked struct {
	Run    RunID     `json:"run"`
	Frame  int       `json:"frame"`
	Reason string    `json:"reason"`
	At     time.Time `json:"at"`
}

// Kind implements [Record].
func (FrameParked) Kind() Kind { return "frame parked" }

// About implements [Record].
func (r FrameParked) About() About { return About{Run: r.Run, At: r.At, Reason: r.Reason} }

// Wakes implements [Record].
func (FrameParked) Wakes() Wakes { return 0 }

func (r FrameParked) apply(s *State) error {
	return s.frameParked(r)
}

// FramesRetried puts parked frames back with all their tries.
type FramesRetried struct {
	Run    RunID      `json:"run"`
	Frames frames.Set `json:"frames"`
	Reason string     `json:"reason"`
	At     time.Time  `json:"at"`
}

// Kind implements [Record].
func (FramesRetried) Kind() Kind { return "frames retried" }

// About implements [Record].
func (r FramesRetried) About() About { return About{Run: r.Run, At: r.At, Reason: r.Reason} }

// Wakes implements [Record].
func (FramesRetried) Wakes() Wakes { return WakesAsks }

func (r FramesRetried) apply(s *State) error {
	return s.framesRetried(r)
}

// FramesSkipped gives frames up with a note: they are parked, and nobody is asked for them
// any more.
type FramesSkipped struct {
	Run    RunID      `json:"run"`
	Frames frames.Set `json:"frames"`
	Note   string     `json:"note"`
	Reason string     `json:"reason"`
	At     time.Time  `json:"at"`
}

// Kind implements [Record].
func (FramesSkipped) Kind() Kind { return "frames skipped" }

// About implements [Record].
func (r FramesSkipped) About() About { return About{Run: r.Run, At: r.At, Reason: r.Reason} }

// Wakes implements [Record].
func (FramesSkipped) Wakes() Wakes { return WakesOrders }

func (r FramesSkipped) apply(s *State) error {
	return s.framesSkipped(r)
}

// SuspectAccepted says that frames are as they shall be in which something odd was found.
type SuspectAccepted struct {
	Run    RunID      `json:"run"`
	Frames frames.Set `json:"frames"`
	Reason string     `json:"reason"`
	At     time.Time  `json:"at"`
}

// Kind implements [Record].
func (SuspectAccepted) Kind() Kind { return "suspect accepted" }

// About implements [Record].
func (r SuspectAccepted) About() About { return About{Run: r.Run, At: r.At, Reason: r.Reason} }

// Wakes implements [Record].
func (SuspectAccepted) Wakes() Wakes { return 0 }

func (r SuspectAccepted) apply(s *State) error {
	run, err := s.run(r.Run)
	if err != nil {
		return err
	}
	if odd := r.Frames.Minus(run.Suspects()); !odd.Empty() {
		return fmt.Errorf("frames %v are not suspect", odd)
	}
	for f := range r.Frames.All() {
		delete(run.Suspect, f)
	}
	return nil
}

// FramesRedone puts frames that are done back to be rendered again. Their pictures
// stand until new ones are verified; no lease that had them brings them any more.
type FramesRedone struct {
	Run    RunID      `json:"run"`
	Frames frames.Set `json:"frames"`
	Reason string     `json:"reason"`
	At     time.Time  `json:"at"`
}

// Kind implements [Record].
func (FramesRedone) Kind() Kind { return "frames redone" }

// About implements [Record].
func (r FramesRedone) About() About { return About{Run: r.Run, At: r.At, Reason: r.Reason} }

// Wakes implements [Record].
func (FramesRedone) Wakes() Wakes { return WakesAsks }

func (r FramesRedone) apply(s *State) error {
	return s.framesRedone(r)
}
