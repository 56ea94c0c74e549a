package deal

import (
	"math"
	"sort"
	"time"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
	"vexillum/internal/core/span"
)

// Sight is what the farm sees of a lease at work, as its node told last.
type Sight struct {
	Begun   bool    // a frame is in flight
	Frame   int     // that one
	Seconds float64 // since it began; without one, since the launch began
	Rests   bool    // it must not be trimmed now: it was a moment ago, or no answer would come
}

// load is one open lease of a run, and when its node is through with it.
type load struct {
	lease *farm.Lease
	node  *farm.Node
	speed float64
	left  frames.Set // not begun
	work  float64    // of left, in reference seconds
	free  float64    // seconds from now until what is in flight is done
	end   float64    // seconds from now until all is done
	rests bool
	goes  bool // its node gets no further work when it is through

	tails []float64 // work of the last of left, in equal steps of frames; nil until it is asked for
}

// taker is a node that is ready for the run and has nothing to do.
type taker struct {
	node  *farm.Node
	speed float64
	start float64 // seconds until it could begin a frame
	takes float64 // seconds of these that a launch takes
	alone float64 // seconds for all that is to do, with what it has to get first, but without launches
	// yields are leases of less urgent runs that it works on until then.
	yields []*farm.Lease
}

// survey is how one run stands: who works on it until when, who could, and
// the time at which all could be done together.
type survey struct {
	run      *farm.Run
	at       time.Time
	seq      int64 // of the State
	learned  int64
	planned  bool
	moves    *plan
	curve    *pace.Curve
	m        *pace.Model
	startup  float64 // seconds that the first launch on a node takes
	again    float64 // the same for further ones
	blind    bool    // how long a launch takes is not known
	loads    []load
	takers   []taker
	todo     float64 // reference seconds that nobody has
	each     float64 // of a frame that is to be dealt or moved, on average
	even     float64 // seconds from now at which all could be done if frames could be divided
	common   float64 // the same with whole frames; 0 until it is asked for
	sorted   bool
	firm     []*farm.Node        // that work on it and go on, two at most
	swiftest *farm.Node          // of those that wait: it would be through first
	parts    map[farm.NodeID]int // frames to do by who waits; nil until it is asked for
}

// surveyOf makes a survey of a run. Work is in reference seconds where something
// is known of the run's frames, else in frames.
func (d *Dealer) surveyOf(run *farm.Run, now time.Time) *survey {
	if v := d.last; v != nil && v.run == run && v.at.Equal(now) && v.seq == d.s.Seq && v.learned == d.m.Learned() {
		return v
	}
	large := d.s.Large()
	if v := d.surveys[run.ID]; large && v != nil && v.run == run && v.good(now) {
		return v
	}
	d.looked++
	v := d.survey(run, now)
	v.at, v.seq, v.learned = now, d.s.Seq, d.m.Learned()
	d.last = v
	if large {
		d.surveys[run.ID] = v
	}
	return v
}

// On a large farm a survey serves all that ask within a short while: so much of
// the time that the run still needs, within bounds.
const (
	surveyPart  = 0.01
	surveyLeast = 500 * time.Millisecond
	surveyMost  = 5 * time.Second
)

// good reports whether a survey is as good as a new one.
func (v *survey) good(now time.Time) bool { return v.younger(1, now) }

// younger reports whether a survey is younger than a multiple of the age up to
// which it is as good as a new one.
func (v *survey) younger(times time.Duration, now time.Time) bool {
	age := now.Sub(v.at)
	return age >= 0 && age <= times*max(surveyLeast, min(surveyMost, span.Of(surveyPart*v.even)))
}

// staleSurveyOf is look for what is only to be passed by: when a decision has made many
// surveys already, older ones have to do.
func (d *Dealer) staleSurveyOf(run *farm.Run, now time.Time) *survey {
	const most = 4
	if v := d.surveys[run.ID]; d.looked >= most && v != nil && v.run == run && v.younger(8, now) {
		return v
	}
	return d.surveyOf(run, now)
}

