package farm

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"vexillum/internal/core/frames"
)

// State is the whole farm at one moment. It has one owner; nothing in it may
// be changed but by Apply.
type State struct {
	Seq      int64 // sequence number of the last Record applied
	Nodes    map[NodeID]*Node
	Runs     map[RunID]*Run
	Projects map[string]*Project
	Places   map[string]*Place
	People   map[string]*Person
	Tokens   map[string]*Token // by hash
	Keys     map[string]*Key   // by hash
	Pools    map[string]*Pool
	// LaunchSettings are what renderers run as and in, by what they are said for.
	LaunchSettings map[LaunchScope]LaunchSettings
	// Stays are places, recipes and pools that are held, or released in steps.
	Freezes       map[FreezeScope]Freeze
	Sights        map[NodeID][]PlaceSight // what nodes see of places; nil: none has told
	Licences      map[string]*Licence
	Recipes       map[string]*Recipe
	Presets       map[PresetKey]*Preset
	Rates         map[RateScope]Rate
	PreflightRule PreflightRule
	Waits         map[Surrounding]*Wait // for what surrounds nodes and runs, and has failed
	Hands         map[HandOf]*Hand      // what needs a person, or did a while ago
	Channels      map[string]*Channel   // where notices go
	OnCall        string                // iCalendar of who is on call; empty: none
	// PresetChoices are the names of presets that people's runs get where nothing is said.
	PresetChoices map[PresetChoice]string
	// Missing are recipes of open runs that the service does not have now: their
	// runs wait. The owner of the State sets it; it is not kept.
	Missing map[string]bool
	// TrialAfter is how long a node that the farm has sidelined waits for its first trial; some
	// when 0. The owner of the State sets it; it is not kept.
	TrialAfter time.Duration

	LastNode  NodeID
	LastRun   RunID
	LastLease LeaseID
	LastHand  HandID
	LastOrder int64

	suspicion  suspicion // what tries have said
	nodeNames  map[string]NodeID
	numbers    map[jobKind]int
	catalogue  catalogue
	submitKeys map[string]submitted
	leases     map[LeaseID]*Lease  // of runs that have not closed
	working    map[NodeID][]*Lease // open leases by node, oldest first; a change makes a new slice
	// those on which a further lease could be begun: idle, or with leases that share them
	roomy     map[NodeID]*Node
	openRuns  map[RunID]*Run
	spent     map[string]float64 // seconds of nodes that leases took up which have ended, by project
	followers map[RunID][]RunID  // runs by what they wait for
	queue     []*Run             // openRuns in order; nil when they have changed
	roomyList []*Node            // in the order of their ids; nil when there are others
	nodeList  []*Node            // in the order of their ids; nil when there are others
}

// jobKey is a job: a name in a project, whatever its capitals, as some file
// systems take both for one folder.
type jobKey struct{ project, job string }

func keyOfJob(project, job string) jobKey { return jobKey{project, strings.ToLower(job)} }

type jobKind struct {
	jobKey
	kind RunKind
}

// NewState returns a farm with nothing in it.
func NewState() *State {
	return &State{
		Nodes:    map[NodeID]*Node{},
		Runs:     map[RunID]*Run{},
		Projects: map[string]*Project{},
		Places:   map[string]*Place{},
		People:   map[string]*Person{},
		Tokens:   map[string]*Token{},
		Keys:     map[string]*Key{},
		Pools:    map[string]*Pool{},

		LaunchSettings: map[LaunchScope]LaunchSettings{},
		Freezes:        map[FreezeScope]Freeze{},
		Licences:       map[string]*Licence{},
		Waits:          map[Surrounding]*Wait{},
		Hands:          map[HandOf]*Hand{},
		Channels:       map[string]*Channel{},
		Recipes:        map[string]*Recipe{},
		Presets:        map[PresetKey]*Preset{},
		Rates:          map[RateScope]Rate{},
		PreflightRule:  FirstPreflightRule,
		PresetChoices:  map[PresetChoice]string{},

		nodeNames:  map[string]NodeID{},
		numbers:    map[jobKind]int{},
		catalogue:  newCatalogue(),
		submitKeys: map[string]submitted{},
		leases:     map[LeaseID]*Lease{},
		working:    map[NodeID][]*Lease{},
		roomy:      map[NodeID]*Node{},
		openRuns:   map[RunID]*Run{},
		followers:  map[RunID][]RunID{},
	}
}

// NodeNamed returns the node of that name, or nil.
func (s *State) NodeNamed(name string) *Node { return s.Nodes[s.nodeNames[name]] }

// NodeName returns a node's name for sentences, even if the node is unknown.
func (s *State) NodeName(id NodeID) string {
	if n := s.Nodes[id]; n != nil {
		return n.Name
	}
	return fmt.Sprintf("node %d", id)
}

// NextNumber returns the least number that the job's next run of this kind may
// get.
func (s *State) NextNumber(project, job string, kind RunKind) int {
	return s.numbers[jobKind{keyOfJob(project, job), kind}] + 1
}

// NewestOf returns the newest run of a job, or nil. Capitals do not matter.
func (s *State) NewestOf(project, job string) *Run { return newestOf(s.RunsOf(project, job)) }

func newestOf(runs []*Run) (newest *Run) {
	for _, r := range runs {
		if newest == nil || r.ID > newest.ID {
			newest = r
		}
	}
	return newest
}

// submitted is what a submitter's own key stands for.
type submitted struct {
	run    RunID
	digest string
}

