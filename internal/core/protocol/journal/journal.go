// Package journal is the node's half of the protocol as a state machine: what a
// node holds of one lease, as entries of its journal have made it, and what it
// may do next. A node process that restarts reads the journal and is where
// the one before it was.
//
// It knows neither files nor renderers, and never what the service decided
// beyond what it answered.
package journal

import (
	"cmp"
	"maps"
	"slices"
	"time"

	"vexillum/internal/core/frames"
)

// Entry is one step in the life of a lease on its node: a line of its journal.
type Entry struct {
	Do      Step          `json:"do"`
	At      time.Time     `json:"at"`
	Launch  int           `json:"launch,omitempty"`
	Frame   int           `json:"frame"`
	First   int           `json:"first,omitempty"` // of a launch
	Last    int           `json:"last,omitempty"`
	Path    string        `json:"path,omitempty"`    // of a finished frame, inside the lease's folder
	Offset  int           `json:"offset,omitempty"`  // of the renderer's own number of the frame
	Warning string        `json:"warning,omitempty"` // that makes it suspect
	Startup time.Duration `json:"startup,omitempty"`
	Render  time.Duration `json:"render,omitempty"`
	Hash    string        `json:"hash,omitempty"`
	Trim    int64         `json:"trim,omitempty"`   // number of the question
	Frames  string        `json:"frames,omitempty"` // a frame range
}

// Step is what an Entry reports.
type Step string

// The steps.
const (
	Launched Step = "launch"   // a renderer is started for First to Last
	Began    Step = "begin"    // it begins a frame
	Undone   Step = "undo"     // it was stopped before the frame it had begun was finished
	Finished Step = "finish"   // it has finished one, as the file Path
	Looked   Step = "look"     // the picture of the frame is looked at
	Seen     Step = "seen"     // the look has come to its end
	Failed   Step = "fail"     // the try at a frame has failed
	Ended    Step = "end"      // one that is fed was told that no more comes
	Over     Step = "over"     // it has ended and all that follows was reported
	Accepted Step = "accepted" // the service took the frame with this Hash
	Settled  Step = "settle"   // nothing is left to do about the frame's picture of this launch
	Trimmed  Step = "trim"     // the question Trim was answered by giving Frames back
	Extended Step = "extend"   // Frames came or came back onto the lease
)

// Shot is a frame as one launch rendered it.
type Shot struct{ Launch, Frame int }

// Lease is what a node holds of one lease.
type Lease struct {
	launches map[int]*Launch
	last     int
	busy     frames.Set // begun, without a failure since: not given back, nor begun again
	given    frames.Set // back, by trims
	answers  map[int64]frames.Set
	settled  map[Shot]bool
	looks    map[Shot]int // at a picture that did not come to an end
	accepted map[Shot]string
	spoiled  map[int]frames.Set // frames that failed, by launch
}

// Launch is one start of a renderer.
type Launch struct {
	Number  int
	Stretch frames.Span
	At      time.Time
	Begun   []Begun // in order
	Done    map[int]Picture
	Ended   bool // told that no more comes
	Over    bool
}

// Begun is a frame that a launch has begun.
type Begun struct {
	Frame int
	At    time.Time
}

// Picture is a frame that a launch has finished.
type Picture struct {
	Shot
	Path            string // inside the lease's folder
	Offset          int    // of the renderer's own number of the frame
	Warning         string // that makes it suspect
	Startup, Render time.Duration
}

// New returns a lease of which nothing has happened yet.
func New() *Lease {
	return &Lease{
		launches: map[int]*Launch{}, answers: map[int64]frames.Set{}, settled: map[Shot]bool{}, looks: map[Shot]int{},
		accepted: map[Shot]string{}, spoiled: map[int]frames.Set{},
	}
}

