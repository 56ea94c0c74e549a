package node

import (
	"sync"
	"sync/atomic"

	"vexillum/internal/core/frames"
	"vexillum/internal/wire"
)

// status is how far the work on a lease is, as it is told to the service. It may
// be used from anywhere.
type status struct {
	changed func()       // is called after each change
	used    atomic.Int64 // bytes of main memory that its processes have now

	mu sync.Mutex
	moment
}

// moment is what a status says at a moment.
type moment struct {
	phase     string
	frame     *int        // in flight
	fraction  float64     // of it, 0 to 1
	detail    string      // of the phase, in words; may be empty
	stretch   frames.Span // of the newest launch
	verifying map[int]bool
	trouble   string // why frames wait to be delivered
	noRoom    string // why no further frame is begun
}

func newStatus(changed func()) *status {
	return &status{changed: changed, moment: moment{phase: "starting", verifying: map[int]bool{}}}
}

func (s *status) set(change func(n *moment)) {
	s.mu.Lock()
	change(&s.moment)
	s.mu.Unlock()
	s.changed()
}

// notYetSeen returns the frame that may have begun without a word yet: the first of
// a launch that is starting.
func (s *status) notYetSeen() frames.Set {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.frame == nil && s.phase == "starting" {
		return frames.One(s.stretch.First)
	}
	return frames.Set{}
}

// launched returns all frames of the newest launch.
func (s *status) launched() frames.Set {
	s.mu.Lock()
	defer s.mu.Unlock()
	return frames.Of(s.stretch)
}

// idle reports whether a renderer is starting and no frame is in flight.
func (s *status) idle() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.frame == nil && s.phase == "starting"
}

// progress says how far a lease is.
func (s *status) progress(lease int64) wire.Progress {
	s.mu.Lock()
	defer s.mu.Unlock()
	p := wire.Progress{
		Lease: lease, Frame: s.frame, Phase: s.phase, Fraction: s.fraction, Detail: s.detail, Trouble: s.trouble,
		Full:        s.noRoom,
		MemoryBytes: s.used.Load(),
	}
	for f := range s.verifying {
		p.Verifying = append(p.Verifying, f)
	}
	return p
}
