package hands

import (
	"fmt"
	"math"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/span"
)

// Cost is what something costs as long as nobody sees to it.
type Cost struct {
	Frames  int       // that are not rendered because of it
	Seconds float64   // of one node that rendering them takes, or that a node is missing in an hour
	Node    bool      // it is a node that is missing
	ToGo    bool      // the frames are not held up, only not done
	Guessed bool      // nothing is known of how long frames take
	Due     time.Time // when the first of these frames must be ready; zero: never
}

// What is due soon counts for more: so many times, and how soon that is.
const (
	dueWeight = 10
	dueSoon   = 24 * time.Hour
)

// Weight orders what needs a hand: seconds of a node that are held up, and ten times those of
// what is due within a day or late.
func (c Cost) Weight(now time.Time) float64 {
	if !c.Due.IsZero() && c.Due.Sub(now) < dueSoon {
		return dueWeight * c.Seconds
	}
	return c.Seconds
}

// Rounded returns a cost that does not change with every second: a time to about a tenth of
// itself.
func (c Cost) Rounded() Cost {
	if c.Seconds > 0 {
		step := math.Pow(10, math.Floor(math.Log10(max(60, c.Seconds)/60))-1) * 60
		c.Seconds = math.Round(c.Seconds/step) * step
	}
	return c
}

// Text says a cost in words; empty where it costs nothing.
func (c Cost) Text() string {
	took := span.Text(time.Duration(c.Seconds * float64(time.Second)))
	text := ""
	switch {
	case c.Node && c.Seconds > 0:
		text = "one node less while frames wait"
	case c.Frames == 0:
		return ""
	case c.ToGo && c.Frames == 1:
		text = "1 frame to go"
	case c.ToGo:
		text = fmt.Sprintf("%d frames to go", c.Frames)
	case c.Frames == 1:
		text = "holds up 1 frame"
	default:
		text = fmt.Sprintf("holds up %d frames", c.Frames)
	}
	if !c.Node && !c.Guessed && c.Seconds >= 1 {
		text += fmt.Sprintf(", about %s of one node", took)
	}
	if !c.Due.IsZero() {
		text += ", due " + farm.Moment(c.Due)
	}
	return text
}

// frameSeconds is what a frame is taken to cost of which nothing is known.
const frameSeconds = 60

// CostOf reckons what something costs. seconds returns how long a node takes for a frame of
// a run, and 0 where nothing is known of that.
func CostOf(s *farm.State, of farm.HandOf, seconds func(*farm.Run) float64) (c Cost) {
	add := func(run *farm.Run, frames int) {
		if frames == 0 {
			return
		}
		each := seconds(run)
		if each <= 0 {
			each, c.Guessed = frameSeconds, true
		}
		c.Frames += frames
		c.Seconds += float64(frames) * each
		if due := run.Terms.Due; !due.IsZero() && (c.Due.IsZero() || due.Before(c.Due)) {
			c.Due = due
		}
	}
	switch run := s.Runs[of.Run]; {
	case run != nil && (of.Kind == farm.HandParked || of.Kind == farm.HandFailed):
		add(run, run.NeedsHand().Len())
	case run != nil:
		c.ToGo = of.Kind == farm.HandAtRisk || of.Kind == farm.HandPreflight
		add(run, run.Spec.Frames.Len()-run.Done.Len()-run.GivenUp().Len())
	case of.Node != 0 && of.Subject != string(farm.FreezePlace):
		nodeCost(s, of.Node, add)
		if waiting(s) {
			c.Node, c.Seconds = true, c.Seconds+nodeHour
		}
	case of.Kind == farm.HandHush:
		for _, n := range s.NodeList() {
			if n.Reach == farm.Silent {
				nodeCost(s, n.ID, add)
			}
		}
	case of.Subject != "":
		for _, run := range s.Queue() {
			if needs(s, run, of) {
				add(run, run.Spec.Frames.Len()-run.Done.Len()-run.GivenUp().Len())
			}
		}
	}
	return c
}

// nodeHour is what a node does in the hour until somebody has seen to it, in seconds.
const nodeHour = 3600

// nodeCost adds the frames that a node holds and that nobody else renders.
func nodeCost(s *farm.State, id farm.NodeID, add func(*farm.Run, int)) {
	for _, l := range s.LeasesOf(id) {
		if run := s.Runs[l.Run]; run != nil {
			add(run, l.Left.Len())
		}
	}
}

// waiting reports whether frames wait for a node.
func waiting(s *farm.State) bool {
	for _, run := range s.Queue() {
		if (run.State == farm.RunQueued || run.State == farm.RunRendering) && !run.ToDo.Empty() {
			return true
		}
	}
	return false
}

// needs reports whether a run needs what a hand is about.
func needs(s *farm.State, run *farm.Run, of farm.HandOf) bool {
	switch farm.FreezeKind(of.Subject) {
	case farm.FreezePlace:
		p := s.Projects[run.Spec.Project]
		return p != nil && (p.Frames == of.Name || p.Scenes == of.Name)
	case farm.FreezeRecipe:
		return run.Spec.Recipe == of.Name
	}
	for surrounding := range s.Waits {
		if surrounding.String() == of.Name && s.Needs(surrounding, run) {
			return true
		}
	}
	return false
}
