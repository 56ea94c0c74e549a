package deal

import (
	"fmt"
	"slices"
	"time"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/pace"
	"vexillum/internal/core/span"
)

// may reports whether a node could begin a further lease of a run now, as far
// as the farm's rules go.
func (d *Dealer) may(n *farm.Node, run *farm.Run, now time.Time) bool {
	return !d.full(n, run, now) && capacity.Fits(d.s, n, run) && capacity.FreezeReason(d.s, n, run, now) == "" &&
		len(d.s.WaitsOf(n, run)) == 0 && d.limited(n, run, nil, now) == ""
}

// May reports whether a node fits a run and the limits of the run let it begin
// another lease there.
func (d *Dealer) May(id farm.NodeID, run farm.RunID, now time.Time) bool {
	n, r := d.s.Nodes[id], d.s.Runs[run]
	return n != nil && r != nil && d.may(n, r, now)
}

// limited says why a run may not begin another lease on a node now: its
// ceiling, the few nodes that an unproven run starts on, licences, or the
// launches that load from its place; "" if it may. warm is the lease whose
// renderer is up on the node, or nil.
func (d *Dealer) limited(n *farm.Node, run *farm.Run, warm *farm.Lease, now time.Time) string {
	goesOn := warm != nil && warm.Run == run.ID
	if goesOn && d.beyondCeiling(run, now)[n.ID] {
		return oneMore(n, run)
	}
	if goesOn && run.Spec.Mode != farm.ModeSingle { // its renderer is up
		return ""
	}
	if why := d.ceiling(n, run, now); why != "" {
		return why
	}
	if most := run.Spec.StartOn; most > 0 && unproven(run) && !worksOn(n, run) && run.Working() >= most {
		return fmt.Sprintf(
			"%s starts on %s; the others join when its first frame is verified", run.Spec.Name(),
			english.Plural(most, "node", ""),
		)
	}
	if most := run.Spec.StartOn; most > 0 && unproven(run) && len(run.Trouble) > 0 && run.OpenCount() >= most {
		return fmt.Sprintf(
			"%s has failed so far: no more than %s try it at a time until a frame is verified", run.Spec.Name(),
			english.Plural(most, "lease", ""),
		)
	}
	if unproven(run) && len(run.Trouble) > 0 && othersWork(n, run) && triesOf(run) >= mostUnproven {
		return fmt.Sprintf(
			"%s has failed so far: what is under way of it shows first who is to blame", run.Spec.Name(),
		)
	}
	without := farm.LeaseID(0)
	if warm != nil {
		without = warm.ID
	}
	if free, limited := capacity.LicencesFree(d.s, run, without, now); limited &&
		capacity.LicencesFor(d.s, run, n, without) > free {
		return d.noLicence(run, without, now)
	}
	if p := d.s.Projects[run.Spec.Project]; p != nil {
		if place := d.s.Places[p.Scenes]; place != nil && place.Loads > 0 && run.Spec.SceneText == "" {
			if loading := d.loading(place.Name); loading >= place.Loads {
				return fmt.Sprintf(
					"%s load from the place %s, and no more may at the same moment",
					english.Plural(loading, "launch", "launches"),
					place.Name,
				)
			}
		}
	}
	return ""
}

func (d *Dealer) noLicence(run *farm.Run, without farm.LeaseID, now time.Time) string {
	l := d.s.Licences[run.Spec.Licence.Name]
	used := capacity.LicencesUsed(d.s, l.Name, without)
	if now.Before(l.LoweredUntil) {
		return fmt.Sprintf(
			"%s needs a licence %s: %d are used, and a renderer found no more a while ago; the farm tries again in %s",
			run.Spec.Name(), l.Name, used, span.Text(l.LoweredUntil.Sub(now)),
		)
	}
	return fmt.Sprintf("%s needs a licence %s, and %d of %d are used", run.Spec.Name(), l.Name, used, l.Count)
}

// mostUnproven is how many tries of a run may fail of which nothing has been verified before
// its frames are tried one after the other.
const mostUnproven = 7

