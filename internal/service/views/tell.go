package views

import (
	"math"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/wire"
)

// MostBehind bounds the pieces that wait for one follower; a slower one is let go
// and comes back by itself.
const MostBehind = 64

// mostFrames bounds the frames of which one piece reports what happened to them.
const mostFrames = 4096

// change is what is not as followers were told.
type change struct {
	seq    int64
	facts  wire.FarmFacts
	hands  []wire.NeedHand
	runs   []wire.Run
	nodes  []wire.Node
	frames map[string][]wire.FrameEvent // by the name of the event
}

func (b *Board) letAllGo() {
	for _, a := range b.audiences {
		for l := range a.followers {
			close(l.pieces)
			b.letGo(l)
		}
	}
}

// dirtySet is what changed since followers were last told.
type dirtySet struct {
	runs   map[farm.RunID]bool
	nodes  map[farm.NodeID]bool
	frames []farm.Record
	hands  bool // what needs a hand, or what people do about it
}

func newDirtySet() dirtySet {
	return dirtySet{runs: map[farm.RunID]bool{}, nodes: map[farm.NodeID]bool{}}
}

func (d *dirtySet) run(id farm.RunID)   { d.runs[id] = true }
func (d *dirtySet) node(id farm.NodeID) { d.nodes[id] = true }

func (d *dirtySet) records(records []farm.Record) {
	for _, r := range records {
		switch r.(type) {
		case farm.HandRaised, farm.HandEnded, farm.HandActed:
			d.hands = true
			continue
		}
		about := r.About()
		if about.Run != 0 {
			d.run(about.Run)
		}
		if about.Node != 0 {
			d.node(about.Node)
		}
		switch r.(type) {
		case farm.FrameAccepted, farm.FrameDone, farm.FrameFailed:
			if len(d.frames) < mostFrames {
				d.frames = append(d.frames, r)
			}
		}
	}
}

// What a run waits for changes with other runs and with nodes: in each span some
// runs that are not rendering are looked at again, one after the other. On a
// large farm a look goes through all nodes.
const (
	lookAgainRuns  = 50
	lookAgainLarge = 5
	lookAgainEvery = time.Second
)

// lookAgain has some of the runs that wait told again.
func (b *Board) lookAgain(now time.Time) {
	if len(b.audiences) == 0 || now.Sub(b.lookedAt) < lookAgainEvery {
		return
	}
	b.lookedAt = now
	queue, most := b.s.Queue(), lookAgainRuns
	if b.s.Large() {
		most = lookAgainLarge
	}
	for range min(most, len(queue)) {
		b.lookedTo = (b.lookedTo + 1) % len(queue)
		if run := queue[b.lookedTo]; run.State != farm.RunRendering {
			b.dirty.run(run.ID)
		}
	}
}

// tell sends what changed to all followers.
func (b *Board) tell() {
	b.lookAgain(b.w.Now())
	if len(b.dirty.runs) == 0 && len(b.dirty.nodes) == 0 && !b.dirty.hands {
		return
	}
	dirty := b.dirty
	b.dirty = newDirtySet()
	if len(b.audiences) == 0 {
		return
	}
	now := b.w.Now()
	c := change{seq: b.s.Seq, frames: b.frameEvents(dirty.frames)}
	for id := range dirty.runs {
		if run := b.s.Runs[id]; run != nil {
			c.runs = append(c.runs, b.RunView(run, now))
		}
	}
	for id := range dirty.nodes {
		if n := b.s.Nodes[id]; n != nil {
			c.nodes = append(c.nodes, b.NodeView(n, now))
		}
	}
	for _, a := range b.audiences {
		seen := b.seen(c, a.sight)
		seen.facts, seen.hands = b.Facts(now, a.sight), b.alerts(now, a.sight)
		piece, some := a.shown.piece(seen)
		if !some {
			continue
		}
		for l := range a.followers {
			select {
			case l.pieces <- piece:
			default:
				close(l.pieces)
				b.letGo(l)
			}
		}
	}
}

// frameEvents says what happened to frames, by the names of the events.
func (b *Board) frameEvents(records []farm.Record) map[string][]wire.FrameEvent {
	out := map[string][]wire.FrameEvent{}
	put := func(name string, run farm.RunID, frame int, node farm.NodeID) *wire.FrameEvent {
		out[name] = append(out[name], wire.FrameEvent{Run: int64(run), Frame: frame, Node: b.s.NodeName(node)})
		return &out[name][len(out[name])-1]
	}
	for _, r := range records {
		switch r := r.(type) {
		case farm.FrameAccepted:
			put(wire.EventFrameVerified, r.Run, r.Frame, r.Node).Seconds = math.Round(1000*r.RenderSeconds) / 1000
		case farm.FrameDone:
			put(wire.EventFrameDone, r.Run, r.Frame, r.Node)
		case farm.FrameFailed:
			put(wire.EventFrameFailed, r.Run, r.Frame, r.Node).Cause = r.Cause
		}
	}
	return out
}
