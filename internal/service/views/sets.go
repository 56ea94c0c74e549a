package views

import (
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/wire"
)

// byState are the frames of a run by state.
type byState struct{ failed, parked, rendering, verifying, delivering, dealt, todo, done frames.Set }

// all returns them in the order in which a state matters: where one word has to
// do for several frames, the first counts.
func (b *byState) all() []*frames.Set {
	return []*frames.Set{&b.failed, &b.parked, &b.rendering, &b.verifying, &b.delivering, &b.dealt, &b.todo, &b.done}
}

const (
	// mostShown is how many stretches are told one by one.
	mostShown = 4096
	// mostBlocks is how many blocks are told where there are more.
	mostBlocks = 1024
)

// blocky are the frames of a run by blocks, as of one change of it.
type blocky struct {
	changed int64
	sets    wire.FrameSets
}

// setsView tells the frames of a run by state.
func (b *Board) setsView(run *farm.Run, sets byState) wire.FrameSets {
	stretches := 0
	for _, s := range sets.all() {
		stretches += s.Stretches()
	}
	if stretches <= mostShown {
		delete(b.blocks, run.ID)
		return setTexts(1, sets)
	}
	if known, ok := b.blocks[run.ID]; ok && known.changed == run.Changed {
		return known.sets
	}
	first, last := run.Spec.Frames.First(), run.Spec.Frames.Last()
	width := (last - first + mostBlocks) / mostBlocks
	spans := make([][]frames.Span, len(sets.all()))
	for from := first; from <= last; from += width {
		to := min(last, from+width-1)
		for i, s := range sets.all() {
			if f, ok := s.From(from); ok && f <= to {
				spans[i] = append(spans[i], frames.Span{First: from, Last: to})
				break
			}
		}
	}
	var coarse byState
	for i, s := range coarse.all() {
		*s = frames.Of(spans[i]...)
	}
	out := setTexts(width, coarse)
	b.blocks[run.ID] = blocky{run.Changed, out}
	return out
}

func setTexts(block int, s byState) wire.FrameSets {
	return wire.FrameSets{
		Block: block, ToDo: s.todo.String(), Dealt: s.dealt.String(), Rendering: s.rendering.String(),
		Verifying: s.verifying.String(), Delivering: s.delivering.String(), Done: s.done.String(),
		Failed: s.failed.String(), Parked: s.parked.String(),
	}
}