// triesOf counts the tries of a run that failed and whose frames have no picture yet.
func triesOf(run *farm.Run) (tries int) {
	for _, t := range run.Trouble {
		tries += len(t.Attempts)
	}
	return tries
}

// othersWork reports whether another node works on a run.
func othersWork(n *farm.Node, run *farm.Run) bool {
	for l := range run.OpenLeases {
		if l.Node != n.ID && !l.Left.Empty() {
			return true
		}
	}
	return false
}

// unproven reports whether nothing of a run has been verified yet.
func unproven(run *farm.Run) bool { return run.Done.Empty() && len(run.Delivering) == 0 }

func worksOn(n *farm.Node, run *farm.Run) bool { return run.LeasesOn(n.ID) > 0 }

// loading counts the launches that have begun no frame yet and read their scene
// in a place.
func (d *Dealer) loading(place string) (count int) {
	for _, run := range d.s.Queue() {
		if p := d.s.Projects[run.Spec.Project]; p == nil || p.Scenes != place || run.Spec.SceneText != "" {
			continue
		}
		for l := range run.OpenLeases {
			if !l.Left.Empty() && !d.sight(l).Begun {
				count++
			}
		}
	}
	return count
}

// Scouts returns the few frames of a run that are rendered first: the ends, the
// middle and some between, and the dearest of an earlier run of the job.
func Scouts(m *pace.Model, run *farm.Run) frames.Set {
	set := run.Spec.Frames
	const least, most = 3, 7
	count := min(max(least, set.Len()/20), most, set.Len())
	picked := []int{set.First()}
	for at := 1; at < count; at++ {
		picked = append(picked, set.Nth(at*(set.Len()-1)/(count-1)))
	}
	if curve := m.Curve(run); curve.Known() {
		dearest, cost := set.First(), -1.0
		const looks = 500
		count := min(looks, set.Len())
		for i := range count { // frames of the range, or those that follow them in it
			f, ok := set.From(set.First() + i*(set.Last()-set.First())/max(1, count-1))
			if ok && curve.Cost(f) > cost {
				dearest, cost = f, curve.Cost(f)
			}
		}
		picked = append(picked, dearest)
	}
	slices.Sort(picked)
	var out frames.Set
	for _, f := range slices.Compact(picked) {
		out = out.Union(frames.One(f))
	}
	return out
}

// scout returns the next of the frames that a run wants rendered first, if it
// is one node's turn for one.
func scout(run *farm.Run, todo frames.Set) (frames.Set, string, bool) {
	left := run.Spec.Scouts.Intersect(todo)
	if left.Empty() {
		return frames.Set{}, "", false
	}
	f := left.First()
	return frames.One(f), fmt.Sprintf(
		"frame %d, a scout: it shows early what frames cost and whether they render", f,
	), true
}

// Scouted reports whether a run that waits for a person's yes has come so far:
// all its scouts have a result, and nothing else has been begun.
func Scouted(run *farm.Run) bool {
	if !run.Spec.Wait || run.Terms.Scouted || run.State != farm.RunRendering || run.Spec.Scouts.Empty() ||
		run.ToDo.Empty() {
		return false
	}
	return run.Spec.Scouts.Minus(run.Done).Minus(run.Parked).Empty() && run.Done.Minus(run.Spec.Scouts).Empty() &&
		run.DealtCount() == 0
}

// scouting says what holds the rest of a run back until its scouts are looked
// at; "" if nothing does.
func scouting(run *farm.Run) string {
	if !run.Spec.Wait || run.Spec.Scouts.Empty() || run.Terms.Scouted {
		return ""
	}
	return fmt.Sprintf(
		"the scouts of %s (frames %s) come first, and the rest waits for a person's yes", run.Spec.Name(),
		run.Spec.Scouts,
	)
}

// ordered returns count frames of a set in the order that the run asks for.
func ordered(run *farm.Run, todo frames.Set, count int) frames.Set {
	if run.Spec.Sequence == farm.Reverse {
		return todo.TakeLast(count)
	}
	return todo.Take(count)
}
