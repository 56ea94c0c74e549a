package farm

import (
	"fmt"
	"slices"
	"time"

	"vexillum/internal/core/blame"
	"vexillum/internal/core/trait"
)

// Apply makes one committed Record part of the farm and counts it. An error
// means that the Record contradicts the State: its decider did not
// look at the State first. The State is unchanged then.
func (s *State) Apply(rec Record) error {
	if err := rec.apply(s); err != nil {
		return fmt.Errorf("applying %q as number %d: %w", rec.Kind(), s.Seq+1, err)
	}
	s.Seq++
	about := rec.About()
	if r := s.Runs[about.Run]; r != nil {
		r.Changed = s.Seq
	}
	if n := s.Nodes[about.Node]; n != nil {
		n.Changed = s.Seq
	}
	return nil
}

// PutToken lets a token in. A loader uses it too.
func (s *State) PutToken(r TokenIssued) {
	t := Token{Hash: r.Hash, Kind: r.Of, Person: r.Person, Node: r.Node, Label: r.Label, CreatedAt: r.At}
	if r.ExpiresAt != nil {
		t.ExpiresAt = *r.ExpiresAt
	}
	s.Tokens[r.Hash] = &t
}

// PutLicence counts a licence. A loader uses it too.
func (s *State) PutLicence(r LicenceSet) {
	if r.Count < 0 {
		delete(s.Licences, r.Name)
		return
	}
	l := &Licence{Name: r.Name, Count: r.Count, Lowered: r.Lowered}
	if r.LoweredUntil != nil {
		l.LoweredUntil = *r.LoweredUntil
	}
	s.Licences[r.Name] = l
}

// PutNode adds a node as it was kept. It is for loaders.
func (s *State) PutNode(n *Node) {
	s.Nodes[n.ID], s.nodeList = n, nil
	s.room(n.ID)
	if n.RetiredAt.IsZero() {
		s.nodeNames[n.Name] = n.ID
	}
	s.LastNode = max(s.LastNode, n.ID)
}

// PutRun adds a run as it was kept, with its leases. It is for loaders.
func (s *State) PutRun(r *Run, submitKey, digest string) {
	r.read()
	s.put(r, submitKey, digest)
}

// put is PutRun of a run whose specification has been read.
func (s *State) put(r *Run, submitKey, digest string) {
	s.Runs[r.ID] = r
	r.open, r.dealt, r.races, r.on = nil, 0, 0, nil
	s.LastRun = max(s.LastRun, r.ID)
	s.LastOrder = max(s.LastOrder, r.Order)
	job := keyOfJob(r.Spec.Project, r.Spec.Job)
	k := jobKind{job, r.Spec.Kind}
	s.numbers[k] = max(s.numbers[k], r.Spec.Number)
	s.catalogue.add(r)
	if submitKey != "" {
		s.submitKeys[submitKey] = submitted{r.ID, digest}
	}
	if !r.State.Closed() {
		s.openRuns[r.ID], s.queue = r, nil
	}
	for _, a := range r.Spec.After {
		s.followers[a.Run] = append(s.followers[a.Run], r.ID)
	}
	for _, l := range r.Leases {
		s.putLease(l)
	}
}

// read keeps what is often asked of a run's specification.
func (r *Run) read() {
	if r.Terms.Takes != nil {
		r.Spec.Takes = *r.Terms.Takes
	}
	if r.Terms.Needs != nil {
		r.Spec.Needs = *r.Terms.Needs
	}
	r.text = r.Spec.Frames.Text()
	r.needs, _ = trait.ParseExpression(r.Spec.Needs) // it was checked when the run was submitted
}

func (s *State) putLease(l *Lease) {
	s.leases[l.ID] = l
	s.LastLease = max(s.LastLease, l.ID)
	if l.Open() {
		held := s.working[l.Node]
		place, _ := slices.BinarySearchFunc(held, l.ID, leaseOrder)
		s.working[l.Node] = slices.Insert(slices.Clone(held), place, l)
		s.room(l.Node)
		run := s.Runs[l.Run]
		at, _ := run.openAt(l.ID)
		run.open = slices.Insert(run.open, at, l)
		run.dealt += l.Left.Len()
		if run.on == nil {
			run.on = map[NodeID]int{}
		}
		run.on[l.Node]++
		if l.Race {
			run.races++
		}
	}
}

func (s *State) node(id NodeID) (*Node, error) {
	if n := s.Nodes[id]; n != nil {
		return n, nil
	}
	return nil, fmt.Errorf("there is no node %d", id)
}

func (s *State) run(id RunID) (*Run, error) {
	r := s.Runs[id]
	if r == nil {
		return nil, fmt.Errorf("there is no run %d", id)
	}
	return r, nil
}

// openLease returns an open lease together with its run.
func (s *State) openLease(id LeaseID) (*Run, *Lease, error) {
	l := s.leases[id]
	if l == nil || !l.Open() {
		return nil, nil, fmt.Errorf("there is no open lease %d", id)
	}
	return s.Runs[l.Run], l, nil
}

func (s *State) runSubmitted(r RunSubmitted) error {
	if s.Runs[r.Run] != nil {
		return fmt.Errorf("run %d exists", r.Run)
	}
	if r.Spec.Number < s.NextNumber(r.Spec.Project, r.Spec.Job, r.Spec.Kind) {
		return fmt.Errorf("%s has a number that was given before", r.Spec.Name())
	}
	if err := s.checkAfter(r.Spec); err != nil {
		return fmt.Errorf("%s: %w", r.Spec.Name(), err)
	}
	run := r.Opened()
	s.put(run, r.Key, r.Digest)
	s.Await(run)
	return nil
}

