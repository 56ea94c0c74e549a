package views

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/explain"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/span"
	"vexillum/internal/core/triage"
	"vexillum/internal/wire"

	"github.com/dustin/go-humanize/english"
)

// parked reports runs with parked frames that nobody has given up.
func (b *Board) parked(sight farm.Sight) (out []wire.NeedHand) {
	for _, run := range b.runsInTrouble(sight) {
		parked := run.NeedsHand()
		v := wire.NeedHand{Kind: farm.HandParked, Run: int64(run.ID), Action: "retry"}
		name := run.Spec.Name()
		switch n := parked.Len(); {
		case run.State == farm.RunFailed:
			v.Kind, v.Sentence = farm.HandFailed, fmt.Sprintf("%s has failed: %s.", name, run.ClosingReason(run.State))
		case n == 1:
			v.Sentence = fmt.Sprintf("%s: frame %d is parked, the rest goes on.", name, parked.First())
		default:
			v.Sentence = fmt.Sprintf("%s: %d frames are parked: %s.", name, n, parked.Brief())
		}
		if run.State == farm.RunGaps && parked.Len() == 1 {
			v.Sentence = fmt.Sprintf("%s is done with a gap: frame %d is parked.", name, parked.First())
		}
		if t := run.Trouble[parked.First()]; t != nil && len(t.Attempts) > 0 {
			last := t.Attempts[len(t.Attempts)-1]
			v.Evidence = fmt.Sprintf(
				"It failed %s, last on %s with %s: “%s”.", triage.Times(len(t.Attempts)), b.s.NodeName(last.Node),
				last.Cause, firstLine(last.Message),
			)
		}
		out = append(out, v)
	}
	return out
}

// mostStuck bounds how many runs that no node can take are reported at once, in queue order: nobody
// reads more, and the others follow once these are dealt with. The console says "100 or more".
const mostStuck = 100

// stuck reports runs that no node can take, or that fail everywhere.
func (b *Board) stuck(now time.Time) (out []wire.NeedHand) {
	for _, run := range b.s.Queue() {
		if len(out) == mostStuck {
			break
		}
		if run.State != farm.RunQueued && run.State != farm.RunRendering || run.ToDo.Empty() ||
			capacity.Searching(b.s, run, now) {
			continue
		}
		if why := capacity.Nobody(b.s, run); why != "" {
			out = append(out, wire.NeedHand{
				Kind: farm.HandNobody, Run: int64(run.ID), Action: "look",
				Sentence: fmt.Sprintf("No node can take %s as it is.", run.Spec.Name()), Evidence: farm.Sentence(why),
			})
		}
	}
	for _, run := range b.s.Queue() {
		if run.State == farm.RunHeld && run.Held == farm.HeldChanged {
			out = append(out, wire.NeedHand{
				Kind: farm.HandChanged, Run: int64(run.ID), Action: "release",
				Sentence: fmt.Sprintf("%s is held, as its scene has changed.", run.Spec.Name()),
				Evidence: farm.Sentence(run.Reason),
			})
		}
		if run.State == farm.RunHeld && run.Held == farm.HeldStep {
			out = append(out, wire.NeedHand{
				Kind: farm.HandStep, Run: int64(run.ID), Action: "release",
				Sentence: fmt.Sprintf("%s is held, as what it waits for does not come.", run.Spec.Name()),
				Evidence: farm.Sentence(run.Reason + "; render that again, or release this one to go on without it"),
			})
		}
		if run.State == farm.RunHeld && run.Held == farm.HeldFailing {
			out = append(out, wire.NeedHand{
				Kind: farm.HandFailing, Run: int64(run.ID), Action: "release",
				Sentence: fmt.Sprintf("%s is held, as its frames fail.", run.Spec.Name()),
				Evidence: farm.Sentence(run.Reason),
			})
		}
	}
	return out
}

