package farm

import (
	"fmt"
	"maps"
	"time"
)

// NodeEnrolled makes a machine a node. It uses up one use of the key.
type NodeEnrolled struct {
	Node    NodeID    `json:"node"`
	Name    string    `json:"name"`
	Of      NodeKind  `json:"kind"`
	Facts   Facts     `json:"facts"`
	KeyHash string    `json:"key_hash"`
	At      time.Time `json:"at"`
}

// Kind implements [Record].
func (NodeEnrolled) Kind() Kind { return "node enrolled" }

// About implements [Record].
func (r NodeEnrolled) About() About { return About{Node: r.Node, At: r.At} }

// Wakes implements [Record].
func (NodeEnrolled) Wakes() Wakes { return 0 }

func (r NodeEnrolled) apply(s *State) error {
	return s.nodeEnrolled(r)
}

// NodeStarted opens a session of a node process. All leases of earlier
// sessions must have ended before, but for those that the node kept; they go
// on in the new session.
type NodeStarted struct {
	Node    NodeID    `json:"node"`
	Session int64     `json:"session"`
	Facts   Facts     `json:"facts"`
	Kept    []LeaseID `json:"kept"`
	At      time.Time `json:"at"`
}

// Kind implements [Record].
func (NodeStarted) Kind() Kind { return "node started" }

// About implements [Record].
func (r NodeStarted) About() About { return About{Node: r.Node, At: r.At} }

// Wakes implements [Record].
func (NodeStarted) Wakes() Wakes { return WakesAsks | WakesOrders }

func (r NodeStarted) apply(s *State) error {
	return s.nodeStarted(r)
}

// NodeReach reports that a node fell silent or is heard from again.
type NodeReach struct {
	Node   NodeID    `json:"node"`
	Reach  Reach     `json:"reach"`
	Reason string    `json:"reason"`
	At     time.Time `json:"at"`
}

// Kind implements [Record].
func (NodeReach) Kind() Kind { return "node reach" }

// About implements [Record].
func (r NodeReach) About() About { return About{Node: r.Node, At: r.At, Reason: r.Reason} }

// Wakes implements [Record].
func (NodeReach) Wakes() Wakes { return WakesAsks }

func (r NodeReach) apply(s *State) error {
	n, err := s.node(r.Node)
	if err != nil {
		return err
	}
	n.Reach, n.ReachSince = r.Reach, r.At
	return nil
}

// NodeDuty switches a node on or off for work.
type NodeDuty struct {
	Node     NodeID     `json:"node"`
	Duty     Duty       `json:"duty"`
	Now      bool       `json:"now"`       // frames in flight shall not finish
	OffUntil *time.Time `json:"off_until"` // given back by its owner until then
	Reason   string     `json:"reason"`
	At       time.Time  `json:"at"`
}

// Kind implements [Record].
func (NodeDuty) Kind() Kind { return "node duty" }

// About implements [Record].
func (r NodeDuty) About() About { return About{Node: r.Node, At: r.At, Reason: r.Reason} }

// Wakes implements [Record].
func (NodeDuty) Wakes() Wakes { return WakesAsks | WakesOrders }

func (r NodeDuty) apply(s *State) error {
	n, err := s.node(r.Node)
	if err != nil {
		return err
	}
	n.Duty, n.DutyReason, n.DutySince, n.DutyNow, n.OffUntil = r.Duty, r.Reason, r.At, r.Now, time.Time{}
	if r.OffUntil != nil {
		n.OffUntil = *r.OffUntil
	}
	return nil
}

// NodeHealth sets a node aside, or lets it work again.
type NodeHealth struct {
	Node   NodeID `json:"node"`
	Health Health `json:"health"`
	By     string `json:"by"` // ByTriage, or empty for a person
	Reason string `json:"reason"`
	Device string `json:"device,omitempty"` // that this is about; empty: all of the node
	// TrialAt is when it is tried again; nil: not by itself. Pause is how long that is.
	TrialAt *time.Time `json:"trial_at,omitempty"`
	Pause   float64    `json:"pause_seconds,omitempty"`
	At      time.Time  `json:"at"`
}

// Kind implements [Record].
func (NodeHealth) Kind() Kind { return "node health" }