// Opened returns the run as it is when it is submitted.
func (r RunSubmitted) Opened() *Run {
	run := &Run{
		ID: r.Run, Spec: r.Spec, Terms: r.Spec.Terms, State: r.State, Reason: r.Reason,
		Order: r.Order, SubmittedAt: r.At, ToDo: r.Spec.Frames, Delivering: map[int]Delivery{},
		Trouble: map[int]*Trouble{}, Leases: map[LeaseID]*Lease{},
	}
	run.read()
	return run
}

func (s *State) runMoved(r RunMoved) error {
	run, err := s.run(r.Run)
	if err != nil {
		return err
	}
	if r.State.Closed() {
		for l := range run.OpenLeases {
			return fmt.Errorf("lease %d is open", l.ID)
		}
		for id := range run.Leases {
			delete(s.leases, id)
		}
		if run.State.Closed() {
			s.catalogue.reopen(run)
		}
		run.Leases = map[LeaseID]*Lease{}
		run.EndedAt = r.At
		s.catalogue.end(run)
		delete(s.openRuns, run.ID)
		s.queue = nil
	} else if run.State.Closed() { // opened again
		s.catalogue.reopen(run)
		run.EndedAt = time.Time{}
		s.openRuns[run.ID], s.queue = run, nil
	}
	if r.State == RunRendering && run.StartedAt.IsZero() {
		run.StartedAt = r.At
	}
	switch {
	case r.Held == HeldChanged:
		run.FoundScene = r.Scene
	case r.Scene != "":
		run.FoundScene, run.TakenScene = "", r.Scene
	}
	if run.State == RunHeld && (r.State == RunQueued || r.State == RunRendering) {
		run.ReleasedAt = r.At
		s.forgive(blame.Suspect{Kind: blame.Run, ID: int64(run.ID)}, 0)
	}
	run.State, run.Reason, run.Held = r.State, r.Reason, r.Held
	return nil
}

func (s *State) leaseOpened(r LeaseOpened) error {
	run, err := s.run(r.Run)
	if err != nil {
		return err
	}
	if _, err := s.node(r.Node); err != nil {
		return err
	}
	switch {
	case r.Race && (r.Frames.Len() != 1 || !run.elsewhere(r.Frames.First(), nil) || run.Raced(r.Frames.First())):
		return fmt.Errorf("frames %v are no frame that can be raced for", r.Frames)
	case !r.Race && (!r.Frames.Minus(run.ToDo).Empty() || r.Frames.Empty()):
		return fmt.Errorf("frames %v are not to do", r.Frames.Minus(run.ToDo))
	}
	for _, other := range s.working[r.Node] {
		if r.Share.Collides(other.Share) {
			return fmt.Errorf("what lease %d owns of %s is owned by lease %d", r.Lease, s.NodeName(r.Node), other.ID)
		}
	}
	run.ToDo = run.ToDo.Minus(r.Frames)
	l := &Lease{
		ID: r.Lease, Node: r.Node, Run: r.Run, Session: r.Session, Ask: r.Ask, Given: r.Frames,
		Left: r.Frames, Share: r.Share, Race: r.Race, Reason: r.Reason, OpenedAt: r.At,
	}
	run.Leases[l.ID] = l
	s.putLease(l)
	s.scouts(l, l.OpenedAt)
	return nil
}

func (s *State) leaseExtended(r LeaseExtended) error {
	run, l, err := s.openLease(r.Lease)
	if err != nil {
		return err
	}
	if !r.Frames.Minus(run.ToDo).Empty() || r.Frames.Empty() {
		return fmt.Errorf("frames %v are not to do", r.Frames.Minus(run.ToDo))
	}
	run.ToDo = run.ToDo.Minus(r.Frames)
	l.Given, l.Left = l.Given.Union(r.Frames), l.Left.Union(r.Frames)
	run.dealt += r.Frames.Len()
	l.Ask, l.Reason = r.Ask, r.Reason
	s.scouts(l, r.At)
	return nil
}

func (s *State) leaseTrimmed(r LeaseTrimmed) error {
	run, l, err := s.openLease(r.Lease)
	if err != nil {
		return err
	}
	if !r.Frames.Minus(l.Left).Empty() {
		return fmt.Errorf("frames %v are not left on lease %d", r.Frames.Minus(l.Left), l.ID)
	}
	run.giveBack(l, r.Frames)
	return nil
}

func (s *State) leaseEnded(r LeaseEnded) error {
	run, l, err := s.openLease(r.Lease)
	if err != nil {
		return err
	}
	run.giveBack(l, l.Left)
	l.EndedAt = r.At
	s.spend(run.Spec.Project, s.costOf(l, r.At))
	if l.Race {
		run.races--
	}
	if run.on[l.Node]--; run.on[l.Node] == 0 {
		delete(run.on, l.Node)
	}
	if at, ok := run.openAt(l.ID); ok {
		run.open = append(run.open[:at:at], run.open[at+1:]...) // a copy: somebody may be looking through them
	}
	held := s.working[l.Node]
	if place, ok := slices.BinarySearchFunc(held, l.ID, leaseOrder); ok {
		s.working[l.Node] = slices.Concat(held[:place], held[place+1:])
	}
	s.room(l.Node)
	s.scouted(l)
	return nil
}