// sidelined reports nodes that the farm has sidelined.
func (b *Board) sidelined(now time.Time) (out []wire.NeedHand) {
	for _, n := range b.s.Nodes {
		if n.Health == farm.Sidelined && n.HealthBy == farm.ByTriage && n.RetiredAt.IsZero() {
			out = append(out, wire.NeedHand{
				Kind: farm.HandSidelined, Node: int64(n.ID), Action: "look",
				Sentence: fmt.Sprintf("%s is sidelined: it fails what others render.", n.Name),
				Evidence: farm.Sentence(n.HealthWhy + explain.Trial(n, now)),
			})
		}
		for _, d := range n.Facts.Devices {
			if n.DeviceAside(d.ID) && n.RetiredAt.IsZero() {
				out = append(out, wire.NeedHand{
					Kind: farm.HandDevice, Node: int64(n.ID), Action: "look",
					Subject:  &wire.Subject{Kind: "device", Name: d.ID},
					Sentence: fmt.Sprintf("Device %s of %s is set aside: it fails what others render.", d.ID, n.Name),
					Evidence: farm.Sentence(n.Aside[d.ID].Why),
				})
			}
		}
	}
	return out
}

// waiting reports what runs wait for that has failed around them.
func (b *Board) waiting(now time.Time, sight farm.Sight) (out []wire.NeedHand) {
	for of, w := range b.s.Waits {
		var runs []string
		for _, run := range b.s.Queue() {
			if w.Holds(run.ID) && b.s.Needs(of, run) && sight.Sees(run.Spec.Project) {
				runs = append(runs, run.Spec.Name())
			}
		}
		if len(w.Only) > 0 && len(runs) == 0 {
			continue // it is not theirs
		}
		again := "one frame tries just now whether it is back"
		if w.Scout == 0 {
			again = "one frame tries again in " + span.Text(max(0, w.Until.Sub(now)))
		}
		name := of.String()
		sentence := fmt.Sprintf(
			"%s fails all that need it; %s", name, english.Plural(len(runs), "run waits", "runs wait"),
		)
		if len(w.Only) > 0 {
			sentence = fmt.Sprintf(
				"either %s %s wrong or %s is gone; %s until that is known", english.WordSeries(runs, "and"),
				english.PluralWord(len(runs), "is", "are"), name, english.PluralWord(len(runs), "it waits",
					"they wait"),
			)
		}
		out = append(out, wire.NeedHand{
			Kind: farm.HandWaiting, Action: "wait", Subject: &wire.Subject{Kind: string(of.Kind), Name: name},
			Sentence: farm.Sentence(sentence),
			Evidence: farm.Sentence(fmt.Sprintf("%s; %s", w.Reason, again)),
		})
	}
	return out
}

// budgets reports projects that have used up their budget, or most of it.
func (b *Board) budgets(now time.Time, sight farm.Sight) (out []wire.NeedHand) {
	for name, p := range b.s.Projects {
		if p.Budget == 0 || !sight.Sees(name) {
			continue
		}
		spent := b.s.SpentHours(name, now)
		v := wire.NeedHand{
			Action: "look", Subject: &wire.Subject{Kind: "project", Name: name},
			Evidence: fmt.Sprintf(
				"%.1f of %g machine hours are used. Nothing is held for it: raise the budget, or hold what may wait.",
				spent, p.Budget,
			),
		}
		switch {
		case spent >= p.Budget:
			v.Kind, v.Sentence = farm.HandSpent, fmt.Sprintf("The project %s has used up its budget.", name)
		case spent >= farm.NearBudget*p.Budget:
			v.Kind = farm.HandBudget
			v.Sentence = fmt.Sprintf(
				"The project %s has used more than %.0f %% of its budget.", name, 100*farm.NearBudget,
			)
		default:
			continue
		}
		out = append(out, v)
	}
	return out
}

// frozen reports what a person holds as a whole.
func (b *Board) frozen() (out []wire.NeedHand) {
	for of, stay := range b.s.Freezes {
		if stay.Held {
			out = append(out, wire.NeedHand{
				Kind: farm.HandHeld, Subject: &wire.Subject{Kind: string(of.Kind), Name: of.Name}, Action: "release",
				Sentence: join(strings.ToUpper(of.String()[:1])+of.String()[1:]+" is held by "+stay.By, stay.Reason),
				Evidence: "Nothing new is begun with it until somebody releases it.",
			})
		}
	}
	return out
}