func (d *Dealer) survey(run *farm.Run, now time.Time) *survey {
	v := &survey{run: run, m: d.m, curve: d.m.Curve(run)}
	startup, known := d.m.Startup(run)
	again, _ := d.m.Relaunch(run)
	v.startup, v.again, v.blind = startup.Mean, again.Mean, !known && v.curve.Seen() == 0
	if !known { // a launch takes longer than those have lasted that have begun no frame
		for l := range run.OpenLeases {
			if seen := d.sight(l); !seen.Begun && !l.Left.Empty() {
				v.startup = max(v.startup, seen.Seconds)
			}
		}
		v.again = v.startup
	}
	v.loads = make([]load, 0, run.OpenCount())
	for l := range run.OpenLeases {
		v.loads = append(v.loads, d.load(v, l, now))
	}
	v.todo = v.curve.Work(run.ToDo)
	for _, n := range d.s.Roomy() {
		for range d.freeFor(n, run, now) {
			v.takers = append(v.takers, d.taker(v, n))
		}
	}
	if d.below(run) {
		found := 0
		for n := range d.workers(run.Terms.Level.Rank(), now) {
			if y, ok := d.yields(n, run, now); ok {
				t := d.taker(v, n)
				t.start, t.yields = t.start+y.free, y.leases
				v.takers = append(v.takers, t)
				if found++; found == mostYields {
					break
				}
			}
		}
	}
	if d.nodeLimited(run) {
		v.takers = d.admitted(run, v.takers, now)
	}
	work, count := v.todo, run.ToDo.Len()
	for _, l := range v.loads {
		work, count = work+l.work, count+l.left.Len()
	}
	v.each = work / float64(max(1, count))
	v.even = v.balance(func(work, _ float64) float64 { return max(0, work) })
	return v
}

// taker returns a node that has nothing to do as one that could take frames.
func (d *Dealer) taker(v *survey, n *farm.Node) taker {
	takes, speed := v.launch(n), capacity.Speed(d.m, n, v.run)
	return taker{node: n, speed: speed, start: takes, takes: takes, alone: d.m.Fetch(v.run, n) + v.todo/speed}
}

// launch returns the seconds that the next launch on a node takes, with what the node
// has to get before.
func (v *survey) launch(n *farm.Node) float64 {
	if v.again != v.startup && v.m.Launched(v.run, n.ID) {
		return v.again
	}
	return v.startup + v.m.Fetch(v.run, n)
}

// freeFor returns how many leases of the run the node could begin now.
func (d *Dealer) freeFor(n *farm.Node, run *farm.Run, now time.Time) int {
	if !n.Ready() {
		return 0
	}
	held := d.s.LeaseCount(n.ID)
	if held > 0 && (run.Spec.Takes.Whole() || !capacity.HasRoom(d.s, n)) {
		return 0
	}
	if !capacity.Fits(d.s, n, run) || capacity.FreezeReason(d.s, n, run, now) != "" {
		return 0
	}
	if most, _ := framesBeforeOffDuty(d.m, n, run, frames.Set{}, now); most == 0 {
		return 0
	}
	if d.shut(n, run, now) {
		return 0
	}
	return max(0, capacity.Slots(n, run)-held)
}

func (d *Dealer) load(v *survey, l *farm.Lease, now time.Time) load {
	n := d.s.Nodes[l.Node]
	seen := d.sight(l)
	out := load{
		lease: l, node: n, speed: d.m.SpeedFor(n, v.run) * n.Part(l.Share), left: l.Left, rests: seen.Rests,
		goes: !n.Ready() || d.shut(n, v.run, now),
	}
	switch {
	case seen.Begun && l.Left.Has(seen.Frame):
		out.left = l.Left.Minus(frames.One(seen.Frame))
		out.free = remaining(v.curve.Cost(seen.Frame)/out.speed, v.curve.Spread(), seen.Seconds)
	case seen.Begun: // its result is on its way
	case !l.Left.Empty():
		out.free = remaining(v.launch(n), 0, seen.Seconds)
	}
	if l.Race { // nobody takes over what was begun twice
		out.rests = true
	}
	out.work = v.curve.Work(out.left)
	if apiece(v.run) {
		out.work += v.again * out.speed * float64(out.left.Len())
	}
	out.end = out.free + out.work/out.speed
	return out
}

