package pace

import (
	"slices"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// profile is the most main memory in bytes that launches had when they had
// finished a frame, along the range of a run.
type profile struct {
	first, last int
	most        []int64 // in equal stretches; 0 where none was measured
}

// mostStretches bounds a profile.
const mostStretches = 48

func newProfile(set frames.Set) *profile {
	p := &profile{first: set.First(), last: set.Last()}
	p.most = make([]int64, min(mostStretches, p.last-p.first+1))
	return p
}

// at returns the stretch of a frame; one outside counts to the nearest.
func (p *profile) at(frame int) int {
	frame = min(max(frame, p.first), p.last)
	return (frame - p.first) * len(p.most) / (p.last - p.first + 1)
}

// begin returns the first frame of a stretch.
func (p *profile) begin(stretch int) int {
	width := p.last - p.first + 1
	return p.first + (stretch*width+len(p.most)-1)/len(p.most)
}

// middle returns the frame in the middle of a stretch.
func (p *profile) middle(stretch int) int {
	return p.first + (2*stretch+1)*(p.last-p.first+1)/(2*len(p.most))
}

func (p *profile) add(frame int, bytes int64) {
	i := p.at(frame)
	p.most[i] = max(p.most[i], bytes)
}

// near returns what was measured in a stretch, or else the more of what was
// nearest before and after it.
func (p *profile) near(stretch int) int64 {
	if p.most[stretch] > 0 {
		return p.most[stretch]
	}
	before, after := stretch, stretch
	for before > 0 && p.most[before] == 0 {
		before--
	}
	for after < len(p.most)-1 && p.most[after] == 0 {
		after++
	}
	return max(p.most[before], p.most[after])
}

// over returns by how much more memory than an earlier run this one took where
// both were measured; 1 where nothing is known.
func (p *profile) over(earlier *profile) float64 {
	mine, theirs := 0.0, 0.0
	for i, b := range p.most {
		if e := earlier.most[earlier.at(p.middle(i))]; b > 0 && e > 0 {
			mine, theirs = mine+float64(b), theirs+float64(e)
		}
	}
	if theirs == 0 {
		return 1
	}
	return mine / theirs
}

// likely returns what a stretch of a later run takes, judged by this one.
func (p *profile) likely(later *profile, stretch int, over float64) int64 {
	return int64(float64(p.near(p.at(later.middle(stretch)))) * over)
}

// join returns the profile with what an earlier one says about stretches that
// were not measured.
func (p *profile) join(earlier *profile) *profile {
	if earlier == nil {
		return p
	}
	over := p.over(earlier)
	out := &profile{first: p.first, last: p.last, most: slices.Clone(p.most)}
	for i, b := range p.most {
		if b == 0 {
			out.most[i] = earlier.likely(p, i, over)
		}
	}
	return out
}

// remember learns how much memory a launch had when it had finished a frame.
func (k *known) remember(run *farm.Run, rec farm.FrameAccepted) {
	if rec.MemoryBytes <= 0 {
		return
	}
	if k.memory == nil {
		k.memory = newProfile(run.Spec.Frames)
	}
	k.memory.add(rec.Frame, rec.MemoryBytes)
}

// Memory returns to how much main memory in bytes a launch of the run is
// expected to grow while it renders some of its frames, all where the set is
// empty; and false as long as none was measured, of it or of the run of its job
// before. Of frames that are like none seen in this run the earlier one decides.
func (m *Model) Memory(run *farm.Run, set frames.Set) (peak int64, known bool) {
	earlier := m.memories[jobOf(run)]
	var own *profile
	if k := m.runs[run.ID]; k != nil {
		own = k.memory
	}
	switch {
	case own == nil && earlier == nil:
		return 0, false
	case own == nil:
		own = newProfile(run.Spec.Frames)
	}
	over := 1.0
	if earlier != nil {
		over = own.over(earlier)
	}
	expected := func(i int) int64 {
		if own.most[i] == 0 && earlier != nil {
			return earlier.likely(own, i, over)
		}
		return own.near(i)
	}
	if set.Empty() {
		set = run.Spec.Frames
	}
	f, more := set.First(), true
	for i := 0; i < len(own.most) && more; i++ {
		if own.at(f) > i {
			continue
		}
		peak = max(peak, expected(i))
		f, more = set.From(own.begin(i + 1))
	}
	return peak, true
}
