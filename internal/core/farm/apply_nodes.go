package farm

import (
	"fmt"
	"slices"
)

func (s *State) nodeEnrolled(r NodeEnrolled) error {
	announced := s.NodeNamed(r.Name)
	if announced != nil && announced.ID != r.Node {
		return fmt.Errorf("the name %s is taken", r.Name)
	}
	key := s.Keys[r.KeyHash]
	if key == nil || key.UsesLeft < 1 {
		return fmt.Errorf("no key with a use left")
	}
	key.UsesLeft--
	if announced != nil {
		announced.Kind, announced.Facts, announced.EnrolledAt = r.Of, r.Facts, r.At
		return nil
	}
	s.PutNode(
		&Node{
			ID: r.Node, Name: r.Name, Kind: r.Of, Facts: r.Facts, Reach: Silent,
			ReachSince: r.At, Duty: OnDuty, Health: Fine, EnrolledAt: r.At,
		},
	)
	return nil
}

func (s *State) nodeStarted(r NodeStarted) error {
	n, err := s.node(r.Node)
	if err != nil {
		return err
	}
	for _, l := range s.LeasesOf(r.Node) {
		if !slices.Contains(r.Kept, l.ID) {
			return fmt.Errorf("%s still has lease %d of its last session", n.Name, l.ID)
		}
	}
	for _, id := range r.Kept {
		if l := s.leases[id]; l == nil || !l.Open() || l.Node != r.Node {
			return fmt.Errorf("%s has no open lease %d to keep", n.Name, id)
		}
	}
	for _, id := range r.Kept {
		s.leases[id].Session, s.leases[id].Ask = r.Session, 0 // asks count from 1 again
	}
	n.Session, n.Facts = r.Session, r.Facts
	n.Reach, n.ReachSince = Online, r.At
	return nil
}

func (s *State) nodeSet(r NodeSet) error {
	n, err := s.node(r.Node)
	if err != nil {
		return err
	}
	if r.Version != n.Version+1 {
		return fmt.Errorf("the settings of %s are at version %d", n.Name, n.Version)
	}
	for _, p := range r.Settings.Pools {
		if s.Pools[p] == nil {
			return fmt.Errorf("there is no pool %s", p)
		}
	}
	n.Settings, n.Version = r.Settings, r.Version
	return nil
}

func (s *State) nodeRenamed(r NodeRenamed) error {
	n, err := s.node(r.Node)
	if err != nil {
		return err
	}
	if s.NodeNamed(r.Name) != nil {
		return fmt.Errorf("the name %s is taken", r.Name)
	}
	delete(s.nodeNames, n.Name)
	n.Name = r.Name
	s.nodeNames[n.Name] = n.ID
	return nil
}

func (s *State) nodeRetired(r NodeRetired) error {
	n, err := s.node(r.Node)
	if err != nil {
		return err
	}
	if !s.Idle(n.ID) {
		return fmt.Errorf("%s holds leases", n.Name)
	}
	for hash, t := range s.Tokens {
		if t.Node == n.ID {
			delete(s.Tokens, hash)
		}
	}
	n.RetiredAt = r.At
	delete(s.nodeNames, n.Name)
	return nil
}
