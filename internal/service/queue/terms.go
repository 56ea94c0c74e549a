package queue

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/forecast"
	"vexillum/internal/core/trait"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// ChangeRun changes what may be changed of a run while it renders: how urgent
// it is, its ceiling, when it is due, and where it stands in its priority.
func (d *Desk) ChangeRun(
	ctx context.Context, id farm.RunID, in wire.RunChange, by farm.Person,
) (out wire.RunChanged, err error) {
	err = d.do(ctx, func(t *transaction) error {
		run := t.State.Runs[id]
		if run == nil {
			return refusal.New(refusal.NotFound, "run", "there is no run %d", id)
		}
		name := run.Spec.Name()
		if err := t.maySteer(run, by, "change it"); err != nil {
			return err
		}
		if run.State.Closed() {
			return refusal.New(refusal.Conflict, "", "%s is %s; there is nothing to change", name, run.State)
		}
		terms, others, err := t.terms(run, in, by)
		if err != nil {
			return err
		}
		out.DryRun, out.Others = in.DryRun, []wire.RunMoves{}
		differences := differences(run.Terms, terms, len(others) > 0)
		ghost := *run // as it would be
		ghost.Terms = terms
		leases, lost := d.dealer.Stops(&ghost, t.Now)
		if !in.Now {
			leases = nil
		}
		out.Stops = len(leases)
		if out.Changes = len(differences) > 0 || len(leases) > 0; !out.Changes {
			out.Say("nothing changes: " + name + " is already so")
			out.Run = d.views.RunView(run, t.Now)
			return nil
		}
		out.Say(append(differences, d.whatComes(&ghost, leases, lost, in, t.Now)...)...)
		if in.DryRun {
			out.Run = d.views.RunView(run, t.Now)
			return nil
		}
		if len(differences) > 0 {
			t.Append(
				farm.RunSet{
					Run: id, Terms: terms, Reason: by.Name + " changed it: " + strings.Join(differences, "; "),
					At: t.Now,
				},
			)
		}
		for _, other := range slices.Sorted(maps.Keys(others)) {
			changed := t.State.Runs[other].Terms
			changed.Put = others[other]
			t.Append(
				farm.RunSet{
					Run: other, Terms: changed,
					Reason: fmt.Sprintf("it keeps its place: %s put %s elsewhere", by.Name, name), At: t.Now,
				},
			)
		}
		for _, l := range leases {
			t.Append(
				farm.LeaseEnded{
					Lease: l.ID, Node: l.Node, Run: l.Run,
					Reason: fmt.Sprintf("%s made room for %s at once", by.Name, name), At: t.Now,
				},
			)
		}
		t.Append(
			farm.Audited{Actor: by.Name, Action: "change run", Subject: name, To: out.Sentence, Run: id, At: t.Now},
		)
		out.Run = d.views.RunView(run, t.Now)
		return nil
	})
	return out, err
}

// version returns the version of a renderer that a run may be bound to: any, or one that
// a node has.
func (t *transaction) version(run *farm.Run, wanted string) (string, error) {
	if wanted == "" {
		return "", nil
	}
	if !run.Begun() {
		return "", refusal.New(
			refusal.Conflict, "renderer",
			"no frame of %s is begun, and the first decides; to choose nodes by version, submit with --needs %s==%.40s",
			run.Spec.Name(), run.Spec.Recipe, wanted,
		)
	}
	var there []string
	for _, n := range t.State.NodeList() {
		if r, fit := n.Facts.Renderer(run.Spec.Recipe); fit && n.RetiredAt.IsZero() &&
			!slices.Contains(there, r.Version) {
			there = append(there, r.Version)
		}
	}
	if !slices.Contains(there, wanted) {
		return "", refusal.New(
			refusal.Invalid, "renderer", "no node has %s %.40q; there is %s", run.Spec.Recipe, wanted,
			english.WordSeries(there, "and"),
		)
	}
	return wanted, nil
}

// amounts puts into terms what further leases of a run take of a node, and what a node must be.
func amounts(terms *farm.Terms, run *farm.Run, in wire.RunChange) error {
	if in.Cores != nil || in.MemoryBytes != nil {
		takes := run.Spec.Takes
		wire.Set(&takes.Cores, in.Cores)
		wire.Set(&takes.MemoryBytes, in.MemoryBytes)
		if err := takes.Check(); err != nil {
			return refusal.New(refusal.Invalid, "cores", "%v", err)
		}
		if takes != run.Spec.Takes {
			terms.Takes = &takes
		}
	}
	if in.Needs != nil {
		if _, err := trait.ParseExpression(*in.Needs); err != nil {
			return refusal.New(refusal.Invalid, "needs", "%v", err)
		}
		if *in.Needs != run.Spec.Needs {
			terms.Needs = in.Needs
		}
	}
	return nil
}

