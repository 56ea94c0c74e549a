package farm

import (
	"fmt"
	"time"
)

// HandID numbers what needs a hand.
type HandID int64

// Kinds of what needs a hand.
const (
	HandParked    = "parked"    // frames of a run
	HandFailed    = "failed"    // a run that has ended so
	HandFailing   = "failing"   // a run that is held, as its frames fail
	HandChanged   = "changed"   // a run that is held, as its scene has changed
	HandStep      = "step"      // a run that is held, as what it waits for does not come
	HandNobody    = "nobody"    // can take a run
	HandScouts    = "scouts"    // of a run that waits for a yes
	HandAtRisk    = "at risk"   // a run that is due
	HandPreflight = "preflight" // of a run, which some nodes fail
	HandSidelined = "sidelined" // a node
	HandDevice    = "device"    // of a node, that is set aside
	HandSilent    = "silent"    // a node
	HandHush      = "hush"      // many nodes that fell silent together
	HandFull      = "full"      // a node without room
	HandWaiting   = "waiting"   // for a place, a licence or a renderer
	HandPlace     = "place"     // that is away
	HandDelivery  = "delivery"  // into a place that takes nothing
	HandBudget    = "budget"    // of a project, most of which is used up
	HandSpent     = "spent"     // a budget of a project that is used up
	HandHeld      = "held"      // a place, a recipe or a pool, by a person
)

// HandKinds are all of them, the most urgent first.
func HandKinds() []string {
	return []string{
		HandPlace, HandWaiting, HandDelivery, HandHush, HandFailed, HandFailing, HandNobody, HandParked, HandPreflight,
		HandAtRisk, HandSidelined, HandDevice, HandFull, HandChanged, HandStep, HandScouts, HandSilent, HandSpent,
		HandBudget, HandHeld,
	}
}

// ofFrames reports whether a hand is about frames that a run has given up by itself: once
// somebody has looked, it is over, though they stay parked.
func (of HandOf) ofFrames() bool { return of.Kind == HandParked || of.Kind == HandFailed }

// HandOf is what something that needs a hand is about: the same again is the same.
type HandOf struct {
	Kind    string `json:"kind"` // one of HandKinds
	Run     RunID  `json:"run,omitempty"`
	Node    NodeID `json:"node,omitempty"`
	Subject string `json:"subject,omitempty"` // place, recipe, pool, licence, renderer or device; with its name
	Name    string `json:"name,omitempty"`
}

// Hand is something that needs a person, from when it was seen until it is over.
type Hand struct {
	ID       HandID    `json:"id"`
	Of       HandOf    `json:"of"`
	Project  string    `json:"project,omitempty"` // of its run; empty: it is the farm's
	Sentence string    `json:"sentence"`
	Evidence string    `json:"evidence"`
	Count    int       `json:"count"`     // how often it has come
	RaisedAt time.Time `json:"raised_at"` // first
	LastAt   time.Time `json:"last_at"`   // when it came last

	EndedAt      time.Time `json:"-"` // it is over by itself; zero: it is not
	TakenBy      string    `json:"-"` // who sees to it; empty: nobody
	TakenAt      time.Time `json:"-"`
	SnoozedBy    string    `json:"-"`
	SnoozedUntil time.Time `json:"-"` // zero: it is not put off
	ResolvedBy   string    `json:"-"` // who says that nothing is left to do; empty: nobody
	ResolvedAt   time.Time `json:"-"`
	Note         string    `json:"-"` // of who resolved it
}

// Open reports whether a hand is still to be seen to.
func (h *Hand) Open() bool { return h.EndedAt.IsZero() && h.ResolvedBy == "" }

// Done reports whether somebody has done with what is still there: it is seen, and left alone.
// Of what a run has given up it is the run that knows: seen again, it is more.
func (h *Hand) Done() bool { return h.EndedAt.IsZero() && h.ResolvedBy != "" && !h.Of.ofFrames() }

// Snoozed reports whether a hand is put off for now.
func (h *Hand) Snoozed(now time.Time) bool { return now.Before(h.SnoozedUntil) }

// handsKept is how long one that is over is remembered: if it comes again by then, it is the
// same.
const handsKept = 30 * time.Minute

// Forgotten reports whether a hand has been over for so long that the same would be another.
func (h *Hand) Forgotten(now time.Time) bool {
	return !h.EndedAt.IsZero() && now.Sub(h.EndedAt) > handsKept
}

// Hand returns what needs a hand by its number; nil where it is not remembered.
func (s *State) Hand(id HandID) *Hand {
	for _, h := range s.Hands {
		if h.ID == id {
			return h
		}
	}
	return nil
}

// HandRaised says that something needs a hand, for the first time or again.
type HandRaised struct {
	Hand
}

