package farm

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"vexillum/internal/core/frames"
)

// giveBack takes frames from a lease. They are to do again unless another lease
// holds them, too.
func (r *Run) giveBack(l *Lease, set frames.Set) {
	l.Left = l.Left.Minus(set)
	r.dealt -= set.Len()
	if r.races > 0 {
		for other := range r.OpenLeases {
			if other != l {
				set = set.Minus(other.Left)
			}
		}
	}
	r.ToDo = r.ToDo.Union(set)
}

// unplace takes a wanted frame out of the place where it waits for a picture:
// out of ToDo or out of whichever open leases hold it, most likely the given.
func (r *Run) unplace(f int, likely LeaseID) error {
	one := frames.One(f)
	if r.ToDo.Has(f) {
		r.ToDo = r.ToDo.Minus(one)
		return nil
	}
	found := false
	take := func(l *Lease) {
		if l.Left.Has(f) {
			l.Left, found = l.Left.Minus(one), true
			r.dealt--
		}
	}
	if at, ok := r.openAt(likely); ok {
		take(r.open[at])
	}
	if !found || r.races > 0 {
		for l := range r.OpenLeases {
			take(l)
		}
	}
	if found {
		return nil
	}
	return fmt.Errorf("frame %d is not wanted", f)
}

// Wants reports whether a good picture of frame f would count.
func (r *Run) Wants(f int) bool {
	if r.State.Closed() {
		return false
	}
	if r.ToDo.Has(f) {
		return true
	}
	for l := range r.OpenLeases {
		if l.Left.Has(f) {
			return true
		}
	}
	return false
}

func (s *State) frameAccepted(r FrameAccepted) error {
	run, err := s.run(r.Run)
	if err != nil {
		return err
	}
	if err := run.unplace(r.Frame, r.Lease); err != nil {
		return err
	}
	if run.races > 0 {
		for l := range run.OpenLeases {
			l.Superseded = l.Superseded || l.ID != r.Lease && l.Left.Empty() && l.Given.Has(r.Frame)
		}
	}
	run.Delivering[r.Frame] = Delivery{
		Lease: r.Lease, Node: r.Node, Hash: r.Hash, Bytes: r.Bytes, Files: r.Files, Suspect: r.Suspect, Since: r.At,
	}
	delete(run.Suspect, r.Frame)
	return nil
}

func (s *State) frameDone(r FrameDone) error {
	run, err := s.run(r.Run)
	if err != nil {
		return err
	}
	d, ok := run.Delivering[r.Frame]
	if !ok {
		return fmt.Errorf("frame %d is not being delivered", r.Frame)
	}
	if d.Suspect != "" {
		run.NoteSuspect(r.Frame, d.Suspect)
	}
	s.notePassed(run, r)
	if n := s.Nodes[r.Node]; n != nil && n.OfferedMemory() <= run.Short[r.Frame] {
		delete(run.Short, r.Frame) // it was not the frame
	}
	delete(run.Delivering, r.Frame)
	delete(run.Trouble, r.Frame)
	run.Done = run.Done.Union(frames.One(r.Frame))
	run.Redo = run.Redo.Minus(frames.One(r.Frame))
	run.SinceCheckpoint++
	s.follow(run, r.Frame)
	return nil
}

// NoteSuspect notes why somebody should look at a frame that is done. A loader uses it
// too.
func (r *Run) NoteSuspect(frame int, why string) {
	if r.Suspect == nil {
		r.Suspect = map[int]string{}
	}
	r.Suspect[frame] = why
}

// Suspects returns the frames that are done and somebody should look at.
func (r *Run) Suspects() frames.Set {
	spans := make([]frames.Span, 0, len(r.Suspect))
	for f := range r.Suspect {
		spans = append(spans, frames.Span{First: f, Last: f})
	}
	return frames.Of(spans...).Intersect(r.Done)
}

func (s *State) deliveryLost(r DeliveryLost) error {
	run, err := s.run(r.Run)
	if err != nil {
		return err
	}
	d, ok := run.Delivering[r.Frame]
	if !ok {
		return fmt.Errorf("frame %d is not being delivered", r.Frame)
	}
	delete(run.Delivering, r.Frame)
	t := run.trouble(r.Frame)
	t.Accepted = append(t.Accepted, d.Hash)
	run.ToDo = run.ToDo.Union(frames.One(r.Frame))
	return nil
}

func (r *Run) trouble(f int) *Trouble {
	if r.Trouble[f] == nil {
		r.Trouble[f] = &Trouble{}
	}
	return r.Trouble[f]
}

