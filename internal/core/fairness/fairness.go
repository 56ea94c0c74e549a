// Package fairness says who comes first: levels, what a wrangler has put first,
// the projects by their weight and the people in them by what they have had
// lately. It knows neither nodes nor what a run could use.
package fairness

import (
	"cmp"
	"iter"
	"math"
	"slices"
	"time"

	"vexillum/internal/core/farm"
)

// Costs reports what frames of a run cost.
type Costs interface {
	// Mean returns the mean cost of a frame in reference seconds, if it is known.
	Mean(*farm.Run) (seconds float64, known bool)
	// Seen returns how many frames of a run have been learned from.
	Seen(farm.RunID) int
}

// Queue is the order of the runs of one farm. Inside a level comes what a wrangler
// has put first, then the project that has had least of the farm lately for its
// weight, in it the person who has, and of that the run submitted first. It
// belongs to the owner of the State.
type Queue struct {
	s        *farm.State
	costs    Costs
	received map[Party]*faded // lately
	line     *line
	held     *held
	means    map[farm.RunID]mean
}

// New returns the queue of a farm of which nobody has received anything yet.
func New(s *farm.State, costs Costs) *Queue {
	return &Queue{s: s, costs: costs, received: map[Party]*faded{}, means: map[farm.RunID]mean{}}
}

// Forget drops what was remembered of a run that has ended.
func (q *Queue) Forget(run farm.RunID) { delete(q.means, run) }

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

// Party is who receives work: a project, or a person in one.
type Party struct{ Project, Person string }