// Kind implements [Record].
func (HandRaised) Kind() Kind { return "hand raised" }

// About implements [Record].
func (r HandRaised) About() About {
	return About{Run: r.Of.Run, Node: r.Of.Node, At: r.LastAt}
}

// Wakes implements [Record].
func (HandRaised) Wakes() Wakes { return 0 }

func (r HandRaised) apply(s *State) error {
	h := r.Hand
	if old := s.Hands[r.Of]; old != nil && old.ID == r.ID {
		h.TakenBy, h.TakenAt = old.TakenBy, old.TakenAt
		h.SnoozedBy, h.SnoozedUntil = old.SnoozedBy, old.SnoozedUntil
	} else if r.ID <= s.LastHand {
		return fmt.Errorf("hand %d is there already", r.ID)
	}
	s.Hands[r.Of] = &h
	s.LastHand = max(s.LastHand, r.ID)
	for of, o := range s.Hands {
		if o.Forgotten(r.LastAt) {
			delete(s.Hands, of)
		}
	}
	return nil
}

// HandEnded says that something is over by itself.
type HandEnded struct {
	Hand HandID `json:"hand"`
	Of   HandOf `json:"of"`
	// what was said of it last; empty: as when it was raised
	Sentence string    `json:"sentence,omitempty"`
	Evidence string    `json:"evidence,omitempty"`
	At       time.Time `json:"at"`
}

// Kind implements [Record].
func (HandEnded) Kind() Kind { return "hand ended" }

// About implements [Record].
func (r HandEnded) About() About { return About{Run: r.Of.Run, Node: r.Of.Node, At: r.At} }

// Wakes implements [Record].
func (HandEnded) Wakes() Wakes { return 0 }

func (r HandEnded) apply(s *State) error {
	h := s.Hands[r.Of]
	if h == nil || h.ID != r.Hand {
		return fmt.Errorf("there is no hand %d", r.Hand)
	}
	next := *h
	next.EndedAt = r.At
	if r.Sentence != "" {
		next.Sentence, next.Evidence = r.Sentence, r.Evidence
	}
	s.Hands[r.Of] = &next
	return nil
}

// HandAct is what a person does about something that needs a hand.
type HandAct string

// What people do about what needs a hand.
const (
	HandTake    HandAct = "take"    // they see to it
	HandLeave   HandAct = "leave"   // nobody does any more
	HandSnooze  HandAct = "snooze"  // not before a time
	HandWake    HandAct = "wake"    // now, after all
	HandResolve HandAct = "resolve" // nothing is left to do
	HandReopen  HandAct = "reopen"  // after all, there is
)

// HandActs are all of them.
func HandActs() []HandAct {
	return []HandAct{HandTake, HandLeave, HandSnooze, HandWake, HandResolve, HandReopen}
}

// HandActed says what a person has done about something.
type HandActed struct {
	Hand  HandID    `json:"hand"`
	Of    HandOf    `json:"of"`
	Do    HandAct   `json:"act"`
	By    string    `json:"by"`
	Until time.Time `json:"until,omitzero"` // of a snooze
	Note  string    `json:"note,omitempty"` // of who resolves it
	At    time.Time `json:"at"`
}

// Kind implements [Record].
func (HandActed) Kind() Kind { return "hand acted" }

// About implements [Record].
func (r HandActed) About() About { return About{Run: r.Of.Run, Node: r.Of.Node, At: r.At} }

// Wakes implements [Record].
func (HandActed) Wakes() Wakes { return 0 }

func (r HandActed) apply(s *State) error {
	h := s.Hands[r.Of]
	if h == nil || h.ID != r.Hand {
		return fmt.Errorf("there is no hand %d", r.Hand)
	}
	next := *h
	if run := s.Runs[r.Of.Run]; run != nil && r.Of.ofFrames() {
		switch r.Do {
		case HandResolve:
			run.LookedAt = r.At
		case HandReopen:
			run.LookedAt = time.Time{}
		}
	}
	switch r.Do {
	case HandTake:
		next.TakenBy, next.TakenAt = r.By, r.At
	case HandLeave:
		next.TakenBy, next.TakenAt = "", time.Time{}
	case HandSnooze:
		next.SnoozedBy, next.SnoozedUntil = r.By, r.Until
	case HandWake:
		next.SnoozedBy, next.SnoozedUntil = "", time.Time{}
	case HandResolve:
		next.ResolvedBy, next.ResolvedAt, next.Note = r.By, r.At, r.Note
	case HandReopen:
		next.ResolvedBy, next.ResolvedAt, next.Note = "", time.Time{}, ""
	default:
		return fmt.Errorf("%q is done about nothing", r.Do)
	}
	s.Hands[r.Of] = &next
	return nil
}