// takesText writes what a lease takes of a node.
func takesText(a *farm.Amounts) string {
	if a == nil {
		return "as submitted"
	}
	text := "the whole node"
	if a.Cores > 0 {
		text = english.Plural(a.Cores, "core", "")
	}
	if a.MemoryBytes > 0 {
		text += " and " + humanize.IBytes(uint64(a.MemoryBytes))
	}
	return text
}

// terms returns what the terms of a run become, and where other runs must be
// put so that it stands where it was wanted.
func (t *transaction) terms(
	run *farm.Run, in wire.RunChange, by farm.Person,
) (terms farm.Terms, others map[farm.RunID]int64, err error) {
	terms = run.Terms
	if in.Priority != nil {
		if terms.Level, err = farm.ParseLevel(*in.Priority); err != nil {
			return terms, nil, refusal.New(refusal.Invalid, "priority", "%v", err)
		}
		if terms.Level == farm.Urgent && !by.Role.Allows(farm.Wrangler) {
			return terms, nil, refusal.New(
				refusal.Forbidden, "priority",
				"only a wrangler can make a run urgent, as it comes before everybody else's; use high, or "+
					"ask a wrangler",
			)
		}
		if terms.Level.Rank() != run.Terms.Level.Rank() {
			terms.Put = 0
		}
	}
	if in.Ceiling != nil {
		if terms.Ceiling, err = farm.ParseCeiling(*in.Ceiling); err != nil {
			return terms, nil, refusal.New(refusal.Invalid, "ceiling", "%v", err)
		}
	}
	if in.Due != nil {
		if terms.Due, err = ParseDue(*in.Due); err == nil {
			err = pastDue(terms.Due, t.Now)
		}
		if err != nil {
			return terms, nil, err
		}
	}
	if in.Renderer != nil {
		if terms.Renderer, err = t.version(run, *in.Renderer); err != nil {
			return terms, nil, err
		}
	}
	if err := amounts(&terms, run, in); err != nil {
		return terms, nil, err
	}
	if in.Now && !by.Role.Allows(farm.Wrangler) {
		return terms, nil, refusal.New(refusal.Forbidden, "now", "only a wrangler can stop other people's frames")
	}
	if in.Put == nil && in.Before == nil {
		return terms, nil, nil
	}
	if !by.Role.Allows(farm.Wrangler) {
		return terms, nil, refusal.New(refusal.Forbidden, "put", "only a wrangler can put runs before other people's")
	}
	var mates []*farm.Run // of the same priority, in their order
	for other := range t.d.dealer.Queue().InTurn(t.Now) {
		if other != run && other.Terms.Level.Rank() == terms.Level.Rank() {
			mates = append(mates, other)
		}
	}
	low, high := int64(0), int64(0)
	for _, m := range mates {
		low, high = min(low, m.Terms.Put), max(high, m.Terms.Put)
	}
	if in.Before != nil {
		return t.before(terms, mates, farm.RunID(*in.Before), low)
	}
	switch *in.Put {
	case "first":
		terms.Put = low - 1
	case "last":
		terms.Put = high + 1
	case "back":
		terms.Put = 0
	default:
		return terms, nil, refusal.New(
			refusal.Invalid, "put", "%q is not a place in the queue: use first, last or back", *in.Put,
		)
	}
	return terms, nil, nil
}

// before puts a run just before another: what stands before that one is put
// there, too, so that it stays so.
func (t *transaction) before(
	terms farm.Terms, mates []*farm.Run, before farm.RunID, low int64,
) (farm.Terms, map[farm.RunID]int64, error) {
	at := -1
	for i, m := range mates {
		if m.ID == before {
			at = i
		}
	}
	if at < 0 {
		return terms, nil, refusal.New(
			refusal.Invalid, "before", "run %d is not in the queue with priority %s", before, terms.Level,
		)
	}
	others := map[farm.RunID]int64{}
	next := low - int64(at) - 2
	for i, m := range mates[:at+1] {
		if i == at {
			terms.Put = next
			next++
		}
		others[m.ID] = next
		next++
	}
	return terms, others, nil
}

// pastDue refuses a time to be ready by that has passed.
func pastDue(due, now time.Time) error {
	if due.IsZero() || due.After(now) {
		return nil
	}
	return refusal.New(
		refusal.Invalid, "due", "%s has passed; a run is due at a time that is still to come", farm.Moment(due),
	)
}

// ParseDue reads when a run must be ready; an empty text is at any time.
func ParseDue(text string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	due, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return time.Time{}, refusal.New(
			refusal.Invalid, "due", "%q is not a time: write it like 2031-03-04T18:00:00Z", text,
		)
	}
	return due.UTC(), nil
}

