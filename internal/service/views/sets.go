package views

import (
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/wire"
)

// byState are the frames of a run by state.
type byState map[wire.FrameState]frames.Set

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

// setsView reports the frames of a run by state.
func (b *Board) setsView(run *farm.Run, sets byState) wire.FrameSets {
	stretches := 0
	for _, s := range sets {
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
	spans := map[wire.FrameState][]frames.Span{}
	for from := first; from <= last; from += width {
		to := min(last, from+width-1)
		for _, state := range wire.FrameStates() {
			if f, ok := sets[state].From(from); ok && f <= to {
				spans[state] = append(spans[state], frames.Span{First: from, Last: to})
				break
			}
		}
	}
	coarse := byState{}
	for state, list := range spans {
		coarse[state] = frames.Of(list...)
	}
	out := setTexts(width, coarse)
	b.blocks[run.ID] = blocky{run.Changed, out}
	return out
}

func setTexts(block int, sets byState) wire.FrameSets {
	out := wire.FrameSets{Block: block}
	for _, state := range wire.FrameStates() {
		*out.Of(state) = sets[state].String()
	}
	return out
}