// tail returns how many of the last frames of a lease make up so much work at
// least, and what they cost on average. Costs may differ along a lease.
func (l *load) tail(curve *pace.Curve, work float64) (frames int, each float64) {
	const most = 24
	all := l.left.Len()
	each = l.work / float64(all)
	first, last := l.left.First(), l.left.Last()
	if last-first+1 != all || !curve.Known() {
		return int(math.Ceil(work/each - 1e-9)), each
	}
	steps := min(all, most)
	if l.tails == nil {
		l.tails = make([]float64, steps+1)
		for i := range steps {
			from, to := all-(i+1)*all/steps, all-i*all/steps // counted from the first
			l.tails[i+1] = l.tails[i] + float64(to-from)*curve.Cost(first+(from+to-1)/2)
		}
		for i := range l.tails { // launches of single frames count, too
			l.tails[i] *= l.work / l.tails[steps]
		}
	}
	i := sort.SearchFloat64s(l.tails, work-1e-9)
	if i > steps {
		return all + 1, each // more than there is
	}
	if i == 0 {
		return 0, each
	}
	width := float64(i*all/steps - (i-1)*all/steps)
	part := (work - l.tails[i-1]) / (l.tails[i] - l.tails[i-1])
	frames = (i-1)*all/steps + int(math.Ceil(part*width-1e-9))
	return frames, work / (float64((i-1)*all/steps) + part*width)
}

// remaining is how long something still takes that was expected to take so
// long and has lasted a while. What lasts longer than expected goes on for a
// part of that, and what lasts several times as long may have stalled.
func remaining(expected, spread, lasted float64) float64 {
	return max(expected-lasted, max(0.05, spread/2)*min(lasted, 4*expected), (lasted-stalls*expected)/2)
}

// stalls is how many times as long as expected a frame lasts that may not end
// by itself.
const stalls = 3

// together returns the seconds from now at which all could be done, frames
// being whole.
func (v *survey) together() float64 {
	if v.common == 0 {
		v.common = v.balance(whole)
	}
	return v.common
}

// balance returns the time at which all work could be done, if every tail
// could be moved to a node that has time left, for one launch each.
func (v *survey) balance(round func(work, each float64) float64) float64 {
	low, high := 0.0, 0.0
	for _, l := range v.loads {
		low = max(low, l.free)
		high = max(high, l.end)
	}
	if v.todo > 0 { // the node that would finish it all first, alone
		alone, power := math.Inf(1), 0.0
		for _, t := range v.takers {
			alone, power = min(alone, t.start+v.todo/t.speed), max(power, t.speed)
		}
		for _, l := range v.loads {
			power = max(power, l.speed)
			if !v.blind && !l.goes {
				alone = min(alone, l.end+v.again+v.todo/l.speed)
			}
		}
		switch {
		case !math.IsInf(alone, 0):
			high = max(high, alone)
		case power > 0:
			high += max(v.startup, v.again) + v.todo/power
		}
	}
	low = min(low, high)
	for range 48 {
		if high-low <= 1e-4*high {
			break
		}
		middle := (low + high) / 2
		if v.room(middle, round) >= 0 {
			high = middle
		} else {
			low = middle
		}
	}
	return high
}

// room is how many reference seconds could be done until then beyond all that
// there is; below 0 if not all can. Frames are whole.
func (v *survey) room(then float64, round func(work, each float64) float64) float64 {
	room := -v.todo
	for _, l := range v.loads {
		switch {
		case l.end > then:
			each := l.work / float64(max(1, l.left.Len()))
			room -= l.work - round((then-l.free)*l.speed, each)
		case !v.blind && !l.goes:
			room += round((then-l.end-v.again)*l.speed, v.each)
		}
	}
	for _, t := range v.takers {
		room += round((then-t.start)*t.speed, v.each)
	}
	return room + 1e-9
}

// whole rounds work down to whole frames of so much each.
func whole(work, each float64) float64 {
	if work <= 0 || each <= 0 {
		return 0
	}
	return math.Floor(work/each+1e-9) * each
}

// finish returns when the run would be done if nothing is moved, counting
// from now; infinite while frames are to do that nobody has.
func (v *survey) finish() float64 {
	if v.todo > 0 {
		return math.Inf(1)
	}
	out := 0.0
	for _, l := range v.loads {
		out = max(out, l.end)
	}
	return out
}
