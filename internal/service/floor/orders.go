package floor

import (
	"context"
	"maps"
	"slices"
	"vexillum/internal/core/engine"
	"vexillum/internal/core/farm"
)

// Order ends a lease on its node.
type Order = engine.Order

type waitingOrder struct {
	leases  []farm.LeaseID
	caps    int64
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
}

func (o Orders) none() bool { return len(o.Stop)+len(o.Trim) == 0 && o.Caps == nil && !o.Restart }

// Orders returns which of the leases that a node works on shall end or be
// trimmed, or what else it shall do, and waits until there is something or the
// context ends. caps is the version of the caps in force on the node.
func (f *Floor) Orders(
	ctx context.Context, id farm.NodeID, session int64, leases []farm.LeaseID, caps int64,
) (Orders, error) {
	w := &waitingOrder{leases: leases, caps: caps, session: session, reply: make(chan Orders, 1)}
	var now Orders
	err := f.do(context.WithoutCancel(ctx), func(t *transaction) error {
		if _, err := t.session(id, session); err != nil {
			return err
		}
		if now = f.ordersFor(id, w); now.none() {
			f.orders[id] = w
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
	case <-f.gone:
		return Orders{}, ErrGone
	case <-ctx.Done():
	}
	return Orders{}, f.do(context.WithoutCancel(ctx), func(*transaction) error {
		if f.orders[id] == w {
			delete(f.orders, id)
		}
		return nil
	})
}

func (f *Floor) ordersFor(node farm.NodeID, w *waitingOrder) Orders {
	n := f.s.Nodes[node]
	out := Orders{Stop: f.e.Orders(node, w.leases)}
	if trim, asked := f.e.TrimFor(node, w.leases); asked {
		out.Trim = []Trim{trim}
	}
	if w.caps < n.Version {
		caps := n.Settings.Caps
		out.Caps, out.Set = &caps, n.Version
	}
	if l := f.live[node]; l != nil && l.restart == w.session && w.session != 0 {
		out.Restart = true
	}
	return out
}

// answerOrders lets nodes hear what a batch wants of them.
func (f *Floor) answerOrders(out engine.Batch) {
	nodes := out.Orders
	if out.AllOrders {
		nodes = slices.Collect(maps.Keys(f.orders))
	}
	for _, id := range nodes {
		w := f.orders[id]
		if w == nil {
			continue
		}
		if orders := f.ordersFor(id, w); !orders.none() {
			delete(f.orders, id)
			w.reply <- orders
		}
	}
}

// dropWaiting lets go of what an older session of a node waits for.
func (f *Floor) dropWaiting(id farm.NodeID) {
	f.dropWaiter(id)
	if w := f.orders[id]; w != nil {
		delete(f.orders, id)
		w.reply <- Orders{}
	}
}

// dropWaiter lets go of who waits for the answer to an older ask of a node.
func (f *Floor) dropWaiter(id farm.NodeID) {
	if w := f.waiters[id]; w != nil {
		delete(f.waiters, id)
		w.reply <- Answer{Again: true, Why: "a newer ask has taken its place"}
	}
}