func (s *State) frameFailed(r FrameFailed) error {
	run, l, err := s.openLease(r.Lease)
	if err != nil {
		return err
	}
	if !l.Left.Has(r.Frame) {
		return fmt.Errorf("frame %d is not left on lease %d", r.Frame, l.ID)
	}
	s.noteFailed(r)
	run.NoteShort(r.Frame, r.Cause, s.Nodes[r.Node])
	run.giveBack(l, frames.One(r.Frame))
	t := run.trouble(r.Frame)
	for i := range t.Attempts {
		for _, c := range r.Recounts {
			if a := &t.Attempts[i]; a.Lease == c.Lease && a.Launch == c.Launch {
				a.Counts = c.Counts
			}
		}
	}
	t.Attempts = append(
		t.Attempts,
		Attempt{
			Lease: r.Lease, Launch: r.Launch, Node: r.Node, Cause: r.Cause, Message: r.Message,
			Counts: r.Counts, Blame: r.Blame, At: r.At,
		},
	)
	return nil
}

func (s *State) frameParked(r FrameParked) error {
	run, err := s.run(r.Run)
	if err != nil {
		return err
	}
	if !run.ToDo.Has(r.Frame) {
		return fmt.Errorf("frame %d is not to do", r.Frame)
	}
	run.ToDo = run.ToDo.Minus(frames.One(r.Frame))
	run.Parked = run.Parked.Union(frames.One(r.Frame))
	run.LookedAt = time.Time{}
	s.catalogue.park(run)
	return nil
}

func (s *State) framesRedone(r FramesRedone) error {
	run, err := s.run(r.Run)
	if err != nil {
		return err
	}
	if !r.Frames.Minus(run.Done).Empty() || r.Frames.Empty() {
		return fmt.Errorf("frames %v are not done", r.Frames.Minus(run.Done))
	}
	if run.State.Closed() {
		return fmt.Errorf("%s is %s", run.Spec.Name(), run.State)
	}
	run.Stitched = false
	run.Done = run.Done.Minus(r.Frames)
	run.ToDo = run.ToDo.Union(r.Frames)
	run.Redo = run.Redo.Union(r.Frames)
	for _, l := range run.Leases {
		l.Given = l.Given.Minus(r.Frames)
	}
	s.unfollow(run, r.Frames)
	return nil
}

func (s *State) framesSkipped(r FramesSkipped) error {
	run, err := s.run(r.Run)
	if err != nil {
		return err
	}
	if not := r.Frames.Minus(run.ToDo).Minus(run.Parked); !not.Empty() || r.Frames.Empty() {
		return fmt.Errorf("frames %v are neither to do nor parked", not)
	}
	run.ToDo = run.ToDo.Minus(r.Frames)
	run.Parked = run.Parked.Union(r.Frames)
	run.unskip(r.Frames)
	i, known := slices.BinarySearchFunc(run.Skipped, r.Note, func(s Skip, note string) int {
		return cmp.Compare(s.Note, note)
	})
	if !known {
		run.Skipped = slices.Insert(run.Skipped, i, Skip{Note: r.Note})
	}
	run.Skipped[i].Frames = run.Skipped[i].Frames.Union(r.Frames)
	s.catalogue.park(run)
	return nil
}

// Skip is frames of a run that somebody has given up, and why.
type Skip struct {
	Frames frames.Set
	Note   string
}

// unskip forgets that frames are given up.
func (r *Run) unskip(set frames.Set) {
	for i := range r.Skipped {
		r.Skipped[i].Frames = r.Skipped[i].Frames.Minus(set)
	}
	r.Skipped = slices.DeleteFunc(r.Skipped, func(s Skip) bool { return s.Frames.Empty() })
}

// GivenUp returns the parked frames that somebody has given up: they are skipped.
func (r *Run) GivenUp() (out frames.Set) {
	for _, s := range r.Skipped {
		out = out.Union(s.Frames)
	}
	return out
}

// NeedsHand returns the parked frames that nobody has given up.
func (r *Run) NeedsHand() frames.Set { return r.Parked.Minus(r.GivenUp()) }

// SkippedFor returns the note with which a frame was given up; false where it was not.
func (r *Run) SkippedFor(frame int) (note string, skipped bool) {
	for _, s := range r.Skipped {
		if s.Frames.Has(frame) {
			return s.Note, true
		}
	}
	return "", false
}

func (s *State) framesRetried(r FramesRetried) error {
	run, err := s.run(r.Run)
	if err != nil {
		return err
	}
	if !r.Frames.Minus(run.Parked).Empty() {
		return fmt.Errorf("frames %v are not parked", r.Frames.Minus(run.Parked))
	}
	run.Parked = run.Parked.Minus(r.Frames)
	s.catalogue.park(run)
	run.ToDo = run.ToDo.Union(r.Frames)
	s.suspicion.asked(run.ID, r.Frames)
	run.unskip(r.Frames)
	for f := range r.Frames.All() {
		delete(run.Short, f)
		if t := run.Trouble[f]; t != nil {
			t.Attempts = nil
		}
	}
	return nil
}