// Receive notes that a run has received so much work, in reference seconds.
func (q *Queue) Receive(project, person string, work float64, now time.Time) {
	for _, p := range []Party{{project, ""}, {project, person}} {
		if q.received[p] == nil {
			q.received[p] = &faded{}
		}
		q.received[p].add(work, now)
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
func (q *Queue) Usage() []Received {
	out := make([]Received, 0, len(q.received))
	for p, f := range q.received {
		out = append(out, Received{p.Project, p.Person, f.amount, f.at})
	}
	slices.SortFunc(out, func(a, b Received) int {
		return cmp.Or(cmp.Compare(a.Project, b.Project), cmp.Compare(a.Person, b.Person))
	})
	return out
}

// Restore takes what had been received before a start.
func (q *Queue) Restore(all []Received) {
	for _, r := range all {
		q.received[Party{r.Project, r.Person}] = &faded{amount: r.Amount, at: r.At}
	}
}

// block is a stretch of the queue inside which nobody has been put before
// others.
type block struct {
	runs    []*farm.Run
	parties []Party // those that have runs in it, by the run submitted first
	of      map[Party][]*farm.Run

	order []Party // in which they came
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
func (q *Queue) blockOf(run *farm.Run) *block {
	q.blocks()
	return q.line.of[run.ID]
}

// blocks returns the queue in blocks.
func (q *Queue) blocks() []*block {
	queue := q.s.Queue()
	if q.line != nil && len(queue) == len(q.line.queue) && (len(queue) == 0 || &queue[0] == &q.line.queue[0]) {
		return q.line.blocks
	}
	q.line = &line{queue: queue, of: make(map[farm.RunID]*block, len(queue))}
	for i, run := range queue {
		if i == 0 || run.Terms.Put != 0 || queue[i-1].Terms.Put != 0 ||
			run.Terms.Level.Rank() != queue[i-1].Terms.Level.Rank() {
			q.line.blocks = append(q.line.blocks, &block{of: map[Party][]*farm.Run{}})
		}
		b := q.line.blocks[len(q.line.blocks)-1]
		q.line.of[run.ID] = b
		p := Party{run.Spec.Project, run.Spec.Owner}
		if b.of[p] == nil {
			b.parties = append(b.parties, p)
		}
		b.runs, b.of[p] = append(b.runs, run), append(b.of[p], run)
	}
	return q.line.blocks
}

// InTurn yields the runs that have not ended in the order in which they are
// dealt now.
func (q *Queue) InTurn(now time.Time) func(yield func(*farm.Run) bool) {
	return func(yield func(*farm.Run) bool) {
		for _, b := range q.blocks() {
			if len(b.parties) == 1 {
				for _, run := range b.runs {
					if !yield(run) {
						return
					}
				}
				continue
			}
			for _, p := range q.sorted(b, now) {
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
func (q *Queue) sorted(b *block, now time.Time) []Party {
	// On a large farm one lease changes little.
	age := now.Sub(b.at)
	if q.s.Large() && b.order != nil && age >= 0 && age <= heldGood && q.s.LastLease-b.last < 16 {
		return b.order
	}
	b.order, b.at, b.last = q.sort(b, now), now, q.s.LastLease
	return b.order
}

func (q *Queue) sort(b *block, now time.Time) []Party {
	h := q.holdings(now)
	out := slices.Clone(b.parties)
	projects := map[string]float64{}
	people := map[Party]float64{}
	for _, p := range out {
		if _, known := projects[p.Project]; !known {
			whole := Party{p.Project, ""}
			projects[p.Project] = (q.received[whole].now(now) + h[whole]) / q.weight(p.Project)
		}
		people[p] = q.received[p].now(now) + h[p]
	}
	slices.SortStableFunc(out, func(a, b Party) int {
		return cmp.Or(
			cmp.Compare(projects[a.Project], projects[b.Project]), cmp.Compare(a.Project, b.Project),
			cmp.Compare(people[a], people[b]),
		)
	})
	return out
}

func (q *Queue) weight(project string) float64 {
	if p := q.s.Projects[project]; p != nil && p.Weight > 0 {
		return p.Weight
	}
	return 1
}

// held is what parties hold on open leases, in reference seconds, as of a
// moment ago; leases that were opened since have been added.
type held struct {
	at   time.Time
	last farm.LeaseID
	of   map[Party]float64
}

// mean is what a frame of a run costs on average, and the number of observations.
type mean struct {
	cost float64
	seen int
}

func (q *Queue) mean(run *farm.Run) float64 {
	seen := q.costs.Seen(run.ID)
	k, known := q.means[run.ID]
	if !known || float64(seen) > 1.1*float64(k.seen)+2 || seen < k.seen {
		k = mean{1, seen}
		if cost, ok := q.costs.Mean(run); ok {
			k.cost = cost
		}
		q.means[run.ID] = k
	}
	return k.cost
}

const heldGood = 250 * time.Millisecond

func (q *Queue) holdings(now time.Time) map[Party]float64 {
	h := q.held
	if h == nil || now.Before(h.at) || now.Sub(h.at) > heldGood || q.s.LastLease-h.last > 256 {
		h = &held{at: now, last: q.s.LastLease, of: map[Party]float64{}}
		for _, run := range q.s.Queue() {
			if run.DealtCount() > 0 {
				h.add(q, run, run.DealtCount())
			}
		}
		q.held = h
		return h.of
	}
	for ; h.last < q.s.LastLease; h.last++ {
		if l := q.s.Lease(h.last + 1); l != nil && l.Open() {
			h.add(q, q.s.Runs[l.Run], l.Given.Len())
		}
	}
	return h.of
}

func (h *held) add(q *Queue, run *farm.Run, frames int) {
	mean := q.mean(run)
	h.of[Party{run.Spec.Project, ""}] += mean * float64(frames)
	h.of[Party{run.Spec.Project, run.Spec.Owner}] += mean * float64(frames)
}

// Rivals yields the other runs of the same standing as one, of others than its
// own project and owner. Where there are any, nobody gets a node for long.
func (q *Queue) Rivals(run *farm.Run) iter.Seq[*farm.Run] {
	return func(yield func(*farm.Run) bool) {
		b := q.blockOf(run)
		if b == nil || len(b.parties) == 1 {
			return
		}
		for p, runs := range b.of {
			if p == (Party{run.Spec.Project, run.Spec.Owner}) {
				continue
			}
			for _, other := range runs {
				if !yield(other) {
					return
				}
			}
		}
	}
}

// Behind yields the runs of the same standing as one whose project or owner have
// had more of the farm for their weight, with their project and owner.
func (q *Queue) Behind(run *farm.Run, now time.Time) iter.Seq2[Party, *farm.Run] {
	return func(yield func(Party, *farm.Run) bool) {
		mine := q.blockOf(run)
		if mine == nil || len(mine.parties) == 1 {
			return
		}
		order := q.sorted(mine, now)
		for _, p := range order[slices.Index(order, Party{run.Spec.Project, run.Spec.Owner})+1:] {
			for _, other := range mine.of[p] {
				if !yield(p, other) {
					return
				}
			}
		}
	}
}

// TimeSlice is how long a lease may last, in seconds, where others of the same
// standing wait: a launch, whose seconds are given, must be worth it.
func TimeSlice(startup float64) float64 { return min(max(20*startup, 60), 900) }