// About implements [Record].
func (r NodeHealth) About() About { return About{Node: r.Node, At: r.At, Reason: r.Reason} }

// Wakes implements [Record].
func (NodeHealth) Wakes() Wakes { return WakesAsks | WakesOrders }

func (r NodeHealth) apply(s *State) error {
	n, err := s.node(r.Node)
	if err != nil {
		return err
	}
	if r.Device != "" {
		a := Aside{Why: r.Reason, At: r.At, Pause: r.Pause, Back: r.Health == Fine}
		if r.TrialAt != nil {
			a.TrialAt = *r.TrialAt
		}
		n.Aside = maps.Clone(n.Aside)
		if n.Aside == nil {
			n.Aside = map[string]Aside{}
		}
		n.Aside[r.Device] = a
		s.forgiven(r)
		return nil
	}
	n.Health, n.HealthWhy, n.HealthBy, n.HealthAt = r.Health, r.Reason, r.By, r.At
	n.TrialAt = time.Time{}
	if r.TrialAt != nil {
		n.TrialAt = *r.TrialAt
	}
	if r.Pause > 0 || r.By != ByTriage { // who releases it by hand means it
		n.TrialPause = time.Duration(r.Pause * float64(time.Second))
	}
	s.forgiven(r)
	return nil
}

// NodeSet gives a node new settings, as a new version.
type NodeSet struct {
	Node     NodeID    `json:"node"`
	Version  int64     `json:"version"`
	Settings Settings  `json:"settings"`
	Actor    string    `json:"actor"`
	Reason   string    `json:"reason"` // what is different
	At       time.Time `json:"at"`
}

// Kind implements [Record].
func (NodeSet) Kind() Kind { return "node set" }

// About implements [Record].
func (r NodeSet) About() About { return About{Node: r.Node, At: r.At, Reason: r.Reason} }

// Wakes implements [Record].
func (NodeSet) Wakes() Wakes { return WakesAsks | WakesOrders }

func (r NodeSet) apply(s *State) error {
	return s.nodeSet(r)
}

// NodeAnnounced makes a node of a machine that will enrol later.
type NodeAnnounced struct {
	Node NodeID    `json:"node"`
	Name string    `json:"name"`
	Of   NodeKind  `json:"kind"`
	At   time.Time `json:"at"`
}

// Kind implements [Record].
func (NodeAnnounced) Kind() Kind { return "node announced" }

// About implements [Record].
func (r NodeAnnounced) About() About { return About{Node: r.Node, At: r.At} }

// Wakes implements [Record].
func (NodeAnnounced) Wakes() Wakes { return 0 }

func (r NodeAnnounced) apply(s *State) error {
	if s.NodeNamed(r.Name) != nil {
		return fmt.Errorf("the name %s is taken", r.Name)
	}
	s.PutNode(&Node{ID: r.Node, Name: r.Name, Kind: r.Of, Reach: Silent, ReachSince: r.At, Duty: OnDuty, Health: Fine})
	return nil
}

// NodeRenamed gives a node another name.
type NodeRenamed struct {
	Node NodeID    `json:"node"`
	Name string    `json:"name"`
	At   time.Time `json:"at"`
}

// Kind implements [Record].
func (NodeRenamed) Kind() Kind { return "node renamed" }

// About implements [Record].
func (r NodeRenamed) About() About { return About{Node: r.Node, At: r.At} }

// Wakes implements [Record].
func (NodeRenamed) Wakes() Wakes { return 0 }

func (r NodeRenamed) apply(s *State) error {
	return s.nodeRenamed(r)
}

// NodeRetired takes a node off the farm for good. What it did stays on record;
// its name may be used again. It must hold no lease.
type NodeRetired struct {
	Node   NodeID    `json:"node"`
	Reason string    `json:"reason"`
	At     time.Time `json:"at"`
}

// Kind implements [Record].
func (NodeRetired) Kind() Kind { return "node retired" }

// About implements [Record].
func (r NodeRetired) About() About { return About{Node: r.Node, At: r.At, Reason: r.Reason} }

// Wakes implements [Record].
func (NodeRetired) Wakes() Wakes { return WakesAsks | WakesAccess }

func (r NodeRetired) apply(s *State) error {
	return s.nodeRetired(r)
}
