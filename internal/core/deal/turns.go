package deal

import (
	"cmp"
	"math"
	"slices"
	"time"

	"vexillum/internal/core/farm"
)

// Who comes first inside a level: what a wrangler has put first, then the
// project that has had least of the farm lately for its weight, in it the
// person who has, and of that the run submitted first.

// halfLife is after how long work that was received counts half.
const halfLife = 4 * time.Hour

// faded is an amount that counts less and less.
type faded struct {
	amount float64
	at     time.Time
}

func (f *faded) now(t time.Time) float64 {
	if f == nil {
		return 0
	}
	return f.amount * math.Exp2(-max(0, t.Sub(f.at).Seconds())/halfLife.Seconds())
}

func (f *faded) add(amount float64, t time.Time) {
	f.amount, f.at = f.now(t)+amount, t
}

// party is who receives work: a project, or a person in one.
type party struct{ project, person string }

// Receive notes that a run has received so much work, in reference seconds.
func (d *Dealer) Receive(project, person string, work float64, now time.Time) {
	for _, p := range []party{{project, ""}, {project, person}} {
		if d.received[p] == nil {
			d.received[p] = &faded{}
		}
		d.received[p].add(work, now)
	}
}

// Received is how much a project, or a person in one, has received lately. Person
// is empty for the project.
type Received struct {
	Project, Person string
	Amount          float64 // reference seconds that count at At
	At              time.Time
}

// Usage returns what all have received.
func (d *Dealer) Usage() []Received {
	out := make([]Received, 0, len(d.received))
	for p, f := range d.received {
		out = append(out, Received{p.project, p.person, f.amount, f.at})
	}
	slices.SortFunc(out, func(a, b Received) int {
		return cmp.Or(cmp.Compare(a.Project, b.Project), cmp.Compare(a.Person, b.Person))
	})
	return out
}

// RestoreUsage takes what had been received before a start.
func (d *Dealer) RestoreUsage(all []Received) {
	for _, r := range all {
		d.received[party{r.Project, r.Person}] = &faded{amount: r.Amount, at: r.At}
	}
}

// block is a stretch of the queue inside which nobody has been put before
// others.
type block struct {
	runs    []*farm.Run
	parties []party // those that have runs in it, by the run submitted first
	of      map[party][]*farm.Run

	order []party // in which they came
	at    time.Time
	last  farm.LeaseID
}

// line is the queue in blocks.
type line struct {
	queue  []*farm.Run // of which it was made
	blocks []*block
	of     map[farm.RunID]*block
}

// blockOf returns the block of a run in the queue, or nil.
func (d *Dealer) blockOf(run *farm.Run) *block {
	d.blocks()
	return d.line.of[run.ID]
}

// blocks returns the queue in blocks.
func (d *Dealer) blocks() []*block {
	queue := d.s.Queue()
	if d.line != nil && len(queue) == len(d.line.queue) && (len(queue) == 0 || &queue[0] == &d.line.queue[0]) {
		return d.line.blocks
	}
	d.line = &line{queue: queue, of: make(map[farm.RunID]*block, len(queue))}
	for i, run := range queue {
		if i == 0 || run.Terms.Put != 0 || queue[i-1].Terms.Put != 0 ||
			run.Terms.Level.Rank() != queue[i-1].Terms.Level.Rank() {
			d.line.blocks = append(d.line.blocks, &block{of: map[party][]*farm.Run{}})
		}
		b := d.line.blocks[len(d.line.blocks)-1]
		d.line.of[run.ID] = b
		p := party{run.Spec.Project, run.Spec.Owner}
		if b.of[p] == nil {
			b.parties = append(b.parties, p)
		}
		b.runs, b.of[p] = append(b.runs, run), append(b.of[p], run)
	}
	return d.line.blocks
}

// InTurn yields the runs that have not ended in the order in which they are
// dealt now.
func (d *Dealer) InTurn(now time.Time) func(yield func(*farm.Run) bool) {
	return func(yield func(*farm.Run) bool) {
		for _, b := range d.blocks() {
			if len(b.parties) == 1 {
				for _, run := range b.runs {
					if !yield(run) {
						return
					}
				}
				continue
			}
			for _, p := range d.sorted(b, now) {
				for _, run := range b.of[p] {
					if !yield(run) {
						return
					}
				}
			}
		}
	}
}