// SubmittedWith returns the run that was submitted with a key, or nil, and the
// digest of what was asked for then; "" where that was not kept.
func (s *State) SubmittedWith(key string) (run *Run, digest string) {
	if key == "" {
		return nil, ""
	}
	known := s.submitKeys[key]
	return s.Runs[known.run], known.digest
}

// Lease returns a lease of a run that has not closed, or nil.
func (s *State) Lease(id LeaseID) *Lease { return s.leases[id] }

// LeasesOf returns the open leases of a node, oldest first. The slice stays as it
// is and must not be changed.
func (s *State) LeasesOf(n NodeID) []*Lease { return s.working[n] }

func leaseOrder(l *Lease, id LeaseID) int { return cmp.Compare(l.ID, id) }

// LeaseCount returns how many open leases a node has.
func (s *State) LeaseCount(n NodeID) int { return len(s.working[n]) }

// Roomy returns the nodes that have no lease, or only such as share them, in
// the order of their ids. The slice belongs to the State.
func (s *State) Roomy() []*Node {
	if s.roomyList == nil {
		s.roomyList = slices.SortedFunc(maps.Values(s.roomy), func(a, b *Node) int { return cmp.Compare(a.ID, b.ID) })
	}
	return s.roomyList
}

// room notes whether a further lease could be begun on a node.
func (s *State) room(n NodeID) {
	was := s.roomy[n]
	for _, l := range s.working[n] {
		if l.Share.Whole() {
			if was != nil {
				delete(s.roomy, n)
				s.roomyList = nil
			}
			return
		}
	}
	if node := s.Nodes[n]; node != was {
		s.roomy[n] = node
		s.roomyList = nil
	}
}

// Idle reports whether a node has no open lease.
func (s *State) Idle(n NodeID) bool { return len(s.working[n]) == 0 }

// Queue returns the runs that have not ended: the more urgent first, then as
// they were put, then as they were submitted. The slice belongs to the State.
func (s *State) Queue() []*Run {
	if s.queue == nil {
		s.queue = slices.SortedFunc(maps.Values(s.openRuns), (*Run).compare)
	}
	return s.queue
}

// compare orders runs as they stand in the queue.
func (r *Run) compare(other *Run) int {
	return cmp.Or(
		cmp.Compare(r.Terms.Level.Rank(), other.Terms.Level.Rank()), cmp.Compare(r.Terms.Put, other.Terms.Put),
		cmp.Compare(r.Order, other.Order), cmp.Compare(r.ID, other.ID),
	)
}

// Before reports whether a run stands before another in the queue: the more urgent
// first, then as they were put, then as they were submitted.
func (r *Run) Before(other *Run) bool { return r.compare(other) < 0 }

// NodeList returns all nodes that there ever were, in the order of their ids.
// The slice belongs to the State.
func (s *State) NodeList() []*Node {
	if len(s.nodeList) != len(s.Nodes) {
		s.nodeList = slices.SortedFunc(maps.Values(s.Nodes), func(a, b *Node) int { return cmp.Compare(a.ID, b.ID) })
	}
	return s.nodeList
}

// Check returns an error if the farm contradicts itself: a frame that is in
// two places or nowhere, or a lease of a node that does not exist. Tests call
// it after every step.
func (s *State) Check() error {
	if err := s.catalogue.check(s); err != nil {
		return err
	}
	for _, r := range s.Runs {
		if r.State.Closed() {
			for l := range r.OpenLeases {
				return fmt.Errorf("%s is %s, but lease %d is open", r.Spec.Name(), r.State, l.ID)
			}
			continue
		}
		total, raced := frames.Set{}, frames.Set{}
		count, dealt := 0, 0
		add := func(set frames.Set) {
			total = total.Union(set)
			count += set.Len()
		}
		add(r.ToDo)
		add(r.Later)
		add(r.Done)
		add(r.Parked)
		for f := range r.Delivering {
			add(frames.One(f))
		}
		for l := range r.OpenLeases {
			if s.Nodes[l.Node] == nil {
				return fmt.Errorf("lease %d belongs to no node", l.ID)
			}
			if !slices.Contains(s.working[l.Node], l) || s.leases[l.ID] != l {
				return fmt.Errorf("lease %d is not in the indexes", l.ID)
			}
			dealt += l.Left.Len()
			if l.Race {
				raced = raced.Union(l.Left)
			} else {
				add(l.Left)
			}
		}
		add(raced.Minus(total)) // what only those hold that raced for it
		for n, leases := range r.on {
			if held := len(slices.DeleteFunc(slices.Clone(r.open), func(l *Lease) bool { return l.Node != n })); held != leases {
				return fmt.Errorf("%s: %d leases are on node %d, %d were counted", r.Spec.Name(), held, n, leases)
			}
		}
		if dealt != r.dealt {
			return fmt.Errorf("%s: %d frames are on leases, %d were counted", r.Spec.Name(), dealt, r.dealt)
		}
		if count != total.Len() {
			return fmt.Errorf("%s: %d frames are in two places", r.Spec.Name(), count-total.Len())
		}
		if !total.Equal(r.Spec.Frames) {
			return fmt.Errorf("%s: has frames %v, should have %v", r.Spec.Name(), total, r.Spec.Frames)
		}
	}
	return nil
}

// Large reports whether a farm has too many nodes for a decision to look at
// all of them: then what was found a moment ago has to do.
func (s *State) Large() bool { return len(s.Nodes) >= largeFarm }

const largeFarm = 256
