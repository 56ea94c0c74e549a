package deal

import (
	"cmp"
	"math/bits"
	"slices"
	"time"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/fairness"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/pace"
)

// Dealer deals the frames of one farm. It belongs to the owner of the State.
type Dealer struct {
	s                *farm.State
	m                *pace.Model
	sight            func(*farm.Lease) Sight
	waits            func(farm.NodeID) bool // nil: nobody is seen to
	takeOverBackoffs map[farm.RunID]takeOverBackoff
	raceBackoffs     map[farm.RunID]raceBackoff
	cells            map[farm.RunID]*cells
	powers           map[farm.RunID]power
	last             *survey // it serves all that ask at the same moment

	barred  map[farm.RunID]*bars
	fresh   untriedOf
	surveys map[farm.RunID]*survey // of large farms
	looked  int                    // surveys made for the decision at hand
	ables   map[farm.RunID]able

	busy  atWork
	queue *fairness.Queue
}

// takeOverBackoff remembers that nothing of a run was worth taking over. That stays so
// for a while, unless a lease of it ends or is opened.
type takeOverBackoff struct {
	until time.Time
	open  int
	last  farm.LeaseID
}

// How long it stays so: a part of what remains, within bounds.
const (
	backoffPart  = 0.005
	backoffLeast = 500 * time.Millisecond
	backoffMost  = 30 * time.Second
)

// New returns the Dealer of a farm. sight says what is seen of an open lease
// at the moment; nil where nothing is.
func New(s *farm.State, m *pace.Model, sight func(*farm.Lease) Sight) *Dealer {
	if sight == nil {
		sight = func(*farm.Lease) Sight { return Sight{} }
	}
	return &Dealer{
		s: s, m: m, sight: sight,
		takeOverBackoffs: map[farm.RunID]takeOverBackoff{}, raceBackoffs: map[farm.RunID]raceBackoff{},
		cells: map[farm.RunID]*cells{}, powers: map[farm.RunID]power{},
		barred: map[farm.RunID]*bars{}, queue: fairness.New(s, costs{m}),
		surveys: map[farm.RunID]*survey{}, ables: map[farm.RunID]able{},
	}
}

// Queue returns the order in which runs come. It belongs to the dealer.
func (d *Dealer) Queue() *fairness.Queue { return d.queue }

// Sight returns what is seen of an open lease at the moment.
func (d *Dealer) Sight(l *farm.Lease) Sight { return d.sight(l) }

// Receive notes finished work, in reference seconds, for the fair shares of a
// project and a person.
func (d *Dealer) Receive(project, person string, work float64, now time.Time) {
	d.queue.Receive(project, person, work, now)
}

// costs tells the queue what frames cost.
type costs struct{ m *pace.Model }

func (c costs) Mean(run *farm.Run) (float64, bool) {
	cost, known := c.m.Cost(run)
	return cost.Mean, known
}

func (c costs) Seen(run farm.RunID) int { return c.m.Seen(run) }

// contested reports whether somebody else of the same standing has frames to
// deal that the node could take: then nobody gets it for long.
func (d *Dealer) contested(n *farm.Node, run *farm.Run, now time.Time) bool {
	for other := range d.queue.Rivals(run) {
		if other.Deals() && capacity.Fits(d.s, n, other) && !d.shut(n, other, now) {
			return true
		}
	}
	return false
}

// Forget drops what was remembered of a run that has ended.
func (d *Dealer) Forget(run farm.RunID) {
	delete(d.takeOverBackoffs, run)
	delete(d.raceBackoffs, run)
	delete(d.cells, run)
	delete(d.powers, run)
	delete(d.surveys, run)
	delete(d.barred, run)
	delete(d.ables, run)
	d.queue.Forget(run)
	d.last = nil
}

// able is how many nodes could take a run, as of a moment ago.
type able struct {
	count int
	at    time.Time
}

func (d *Dealer) able(run *farm.Run, now time.Time) int {
	a, known := d.ables[run.ID]
	if age := now.Sub(a.at); !known || age != 0 && !d.s.Large() || age < 0 || age > time.Second {
		a = able{capacity.Able(d.s, run), now}
		d.ables[run.ID] = a
	}
	return a.count
}

// sortTakers puts those first that would be through first: mostly the fastest.
func sortTakers(takers []taker) {
	slices.SortFunc(takers, func(a, b taker) int {
		return cmp.Or(cmp.Compare(a.alone, b.alone), cmp.Compare(b.speed, a.speed), cmp.Compare(a.node.ID, b.node.ID))
	})
}

// Reconsider reports whether the frames of a run have just taught enough that
// nodes which it passed over should be thought of again: after each of the first,
// then eight times until there are twice as many.
func Reconsider(seen int) bool {
	return seen < 16 || seen%(1<<(bits.Len(uint(seen))-4)) == 0
}