// sorted returns the parties of a block in the order in which they come now.
func (d *Dealer) sorted(b *block, now time.Time) []party {
	// On a large farm one lease changes little.
	age := now.Sub(b.at)
	if len(d.s.Nodes) >= largeFarm && b.order != nil && age >= 0 && age <= heldGood && d.s.LastLease-b.last < 16 {
		return b.order
	}
	b.order, b.at, b.last = d.sort(b, now), now, d.s.LastLease
	return b.order
}

func (d *Dealer) sort(b *block, now time.Time) []party {
	h := d.holdings(now)
	out := slices.Clone(b.parties)
	projects := map[string]float64{}
	people := map[party]float64{}
	for _, p := range out {
		if _, known := projects[p.project]; !known {
			whole := party{p.project, ""}
			projects[p.project] = (d.received[whole].now(now) + h[whole]) / d.weight(p.project)
		}
		people[p] = d.received[p].now(now) + h[p]
	}
	slices.SortStableFunc(out, func(a, b party) int {
		return cmp.Or(
			cmp.Compare(projects[a.project], projects[b.project]), cmp.Compare(a.project, b.project),
			cmp.Compare(people[a], people[b]),
		)
	})
	return out
}

func (d *Dealer) weight(project string) float64 {
	if p := d.s.Projects[project]; p != nil && p.Weight > 0 {
		return p.Weight
	}
	return 1
}

// held is what parties hold on open leases, in reference seconds, as of a
// moment ago; leases that were opened since have been added.
type held struct {
	at   time.Time
	last farm.LeaseID
	of   map[party]float64
}

// mean is what a frame of a run costs on average, as of so many observations.
type mean struct {
	cost float64
	seen int
}

func (d *Dealer) mean(run *farm.Run) float64 {
	seen := d.m.Seen(run.ID)
	k, known := d.means[run.ID]
	if !known || float64(seen) > 1.1*float64(k.seen)+2 || seen < k.seen {
		k = mean{1, seen}
		if cost, ok := d.m.Cost(run); ok {
			k.cost = cost.Mean
		}
		d.means[run.ID] = k
	}
	return k.cost
}

const heldGood = 250 * time.Millisecond

func (d *Dealer) holdings(now time.Time) map[party]float64 {
	h := d.held
	if h == nil || now.Before(h.at) || now.Sub(h.at) > heldGood || d.s.LastLease-h.last > 256 {
		h = &held{at: now, last: d.s.LastLease, of: map[party]float64{}}
		for _, run := range d.s.Queue() {
			if run.DealtCount() > 0 {
				h.add(d, run, run.DealtCount())
			}
		}
		d.held = h
		return h.of
	}
	for ; h.last < d.s.LastLease; h.last++ {
		if l := d.s.Lease(h.last + 1); l != nil && l.Open() {
			h.add(d, d.s.Runs[l.Run], l.Given.Len())
		}
	}
	return h.of
}

func (h *held) add(d *Dealer, run *farm.Run, frames int) {
	mean := d.mean(run)
	h.of[party{run.Spec.Project, ""}] += mean * float64(frames)
	h.of[party{run.Spec.Project, run.Spec.Owner}] += mean * float64(frames)
}

// contested reports whether somebody else of the same standing has frames to
// deal that the node could take: then nobody gets it for long.
func (d *Dealer) contested(n *farm.Node, run *farm.Run, now time.Time) bool {
	b := d.blockOf(run)
	if b == nil || len(b.parties) == 1 {
		return false
	}
	for p, runs := range b.of {
		if p == (party{run.Spec.Project, run.Spec.Owner}) {
			continue
		}
		for _, other := range runs {
			if deals(other) && fits(d.s, n, other) && !d.shut(n, other, now) {
				return true
			}
		}
	}
	return false
}

// deals reports whether a run has frames that could be dealt.
func deals(run *farm.Run) bool {
	return !run.ToDo.Empty() && (run.State == farm.RunQueued || run.State == farm.RunRendering)
}

// turn is how long a lease may last, in seconds, where others of the same
// standing wait: a launch must be worth it.
func turn(startup float64) float64 { return min(max(20*startup, 60), 900) }
