package deal

import (
	"cmp"
	"math/bits"
	"slices"
	"time"

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
	line             *line

	barred  map[farm.RunID]*bars
	surveys map[farm.RunID]*survey // of large farms
	looked  int                    // surveys made for the decision at hand
	ables   map[farm.RunID]able
	means   map[farm.RunID]mean

	busy atWork

	received map[party]*faded // lately
	held     *held
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
		received: map[party]*faded{}, barred: map[farm.RunID]*bars{},
		surveys: map[farm.RunID]*survey{}, ables: map[farm.RunID]able{},
		means: map[farm.RunID]mean{},
	}
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
	delete(d.means, run)
	d.last = nil
}

// able is how many nodes could take a run, as of a moment ago.
type able struct {
	count int
	at    time.Time
}

func (d *Dealer) able(run *farm.Run, now time.Time) int {
	a, known := d.ables[run.ID]
	if age := now.Sub(a.at); !known || age != 0 && len(d.s.Nodes) < largeFarm || age < 0 || age > time.Second {
		a = able{Able(d.s, run), now}
		d.ables[run.ID] = a
	}
	return a.count
}

// sortTakers puts the fastest first.
func sortTakers(takers []taker) {
	slices.SortFunc(takers, func(a, b taker) int {
		return cmp.Or(cmp.Compare(b.speed, a.speed), cmp.Compare(a.node.ID, b.node.ID))
	})
}

// Reconsider reports whether so many frames of a run have just told enough that
// nodes which it passed over should be thought of again: after each of the first,
// then eight times until there are twice as many.
func Reconsider(seen int) bool {
	return seen < 16 || seen%(1<<(bits.Len(uint(seen))-4)) == 0
}