// silent reports nodes that fell silent: each, or many together as one.
func (b *Board) silent() (out []wire.NeedHand) {
	until, hushed := b.e.MassOutage()
	if hushed > 0 {
		out = append(out, wire.NeedHand{
			Kind: farm.HandHush, Action: "look",
			Sentence: fmt.Sprintf(
				"%d nodes fell silent together: the network or the service is to blame, not the nodes.", hushed,
			),
			Evidence: fmt.Sprintf(
				"Nothing is taken from them until %s, or until they are heard from again.", farm.Moment(until),
			),
		})
	}
	for _, n := range b.s.Nodes {
		if n.Reach != farm.Silent || n.Session == 0 || !n.RetiredAt.IsZero() || hushed > 0 && b.e.FellSilent(n.ID) {
			continue
		}
		v := wire.NeedHand{Kind: farm.HandSilent, Node: int64(n.ID), Action: "look"}
		v.Sentence = fmt.Sprintf("%s has been silent since %s.", n.Name, farm.Moment(n.ReachSince))
		v.Evidence = "It holds no frames. Look whether the machine and its node process are up."
		if leases := b.s.LeasesOf(n.ID); len(leases) > 0 {
			v.Evidence = fmt.Sprintf(
				"It holds frames %s of %s; if it stays silent, they are dealt to others.", leases[0].Left,
				b.s.Runs[leases[0].Run].Spec.Name(),
			)
		}
		out = append(out, v)
	}
	return out
}

// undelivered reports frames that wait on their nodes because they cannot be
// delivered: one item a place, as it is seldom the nodes that are to blame.
func (b *Board) undelivered() []wire.NeedHand {
	waiting := map[string][]string{} // nodes by frame place
	trouble := map[string]string{}
	var out []wire.NeedHand
	for id := range b.live {
		for lease, p := range b.e.Progress(id) {
			held := b.s.Lease(lease)
			if held == nil || b.s.Nodes[id].Reach != farm.Online {
				continue
			}
			if p.Full != "" && p.Trouble == "" { // of a place that is gone, that is told already
				out = append(out, wire.NeedHand{
					Kind: farm.HandFull, Action: "look", Node: int64(id),
					Sentence: fmt.Sprintf("%s begins no further frame until there is room.", b.s.NodeName(id)),
					Evidence: farm.Sentence(p.Full),
				})
			}
			if p.Trouble == "" {
				continue
			}
			place := b.s.Projects[b.s.Runs[held.Run].Spec.Project].Frames
			if !slices.Contains(waiting[place], b.s.NodeName(id)) {
				waiting[place] = append(waiting[place], b.s.NodeName(id))
			}
			trouble[place] = max(trouble[place], p.Trouble) // any of them, but always the same
		}
	}
	for place, why := range b.away {
		v := wire.NeedHand{
			Kind: farm.HandPlace, Subject: &wire.Subject{Kind: string(farm.FreezePlace), Name: place}, Action: "look",
			Sentence: fmt.Sprintf("The place %s is away.", place), Evidence: farm.Sentence(why),
		}
		switch n := len(waiting[place]); n {
		case 0:
		case 1:
			v.Sentence = fmt.Sprintf(
				"The place %s is away; %s holds its frames and keeps trying.", place, waiting[place][0],
			)
		default:
			v.Sentence = fmt.Sprintf("The place %s is away; %d nodes hold their frames and keep trying.", place, n)
		}
		delete(waiting, place) // told once
		out = append(out, v)
	}
	for place, nodes := range waiting {
		slices.Sort(nodes)
		v := wire.NeedHand{
			Kind: farm.HandDelivery, Action: "look",
			Subject: &wire.Subject{Kind: string(farm.FreezePlace), Name: place},
		}
		v.Sentence = fmt.Sprintf(
			"%s cannot deliver into the place %s; it holds its frames and keeps trying.", nodes[0], place,
		)
		if len(nodes) > 1 {
			v.Sentence = fmt.Sprintf(
				"%d nodes cannot deliver into the place %s; they hold their frames and keep trying.", len(nodes), place,
			)
		}
		v.Evidence = farm.Sentence(trouble[place])
		out = append(out, v)
	}
	return out
}

