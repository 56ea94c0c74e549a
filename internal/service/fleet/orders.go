package fleet

import (
	"context"
	"maps"
	"slices"

	"vexillum/internal/core/engine"
	"vexillum/internal/core/farm"
	"vexillum/internal/service/writer"
	"vexillum/internal/wire"
)

// Order ends a lease on its node.
type Order = engine.Order

type waitingOrder struct {
	leases  []farm.LeaseID
	caps    int64
	recipes string
	places  string
	errands []int64
	session int64
	reply   chan Orders
}

// Orders are what a node shall do about its leases.
type Orders struct {
	Stop    []Order
	Trim    []Trim
	Caps    *farm.Caps // newer than what the node has
	Set     int64      // version of the settings that they are of
	Restart bool       // the node process is to restart
	Recipes string     // mark of other recipes than the node knows; empty: of the same
	Errands []wire.Errand
	Places  string // mark of other places than the node knows; empty: of the same
}

func (o Orders) none() bool {
	return len(o.Stop)+len(o.Trim)+len(o.Errands) == 0 && o.Caps == nil && !o.Restart && o.Recipes+o.Places == ""
}

// OrdersAsked is what a node says when it asks for orders.
type OrdersAsked struct {
	Leases  []farm.LeaseID // that it works on
	Caps    int64          // version of the caps in force on it
	Recipes string         // mark of the recipes that it knows; empty: it does not say
	Errands []int64        // that it is at
	Places  string         // mark of the places that it has looked at; empty: it does not look
}

// Orders returns which of the leases that a node works on shall end or be
// trimmed, or what else it shall do, and waits until there is something or the
// context ends.
func (d *Desk) Orders(ctx context.Context, id farm.NodeID, session int64, in OrdersAsked) (Orders, error) {
	w := &waitingOrder{
		leases: in.Leases, caps: in.Caps, recipes: in.Recipes, errands: in.Errands, places: in.Places, session: session,
		reply: make(chan Orders, 1),
	}
	var now Orders
	err := d.do(context.WithoutCancel(ctx), func(t *transaction) error {
		if _, err := t.session(id, session); err != nil {
			return err
		}
		if now = d.ordersFor(id, w); now.none() {
			d.orders[id] = w
		}
		return nil
	})
	if err != nil {
		return Orders{}, err
	}
	if !now.none() {
		return now, nil
	}
	select {
	case now = <-w.reply:
		return now, nil
	case <-d.w.Gone():
		return Orders{}, writer.ErrGone
	case <-ctx.Done():
	}
	return Orders{}, d.do(context.WithoutCancel(ctx), func(*transaction) error {
		if d.orders[id] == w {
			delete(d.orders, id)
		}
		return nil
	})
}

func (d *Desk) ordersFor(node farm.NodeID, w *waitingOrder) Orders {
	n := d.s.Nodes[node]
	out := Orders{Stop: d.e.Orders(node, w.leases)}
	if trim, asked := d.e.TrimFor(node, w.leases); asked {
		out.Trim = []Trim{trim}
	}
	if w.caps < n.Version {
		caps := n.Settings.Caps
		out.Caps, out.Set = &caps, n.Version
	}
	if mark := d.recipes.Mark(); w.recipes != "" && w.recipes != mark {
		out.Recipes = mark
	}
	if mark := d.placesMark(); w.places != "" && w.places != mark {
		out.Places = mark
	}
	if d.errands != nil {
		out.Errands = d.errands.Open(node, w.errands)
	}
	if d.restarts[node] == w.session && w.session != 0 {
		out.Restart = true
	}
	return out
}

// answerOrders lets nodes hear what a batch wants of them.
func (d *Desk) answerOrders(out engine.Batch) {
	nodes := out.Orders
	if out.AllOrders {
		nodes = slices.Collect(maps.Keys(d.orders))
	}
	for _, id := range nodes {
		d.tellOrders(id)
	}
}

// tellOrders lets a node hear what is wanted of it, if it waits for that.
func (d *Desk) tellOrders(id farm.NodeID) {
	w := d.orders[id]
	if w == nil {
		return
	}
	if orders := d.ordersFor(id, w); !orders.none() {
		delete(d.orders, id)
		w.reply <- orders
	}
}

// Errands are what nodes shall do once for somebody who waits.
type Errands interface {
	// Open returns the errands of a node that it does not know yet.
	Open(node farm.NodeID, known []int64) []wire.Errand
}

// Rouse lets a node hear of its errands.
func (d *Desk) Rouse(ctx context.Context, id farm.NodeID) error {
	return d.do(ctx, func(*transaction) error {
		d.tellOrders(id)
		return nil
	})
}

// dropWaiting lets go of what an older session of a node waits for.
func (d *Desk) dropWaiting(id farm.NodeID) {
	d.dropWaiter(id)
	if w := d.orders[id]; w != nil {
		delete(d.orders, id)
		w.reply <- Orders{}
	}
}

// dropWaiter lets go of who waits for the answer to an older ask of a node.
func (d *Desk) dropWaiter(id farm.NodeID) {
	if w := d.waiters[id]; w != nil {
		delete(d.waiters, id)
		w.reply <- Answer{Again: true, Why: "a newer ask has taken its place"}
	}
}
