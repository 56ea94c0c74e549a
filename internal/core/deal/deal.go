// Package deal is the dealer: given the farm, what is known of its pace and
// the time, it says which frames an asking node gets, and why. It changes
// nothing itself and never looks at a clock; it returns Records for the one who
// keeps the farm.
package deal

import (
	"fmt"
	"time"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// Ask is a node's question for work.
type Ask struct {
	Node   farm.NodeID
	Number int64            // the node's own count of its asks in this session
	Warm   farm.LeaseID     // a lease that could go on, its renderer being up or each frame a launch; 0 for none
	Memory *capacity.Memory // nil where the node does not measure it
}

// Decision answers an Ask.
type Decision struct {
	Records []farm.Record // empty when the node gets nothing
	Why     string        // one sentence, whether it gets something or not
	// Cut is the end of a more urgent lease that the node should take over
	// rather than begin anything less urgent; it gets that when its owner has
	// given it back.
	Cut *Cut
}

// Next decides what the asking node gets now: at most one lease. Asked again
// after that was applied, it says what the node gets beside it.
func (d *Dealer) Next(ask Ask, now time.Time) Decision {
	s, m := d.s, d.m
	d.looked = 0
	n := s.Nodes[ask.Node]
	if n == nil {
		return Decision{Why: "this machine is not a node of this farm"}
	}
	if n.TrialDue(now) {
		return d.trial(n, ask, now)
	}
	if !n.Ready() {
		return Decision{Why: fmt.Sprintf("%s is %s", n.Name, notReady(n))}
	}
	warm := s.Lease(ask.Warm)
	if warm != nil && (!warm.Open() || warm.Node != n.ID) {
		warm = nil
	}
	if warm == nil && !capacity.HasRoom(s, n) {
		return Decision{Why: n.Name + " has no room for a further lease"}
	}
	reason := "the queue is empty"
	var last *farm.Run // that could not give anything
	for run := range d.queue.InTurn(now) {
		if !run.Deals() || !capacity.Fits(s, n, run) || d.hopeless(n, run, now) { // most of a long queue
			last = run
			continue
		}
		set, why := d.Offer(n, run, warm, now)
		if set.Empty() {
			reason, last = why, nil
			continue
		}
		if cut, ok := d.first(n, run, warm, now); ok {
			return Decision{Why: cut.Reason, Cut: &cut}
		}
		why = n.Name + " gets " + why
		goesOn := warm != nil && warm.Run == run.ID
		var share farm.Share
		if !goesOn || run.Spec.Mode == farm.ModeSingle { // a launch needs room
			var full string
			if share, full = capacity.Room(
				s, m, n, run, ask.Memory, func(l *farm.Lease) bool { return l == warm },
			); full != "" {
				if keepsRoom(s, m, n, run, ask.Memory) {
					return Decision{
						Why: fmt.Sprintf(
							"%s keeps its room for %s, which comes first: %s", n.Name, run.Spec.Name(), full,
						),
					}
				}
				reason = full
				continue
			}
		}
		switch {
		case goesOn && run.Spec.Mode == farm.ModeSingle && !capacity.Offers(n, warm.Share):
			return Decision{Why: fmt.Sprintf("%s no longer offers what lease %d owns: it should end", n.Name, warm.ID)}
		case goesOn && (run.Spec.Mode == farm.ModeFeed || run.Spec.Mode == farm.ModeSingle):
			return Decision{Why: why, Records: []farm.Record{farm.LeaseExtended{
				Lease: warm.ID, Node: n.ID, Run: run.ID, Ask: ask.Number, Frames: set, Reason: why, At: now,
			}}}
		case warm != nil:
			return Decision{Why: "other work comes first now; the renderer that is up should end"}
		}
		return Decision{Records: d.opened(n, run, set, share, ask, why, now), Why: why}
	}
	if last != nil {
		_, reason = d.Offer(n, last, warm, now)
	}
	return Decision{Why: reason}
}

// opened returns the Records that open a lease, and what follows of that for its run.
func (d *Dealer) opened(
	n *farm.Node, run *farm.Run, set frames.Set, share farm.Share, ask Ask, why string, now time.Time,
) []farm.Record {
	records := []farm.Record{farm.LeaseOpened{
		Lease: d.s.LastLease + 1, Node: n.ID, Run: run.ID, Session: n.Session, Ask: ask.Number,
		Frames: set, Share: share, Reason: why, At: now,
	}}
	if version, binds := capacity.Binds(n, run); binds {
		terms := run.Terms
		terms.Renderer = version
		records = append(records, farm.RunSet{
			Run: run.ID, Terms: terms, At: now,
			Reason: fmt.Sprintf("its frames come from %s %s, as %s has it", run.Spec.Recipe, version, n.Name),
		})
	}
	if run.State == farm.RunQueued {
		records = append(
			records,
			farm.RunMoved{Run: run.ID, State: farm.RunRendering, Reason: "the first frames are dealt", At: now},
		)
	}
	return records
}

// Offer returns the frames of one run that would suit the node now, with the
// reason; or none, with the reason for that.
func (d *Dealer) Offer(n *farm.Node, run *farm.Run, warm *farm.Lease, now time.Time) (frames.Set, string) {
	s, m := d.s, d.m
	if why := capacity.FreezeReason(s, n, run, now); why != "" {
		return frames.Set{}, why
	}
	if run.Deals() {
		if why := d.limited(n, run, warm, now); why != "" {
			return frames.Set{}, why
		}
		if why := d.reservedFor(n, run, warm, now); why != "" {
			return frames.Set{}, why
		}
	}
	if why := d.waiting(n, run, now); why != "" {
		return frames.Set{}, why
	}
	set, why := d.wanted(n, run, now)
	if set.Empty() {
		return set, why
	}
	if of := s.WaitsOf(n, run); len(of) > 0 && run.Spec.Mode != farm.ModeWhole {
		may, _ := d.leaves(n, run, now)
		if fresh := may.Minus(d.bars(run, now).tried); !fresh.Empty() {
			set = fresh // what has failed before may do so again, whatever is back
		}
		set = ordered(run, set, 1)
		why = fmt.Sprintf("frame %d: it tries whether %s is back", set.First(), of[0])
	}
	most, late := framesBeforeOffDuty(m, n, run, set, now)
	if most == 0 || run.Spec.Mode == farm.ModeWhole && most < set.Len() {
		if late == "" {
			late = fmt.Sprintf("%s does not end before the duty hours of %s do", run.Spec.Name(), n.Name)
		}
		return frames.Set{}, late
	}
	if most < set.Len() {
		return set.Take(most), fmt.Sprintf("%s: more would not end before its duty hours do", count(set.Take(most)))
	}
	return set, why
}

// full reports whether a node may not join a run that has as many nodes as it may have.
func (d *Dealer) full(n *farm.Node, run *farm.Run, now time.Time) bool {
	most := run.Terms.Ceiling
	if most.None() || worksOn(n, run) {
		return false
	}
	if most.Nodes > 0 { // whatever nodes there are
		return run.Working() >= most.Nodes
	}
	return run.Working() >= most.Most(d.able(run, now))
}

// ceiling says why a node may not join a run that has as many nodes as it may
// have; "" if it may.
func (d *Dealer) ceiling(n *farm.Node, run *farm.Run, now time.Time) string {
	if !d.full(n, run, now) {
		return ""
	}
	return fmt.Sprintf(
		"%s is at its ceiling of %s: %s at it", run.Spec.Name(), run.Terms.Ceiling,
		english.Plural(run.Working(), "node", ""),
	)
}

// wanted returns the frames that would suit the node if it had time enough.
func (d *Dealer) wanted(n *farm.Node, run *farm.Run, now time.Time) (frames.Set, string) {
	s := d.s
	name := run.Spec.Name()
	switch {
	case run.State == farm.RunHeld:
		return frames.Set{}, name + " is held"
	case run.State != farm.RunQueued && run.State != farm.RunRendering:
		return frames.Set{}, fmt.Sprintf("%s is %s", name, run.State)
	}
	if !capacity.Fits(s, n, run) {
		return frames.Set{}, capacity.Unfit(s, n, run)
	}
	if run.ToDo.Empty() && !run.Later.Empty() {
		return frames.Set{}, fmt.Sprintf("the other frames of %s wait for those of another run", name)
	}
	if run.ToDo.Empty() {
		return frames.Set{}, fmt.Sprintf("all frames of %s are dealt", name)
	}
	todo, why := d.leaves(n, run, now)
	if todo.Empty() {
		return todo, why
	}
	if set, why, ok := scout(run, todo); ok && run.Spec.Mode != farm.ModeWhole {
		return set, why
	}
	if why := scouting(run); why != "" && run.Spec.Mode != farm.ModeWhole {
		return frames.Set{}, why
	}
	if run.Spec.Chunk > 0 {
		return d.chunk(n, run, todo, now)
	}
	switch {
	case run.Spec.Mode == farm.ModeWhole:
		return todo, "all frames in one go, as the recipe needs it"
	case run.Spec.Mode == farm.ModeFeed, apiece(run):
		return d.one(n, run, todo, now)
	}
	return d.share(n, run, todo, now)
}

func count(set frames.Set) string {
	if set.Len() == 1 {
		return fmt.Sprintf("frame %d", set.First())
	}
	return english.Plural(set.Len(), "frame", "")
}

func notReady(n *farm.Node) string {
	switch {
	case !n.RetiredAt.IsZero():
		return "retired"
	case n.Reach != farm.Online:
		return string(n.Reach)
	case n.Duty != farm.OnDuty:
		return string(n.Duty)
	}
	return string(n.Health)
}

func all(set frames.Set) string {
	if set.Len() == 1 {
		return count(set)
	}
	return "all " + count(set)
}