// Note takes a step. One that does not follow from what is known changes
// nothing: the line before it was cut off when the machine went down.
func (l *Lease) Note(e Entry) {
	launch := l.launches[e.Launch]
	one := frames.One(e.Frame)
	shot := Shot{e.Launch, e.Frame}
	switch e.Do {
	case Launched:
		l.launches[e.Launch] = &Launch{
			Number: e.Launch, Stretch: frames.Span{First: e.First, Last: e.Last}, At: e.At,
			Done: map[int]Picture{},
		}
		l.last = max(l.last, e.Launch)
	case Failed:
		l.busy = l.busy.Minus(one) // it may come again
		l.spoiled[e.Launch] = l.spoiled[e.Launch].Union(one)
	case Looked:
		l.looks[shot]++
	case Seen:
		delete(l.looks, shot)
	case Accepted:
		l.accepted[shot] = e.Hash
	case Settled:
		l.settled[shot] = true
	case Trimmed:
		var set frames.Set
		if set.UnmarshalText([]byte(e.Frames)) == nil {
			l.answers[e.Trim] = set
			l.given = l.given.Union(set)
		}
	case Extended:
		var set frames.Set
		if set.UnmarshalText([]byte(e.Frames)) == nil {
			l.given = l.given.Minus(set)
		}
	}
	if launch == nil {
		return
	}
	switch e.Do {
	case Began:
		launch.Begun = append(launch.Begun, Begun{e.Frame, e.At})
		l.busy = l.busy.Union(one)
	case Undone:
		l.busy = l.busy.Minus(one)
	case Finished:
		launch.Done[e.Frame] = Picture{shot, e.Path, e.Offset, e.Warning, e.Startup, e.Render}
		l.busy = l.busy.Union(one)
	case Ended:
		launch.Ended = true
	case Over:
		launch.Over = true
		for _, b := range launch.Begun { // what it left unfinished
			if _, done := launch.Done[b.Frame]; !done && !l.doneElsewhere(b.Frame) {
				l.busy = l.busy.Minus(frames.One(b.Frame))
			}
		}
	}
}

func (l *Lease) doneElsewhere(frame int) bool {
	for number, launch := range l.launches {
		if _, done := launch.Done[frame]; done && !l.spoiled[number].Has(frame) {
			return true
		}
	}
	return false
}

// Left returns which frames of those that the service still wants from this
// lease have not been begun, nor given back.
func (l *Lease) Left(wanted frames.Set) frames.Set { return wanted.Minus(l.busy).Minus(l.given) }

// Given returns the frames that were given back.
func (l *Lease) Given() frames.Set { return l.given }

// Gave reports whether a frame was given back.
func (l *Lease) Gave(frame int) bool { return l.given.Has(frame) }

// Give answers which of the frames that the service wants back can be given:
// those that no renderer has begun. unseen are frames of which nobody can tell
// whether they have been begun. Asked again, it answers the same, and again is
// true.
func (l *Lease) Give(question int64, back, mine, unseen frames.Set) (answer frames.Set, again bool) {
	if answer, again := l.answers[question]; again {
		return answer, true
	}
	return l.Left(back.Intersect(mine)).Minus(unseen), false
}

// Spoiled reports whether a frame has failed in a launch.
func (l *Lease) Spoiled(launch, frame int) bool { return l.spoiled[launch].Has(frame) }

// Failed returns the frames that have failed in any launch of the lease.
func (l *Lease) Failed() (set frames.Set) {
	for _, failed := range l.spoiled {
		set = set.Union(failed)
	}
	return set
}

// mostLooks is how often a picture is looked at that ends the node process each
// time.
const mostLooks = 2

// Deadly reports whether a node process should not look at a picture again: it
// has done so twice, and each time that was its end.
func (l *Lease) Deadly(s Shot) bool { return l.looks[s] >= mostLooks }

// WasAccepted returns the hash by which the service took a picture, or "".
func (l *Lease) WasAccepted(s Shot) string { return l.accepted[s] }

// LastLaunch returns the number of the newest launch.
func (l *Lease) LastLaunch() int { return l.last }

// Unsettled returns the pictures that were finished and not dealt with to the
// end, in the order of launches and frames.
func (l *Lease) Unsettled() []Picture {
	var out []Picture
	for _, launch := range l.launches {
		for _, p := range launch.Done {
			if !l.settled[p.Shot] {
				out = append(out, p)
			}
		}
	}
	slices.SortFunc(out, func(a, b Picture) int { return cmp.Or(a.Launch-b.Launch, a.Frame-b.Frame) })
	return out
}

// Running returns a copy of the launch that has not ended, or nil.
func (l *Lease) Running() *Launch {
	launch := l.launches[l.last]
	if launch == nil || launch.Over {
		return nil
	}
	out := *launch
	out.Begun, out.Done = slices.Clone(launch.Begun), maps.Clone(launch.Done)
	return &out
}

// InFlight returns the frame that a launch has begun and not finished.
func (l *Launch) InFlight() (frame int, ok bool) {
	if len(l.Begun) == 0 {
		return 0, false
	}
	frame = l.Begun[len(l.Begun)-1].Frame
	_, finished := l.Done[frame]
	return frame, !finished
}
