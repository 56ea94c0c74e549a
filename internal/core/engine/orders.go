package engine

import (
	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/triage"
)

// Order ends a lease on its node.
type Order struct {
	Lease  farm.LeaseID
	Now    bool // at once; otherwise when the frame in flight is finished
	Reason string
}

// Orders returns which of the leases that a node works on have to end.
func (e *Engine) Orders(id farm.NodeID, leases []farm.LeaseID) (orders []Order) {
	n := e.s.Nodes[id]
	for _, lease := range leases {
		l := e.s.Lease(lease)
		switch {
		case l == nil:
			orders = append(orders, Order{Lease: lease, Now: true, Reason: "its run has ended"})
			continue
		case !l.Open():
			orders = append(orders, Order{Lease: lease, Now: true, Reason: "the lease has ended"})
			continue
		case l.Superseded && l.Left.Empty():
			orders = append(
				orders, Order{Lease: lease, Now: true, Reason: "another node finished its last frame first"},
			)
			continue
		}
		run := e.s.Runs[l.Run]
		switch held := capacity.FrozenWith(e.s, n, run); {
		case run.State == farm.RunHeld:
			orders = append(orders, Order{Lease: lease, Reason: "the run is held"})
		case e.waits(n, run, lease):
			orders = append(orders, Order{Lease: lease, Reason: "what the run needs has failed, and it waits for it"})
		case held != "":
			orders = append(orders, Order{Lease: lease, Reason: held})
		case n.Duty != farm.OnDuty:
			orders = append(orders, Order{Lease: lease, Now: n.DutyNow, Reason: n.Name + " is " + string(n.Duty)})
		case n.Health == farm.Sidelined && !n.OnTrial(l):
			orders = append(orders, Order{Lease: lease, Reason: n.Name + " is sidelined"})
		}
	}
	return orders
}

// waits reports whether a run on a node waits for what has failed around it, and the lease
// does not try whether that is back.
func (e *Engine) waits(n *farm.Node, run *farm.Run, lease farm.LeaseID) bool {
	for _, of := range e.s.WaitsOf(n, run) {
		if e.s.Waits[of].Scout == lease {
			continue
		}
		if of.Kind != farm.SurroundingLicence || triage.FoundNoLicence(run, lease) {
			return true // who has a licence keeps it
		}
	}
	return false
}
