package drill

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/deal"
	"vexillum/internal/core/engine"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/simulate"
)

// Way is a way in which people split work by hand.
type Way struct {
	Name  string
	equal bool
	fixed int
	claim bool
}

// ParseWay reads equal, fixed:N or claim.
func ParseWay(text string) (Way, error) {
	w := Way{Name: text}
	number, fixed := strings.CutPrefix(text, "fixed:")
	switch {
	case text == "equal":
		w.equal = true
	case text == "claim":
		w.claim = true
	case fixed:
		n, err := strconv.Atoi(number)
		if err != nil || n < 1 {
			return Way{}, fmt.Errorf("%q: the chunk has to be a number of frames above 0, such as fixed:5", text)
		}
		w.fixed = n
	default:
		return Way{}, fmt.Errorf("there is no way of splitting called %q: use equal, fixed:N or claim", text)
	}
	return w, nil
}

// play plays the farm in this way: equal shares for the nodes that are there
// when a job begins, chunks of a fixed size, or one frame at a time by
// renderers that stay up. Nobody learns or takes anything over.
func (w Way) play(f simulate.Farm, goOn func() bool) (*simulate.Report, error) {
	if w.claim {
		f.Jobs = append([]simulate.Job(nil), f.Jobs...)
		for i := range f.Jobs {
			if f.Jobs[i].Spec.Mode != farm.ModeWhole {
				f.Jobs[i].Spec.Mode = farm.ModeFeed
			}
		}
	}
	return simulate.Play(f, simulate.Options{GoOn: goOn, Policy: func(s *farm.State) engine.Policy {
		return &byHand{s: s, way: w, shares: map[farm.RunID]map[farm.NodeID]frames.Set{}}
	}})
}

// byHand deals without looking at anything but what is left.
type byHand struct {
	s      *farm.State
	way    Way
	shares map[farm.RunID]map[farm.NodeID]frames.Set
}

// Next implements engine.Policy.
func (h *byHand) Next(ask deal.Ask, now time.Time) deal.Decision {
	n := h.s.Nodes[ask.Node]
	if !n.Ready() {
		return deal.Decision{}
	}
	warm := h.s.Lease(ask.Warm)
	for _, run := range h.s.Queue() {
		if !capacity.Fits(h.s, n, run) {
			continue
		}
		set := h.part(run, n)
		if set.Empty() {
			continue
		}
		if warm != nil && warm.Run == run.ID {
			return deal.Decision{
				Records: []farm.Record{
					farm.LeaseExtended{Lease: warm.ID, Node: n.ID, Run: run.ID, Ask: ask.Number, Frames: set, At: now},
				},
			}
		}
		if warm != nil {
			return deal.Decision{}
		}
		records := []farm.Record{
			farm.LeaseOpened{
				Lease: h.s.LastLease + 1, Node: n.ID, Run: run.ID, Session: n.Session, Ask: ask.Number,
				Frames: set, At: now,
			},
		}
		if run.State == farm.RunQueued {
			records = append(records, farm.RunMoved{Run: run.ID, State: farm.RunRendering, At: now})
		}
		return deal.Decision{Records: records}
	}
	return deal.Decision{}
}

// TakeOver implements engine.Policy: it never happens.
func (h *byHand) TakeOver(farm.NodeID, time.Time) (deal.Cut, bool, time.Duration) {
	return deal.Cut{}, false, time.Hour
}

// Race implements engine.Policy: nobody does.
func (h *byHand) Race(deal.Ask, time.Time) deal.Decision { return deal.Decision{} }

// Yield implements engine.Policy: nobody gives anything back.
func (h *byHand) Yield(time.Time) []deal.Cut { return nil }

// May implements engine.Policy: nothing limits.
func (h *byHand) May(farm.NodeID, farm.RunID, time.Time) bool { return true }

// Forget implements engine.Policy.
func (h *byHand) Forget(run farm.RunID) { delete(h.shares, run) }

// Receive implements engine.Policy: nobody counts.
func (h *byHand) Receive(string, string, float64, time.Time) {}

// part is what the node gets of a run now: one stretch.
func (h *byHand) part(run *farm.Run, n *farm.Node) frames.Set {
	todo := run.ToDo
	switch {
	case todo.Empty():
		return todo
	case run.Spec.Mode == farm.ModeWhole:
		return todo
	case h.way.claim:
		return todo.Take(1)
	case h.way.fixed > 0:
		return stretch(todo).Take(h.way.fixed)
	}
	shares := h.shares[run.ID]
	if shares == nil {
		shares = h.equal(run)
		h.shares[run.ID] = shares
	}
	if mine := todo.Intersect(shares[n.ID]); !mine.Empty() {
		return stretch(mine)
	}
	// What failed or was lost goes to a node with nothing of its own.
	rest := todo
	for id, share := range shares {
		if h.s.Nodes[id].Ready() {
			rest = rest.Minus(share)
		}
	}
	for f, t := range run.Trouble {
		if len(t.Attempts) > 0 && todo.Has(f) {
			rest = rest.Union(frames.One(f))
		}
	}
	if rest.Empty() {
		return rest
	}
	return stretch(rest)
}

// equal cuts what is to do into as many equal parts as nodes are ready for it.
func (h *byHand) equal(run *farm.Run) map[farm.NodeID]frames.Set {
	todo := run.ToDo
	var ready []farm.NodeID
	for id := farm.NodeID(1); id <= h.s.LastNode; id++ {
		if n := h.s.Nodes[id]; n != nil && n.Ready() && capacity.Fits(h.s, n, run) {
			ready = append(ready, id)
		}
	}
	out := map[farm.NodeID]frames.Set{}
	for i, id := range ready {
		part := todo.Take(todo.Len() / (len(ready) - i))
		out[id] = part
		todo = todo.Minus(part)
	}
	return out
}

// stretch returns the first frames of a set that follow one another.
func stretch(set frames.Set) frames.Set {
	for sp := range set.Spans() {
		return frames.Of(sp)
	}
	return set
}
