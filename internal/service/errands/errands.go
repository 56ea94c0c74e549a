// Package errands keeps what nodes are asked to do once for somebody who waits: it hands
// it out, and gives the answer to who asked. All of it is in memory, as nobody waits any
// longer when the service has ended. It knows nothing of what errands are about, or of
// leases.
package errands

import (
	"context"
	"errors"
	"math/rand/v2"
	"slices"
	"sync"

	"vexillum/internal/core/farm"
	"vexillum/internal/wire"
)

// Desk hands out errands. Use New; all methods may be called at any time.
type Desk struct {
	mu   sync.Mutex
	last int64
	open map[farm.NodeID][]*errand
}

// errand is one that somebody waits for.
type errand struct {
	what wire.Errand
	told chan wire.ErrandTold
}

// Most is how many errands a node may have at once.
const Most = 16

// ErrTooMany says that a node has as many errands as it may have.
var ErrTooMany = errors.New("too many others wait for this node; try again in a moment")

// New returns a Desk. Nodes may know the errands of a service before this one: the numbers
// of its own are others.
func New() *Desk { return &Desk{last: rand.Int64N(1 << 50), open: map[farm.NodeID][]*errand{}} }

// Do gives a node an errand and waits until it is done or the context ends. rouse lets
// the node ask for its orders; heard hears how far it is, and may be nil. What the node
// could not do is in the answer.
func (d *Desk) Do(
	ctx context.Context, node farm.NodeID, what wire.Errand, rouse func() error, heard func(wire.ErrandTold),
) (wire.ErrandTold, error) {
	e, err := d.add(node, what)
	if err != nil {
		return wire.ErrandTold{}, err
	}
	defer d.drop(node, e)
	if err := rouse(); err != nil {
		return wire.ErrandTold{}, err
	}
	for {
		select {
		case <-ctx.Done():
			return wire.ErrandTold{}, ctx.Err()
		case told := <-e.told:
			if told.Done {
				return told, nil
			}
			if heard != nil {
				heard(told)
			}
		}
	}
}

func (d *Desk) add(node farm.NodeID, what wire.Errand) (*errand, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if len(d.open[node]) >= Most {
		return nil, ErrTooMany
	}
	d.last++
	what.ID = d.last
	e := &errand{what, make(chan wire.ErrandTold, 1)}
	d.open[node] = append(d.open[node], e)
	return e, nil
}

func (d *Desk) drop(node farm.NodeID, e *errand) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.open[node] = slices.DeleteFunc(d.open[node], func(o *errand) bool { return o == e })
	if len(d.open[node]) == 0 {
		delete(d.open, node)
	}
}

// Open returns the errands of a node that it does not know yet.
func (d *Desk) Open(node farm.NodeID, known []int64) (out []wire.Errand) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, e := range d.open[node] {
		if !slices.Contains(known, e.what.ID) {
			out = append(out, e.what)
		}
	}
	return out
}

// Told takes in what a node says of an errand, and reports whether somebody still waits
// for it. Of what was told and nobody has heard yet only the newest counts.
func (d *Desk) Told(node farm.NodeID, told wire.ErrandTold) (wanted bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	i := slices.IndexFunc(d.open[node], func(e *errand) bool { return e.what.ID == told.ID })
	if i < 0 {
		return false
	}
	e := d.open[node][i]
	select {
	case older := <-e.told:
		if older.Done { // it says so twice
			told = older
		}
	default:
	}
	e.told <- told
	return true
}