// mostTroubled bounds how many runs with parked frames are told: the newest. The others are
// old, and nobody has looked.
const mostTroubled = 200

// runsInTrouble returns runs with parked frames that nobody has given up or looked at, the
// newest first; not those that are told as runs that fail.
func (b *Board) runsInTrouble(sight farm.Sight) []*farm.Run {
	var out []*farm.Run
	for run := range b.s.WithParked {
		if run.State == farm.RunCancelled || run.Held == farm.HeldFailing || !sight.Sees(run.Spec.Project) {
			continue
		}
		if run.LookedAt.IsZero() && !run.NeedsHand().Empty() {
			out = append(out, run)
		}
	}
	slices.SortFunc(out, func(a, b *farm.Run) int { return cmp.Compare(b.ID, a.ID) })
	return out[:min(len(out), mostTroubled)]
}

// PlacesInUse returns the frame places of projects.
func (b *Board) PlacesInUse(ctx context.Context) (out []farm.Place, err error) {
	err = b.do(ctx, func(t *transaction) error {
		seen := map[string]bool{}
		for _, p := range t.State.Projects {
			if place := t.State.Places[p.Frames]; place != nil && !seen[p.Frames] {
				seen[p.Frames] = true
				out = append(out, *place)
			}
		}
		return nil
	})
	return out, err
}

// PlacesAway takes which places are away, and why.
func (b *Board) PlacesAway(ctx context.Context, away map[string]string) error {
	return b.do(ctx, func(t *transaction) error {
		if maps.Equal(b.away, away) {
			return nil
		}
		b.away = away
		for _, run := range t.State.Queue() {
			b.dirty.run(run.ID)
		}
		return nil
	})
}

// waits says why rendered frames of a run, or one of them, wait on their nodes
// and cannot be delivered; nothing where none does.
func (b *Board) waits(run *farm.Run, frame *int) string {
	var nodes []string
	why := ""
	for l := range run.OpenLeases {
		p := b.e.Progress(l.Node)[l.ID]
		if p.Trouble == "" || frame != nil && !l.Left.Has(*frame) && run.Delivering[*frame].Node != l.Node {
			continue
		}
		nodes, why = append(nodes, b.s.NodeName(l.Node)), max(why, p.Trouble)
	}
	if len(nodes) == 0 {
		return b.full(run)
	}
	slices.Sort(nodes)
	if nodes = slices.Compact(nodes); len(nodes) > 3 {
		return fmt.Sprintf("%d nodes cannot deliver: %s", len(nodes), why)
	}
	return strings.Join(nodes, ", ") + " cannot deliver: " + why
}

// full names the nodes of a run that cannot begin a frame because a disk is full; "" if none.
func (b *Board) full(run *farm.Run) string {
	var nodes []string
	why := ""
	for l := range run.OpenLeases {
		if p := b.e.Progress(l.Node)[l.ID]; p.Full != "" {
			nodes, why = append(nodes, b.s.NodeName(l.Node)), max(why, p.Full)
		}
	}
	if len(nodes) == 0 {
		return ""
	}
	slices.Sort(nodes)
	return strings.Join(slices.Compact(nodes), ", ") + " cannot begin a frame: " + why
}

// whyRun says in one sentence why a run stands where it stands; what keeps its
// frames from being delivered comes first.
func (b *Board) whyRun(run *farm.Run, now time.Time) string {
	why := b.why.Run(run, now)
	if run.State.Closed() {
		return why
	}
	if waits := b.waits(run, nil); waits != "" {
		return waits + "; " + why
	}
	return why
}