// differences says what of the terms of a run changes.
func differences(before, after farm.Terms, among bool) (out []string) {
	or := func(text, none string) string {
		if text == "" {
			return none
		}
		return text
	}
	when := func(at time.Time) string {
		if at.IsZero() {
			return "none"
		}
		return farm.Moment(at)
	}
	if before.Level.Rank() != after.Level.Rank() {
		out = append(out, fmt.Sprintf("priority %s instead of %s", after.Level, before.Level))
	}
	if before.Ceiling != after.Ceiling {
		out = append(
			out,
			fmt.Sprintf(
				"ceiling %s instead of %s", or(after.Ceiling.String(), "none"), or(before.Ceiling.String(), "none"),
			),
		)
	}
	if !before.Due.Equal(after.Due) {
		out = append(out, fmt.Sprintf("due %s instead of %s", when(after.Due), when(before.Due)))
	}
	if before.Renderer != after.Renderer {
		out = append(out, fmt.Sprintf(
			"renderer of %s instead of %s", or(after.Renderer, "any version"), or(before.Renderer, "any version"),
		))
	}
	if before.Takes != after.Takes && after.Takes != nil {
		out = append(out, "further leases take "+takesText(after.Takes))
	}
	if before.Needs != after.Needs && after.Needs != nil {
		out = append(out, "further leases need "+or(*after.Needs, "nothing of a node"))
	}
	switch {
	case among:
		out = append(out, "another place in the queue")
	case before.Put == after.Put:
	case after.Put < 0:
		out = append(out, "first of its priority")
	case after.Put > 0:
		out = append(out, "last of its priority")
	default:
		out = append(out, "back in its turn")
	}
	return out
}

// whatComes says what nodes will do because of a change.
func (d *Desk) whatComes(run *farm.Run, stops []*farm.Lease, lost float64, in wire.RunChange, now time.Time) []string {
	if in.Now && len(stops) > 0 {
		return []string{
			fmt.Sprintf(
				"%s of less urgent runs %s stopped, and %s lost", english.Plural(len(stops), "lease", ""),
				isAre(in.DryRun, len(stops)), nodeTime(lost, in.DryRun),
			),
		}
	}
	if leases, _ := d.dealer.Stops(run, now); len(leases) > 0 {
		if len(leases) == 1 {
			return []string{"1 lease of a less urgent run gives up its node when its frame is finished"}
		}
		return []string{
			fmt.Sprintf(
				"%d leases of less urgent runs give up their nodes when their frames are finished", len(leases),
			),
		}
	}
	if most := run.Terms.Ceiling; !most.None() {
		nodes := map[farm.NodeID]bool{}
		for l := range run.OpenLeases {
			nodes[l.Node] = true
		}
		if over := len(nodes) - most.Most(capacity.Able(d.s, run)); over > 0 {
			return []string{english.Plural(over, "node", "") + " will leave it when their frames are finished"}
		}
	}
	return nil
}

// nodeTime says how much work of nodes is lost.
func nodeTime(seconds float64, dry bool) string {
	if seconds < 360 {
		return fmt.Sprintf("%.0f s of rendering %s", seconds, isAre(dry, 1))
	}
	return fmt.Sprintf("%.1f node-hours %s", seconds/3600, isAre(dry, 2))
}

func isAre(dry bool, n int) string {
	switch {
	case dry:
		return "would be"
	case n == 1:
		return "is"
	}
	return "are"
}

// Foreseen is the live farm as plays of a change need it: as things are, and
// with the change.
type Foreseen struct {
	Before, After *forecast.Position
	Names         map[farm.RunID]string
}

// Foresee returns the farm as it is and as it would be with a change of a run.
func (d *Desk) Foresee(
	ctx context.Context, id farm.RunID, in wire.RunChange, by farm.Person,
) (out Foreseen, err error) {
	err = d.do(ctx, func(t *transaction) error {
		run := t.State.Runs[id]
		if run == nil {
			return refusal.New(refusal.NotFound, "run", "there is no run %d", id)
		}
		terms, others, err := t.terms(run, in, by)
		if err != nil {
			return err
		}
		changed := map[farm.RunID]farm.Terms{id: terms}
		for other, put := range others {
			changed[other] = t.State.Runs[other].Terms
			moved := changed[other]
			moved.Put = put
			changed[other] = moved
		}
		out.Before = forecast.Take(t.State, d.m, d.e.Sight, d.dealer.Queue().Usage(), t.Now)
		out.After = out.Before.With(changed)
		out.Names = map[farm.RunID]string{}
		for _, run := range t.State.Queue() {
			out.Names[run.ID] = run.Spec.Name()
		}
		return nil
	})
	return out, err
}
