package node

import (
	"fmt"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"github.com/dustin/go-humanize"

	"vexillum/internal/core/frames"
	"vexillum/internal/core/span"
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
	frame     *int             // in flight
	fraction  float64          // of it, 0 to 1
	detail    string           // of the phase, in words; may be empty
	stretch   frames.Span      // of the newest launch
	verifying map[int]*looking // frames that are looked at; nil: not yet
	trouble   string           // why frames wait to be delivered
	noRoom    string           // why no further frame is begun
}

func newStatus(changed func()) *status {
	return &status{changed: changed, moment: moment{phase: "starting", verifying: map[int]*looking{}}}
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
		MemoryBytes: s.used.Load(), Checking: s.checking(time.Now()),
	}
	for f := range s.verifying {
		p.Verifying = append(p.Verifying, f)
	}
	return p
}

// looking is how far the look at a frame's file is.
type looking struct {
	since time.Time
	size  int64        // bytes of the file; 0: the recipe's own check looks at it
	seen  atomic.Int64 // bytes that were read, of twice the size
}

// longLook is how long a check takes before it is reported.
const longLook = 3 * time.Second

// checking says what the longest look is at, if there is one that takes long.
func (m *moment) checking(now time.Time) string {
	var longest *looking
	frame := 0
	for f, l := range m.verifying {
		if l != nil && (longest == nil || l.since.Before(longest.since)) {
			longest, frame = l, f
		}
	}
	switch {
	case longest == nil || now.Sub(longest.since) < longLook:
		return ""
	case longest.size == 0:
		return fmt.Sprintf("checking frame %d with its recipe's check, %s so far", frame, span.Text(now.Sub(longest.since)))
	}
	return fmt.Sprintf(
		"checking frame %d: %d %% of %s, %s so far", frame, min(99, 50*longest.seen.Load()/longest.size),
		humanize.IBytes(uint64(longest.size)), span.Text(now.Sub(longest.since)),
	)
}

// sizeOf returns the bytes of a file, 0 if it cannot be asked.
func sizeOf(file string) int64 {
	info, err := os.Lstat(file)
	if err != nil {
		return 0
	}
	return info.Size()
}
