// Package simulate plays a farm on paper: the real [engine.Engine] at work on nodes
// and frames that are made up, event by event. The engine sees what a real farm
// would show it and nothing else; what is true of nodes and frames stays in
// here. Nothing is read from a clock: the same farm and seed give the same play
// to the byte.
package simulate

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"vexillum/internal/core/blame"
	"vexillum/internal/core/deal"
	"vexillum/internal/core/engine"
	"vexillum/internal/core/fairness"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/hours"
	"vexillum/internal/core/pace"
	"vexillum/internal/core/protocol/accept"
)

// Node is a machine as it truly is. Times are seconds from the begin.
type Node struct {
	Name    string
	Speed   float64 // reference seconds of work per second, above 0
	Known   float64 // what history or benchmark claims
	Joins   float64
	Leaves  float64 // 0: never
	Returns float64 // 0: never
	Fails   float64 // chance that a frame fails on it, 0 to 1
	FailsIn float64 // seconds after which it then does; 0: at its end
	// FailsCause is by what; empty: a crash. FailsOver are the reference seconds that a
	// frame must cost to fail on it; FailsOn is the only device on which it does; from
	// FailsFrom seconds on, until it is Mended; 0: for ever.
	FailsCause string
	FailsOver  float64
	FailsOn    string
	FailsFrom  float64
	Mended     float64
	Version    string    // of the renderers on it
	Cores      int       // 0: not told
	Memory     int64     // bytes; 0: not told
	Fetches    float64   // bytes of bundles that it gets in a second; 0: at once
	Devices    []string  // ids of graphics devices
	Caps       farm.Caps // what of it the farm may use
	Hours      *hours.Hours
	Pools      []string
	Traits     []string
	// Recipes are those of the jobs that it could take; nil: all.
	Recipes []string
}

// AsNode returns the machine as a farm knows it before it has joined.
func (n *Node) AsNode(id farm.NodeID, renderers []farm.Renderer) *farm.Node {
	var devices []farm.Device
	for _, id := range n.Devices {
		devices = append(devices, farm.Device{ID: id})
	}
	return &farm.Node{
		ID: id, Name: n.Name, Kind: farm.Rack,
		Facts: farm.Facts{
			OS: "linux", Speed: n.Known, Cores: n.Cores, MemoryBytes: n.Memory,
			Devices: devices, Renderers: renderers, NetworkRate: int64(n.Fetches),
		},
		Reach: farm.Silent, Duty: farm.OnDuty, Health: farm.Fine,
		Settings: farm.Settings{Hours: n.Hours, Pools: n.Pools, Traits: n.Traits, Caps: n.Caps},
	}
}

// Job is one run as it truly is.
type Job struct {
	Spec      farm.Spec
	Submitted float64         // seconds from the begin
	Startup   float64         // seconds of the first launch on a node
	Again     float64         // the same of further ones; 0: as the first
	Failed    map[int][]int   // nodes on which a frame has failed before the play, by frame
	Launched  []int           // nodes on which it was launched before the play, as in Farm.Nodes
	Costs     []float64       // reference seconds, one for each frame in rising order
	Noise     float64         // standard deviation of the logarithm of a frame's time
	Fails     []int           // frames that fail wherever they run
	Sometimes map[int]float64 // frames that fail now and then, and how often
	Heavy     map[int]int64   // bytes of memory below which frames fail
	FailsIn   float64         // seconds after which frames fail that do; 0: at their end
	Wrong     bool            // all frames fail
	// FailsCause is by what they do; empty: a crash.
	FailsCause string
	Speeds     []float64 // of each node for this job, as in Farm.Nodes; nil: Node.Speed
	Has        []int     // nodes that have its bundle before the play, as in Farm.Nodes
	HasBefore  []int     // the same of the bundle of the job's run before
	After      []After   // jobs that it waits for, which stand before it in Farm.Jobs
	Memory     int64     // bytes that a launch grows to, which its node measures; 0: it does not
}

// After is a job that another waits for, as in Farm.Jobs.
type After struct {
	Job    int
	Frames bool // see farm.After
}

// Fetch returns what a node, as in Farm.Nodes, gets of the job's bundle before its first
// launch, if it gets no other before.
func (j *Job) Fetch(i int, n *Node) farm.Fetched {
	return fetch(&j.Spec, slices.Contains(j.Has, i), slices.Contains(j.HasBefore, i), n.Fetches)
}

// fetch returns what a node gets of a bundle at a rate, which may have all of it or all
// of the one before.
func fetch(spec *farm.Spec, has, before bool, rate float64) (f farm.Fetched) {
	switch {
	case has || spec.BundleBytes == 0 || rate == 0:
		return f
	case before:
		f.Bytes = spec.BundleNew
	default:
		f.Bytes = spec.BundleBytes
	}
	f.Seconds = float64(f.Bytes) / rate
	return f
}

// Holding is a lease that a node is at work on when the play begins.
type Holding struct {
	Node     int        // index in Farm.Nodes
	Job      int        // index in Farm.Jobs
	Frames   frames.Set // all that it has left
	InFlight int        // the frame that it has begun, if Begun
	Begun    bool
	Share    farm.Share // what the lease owns of the node; all of it when empty
	Elapsed  float64    // seconds since then, or since the launch began
}

// Farm is all that is played.
type Farm struct {
	Seed     uint64
	Start    time.Time // the moment that counts as 0 s
	Nodes    []Node
	Jobs     []Job
	Pools    []farm.Pool
	Projects []farm.Project
	Places   []farm.Place
	Licences []farm.Licence
	Holdings []Holding // of jobs and nodes that are there at 0 s
	Received []fairness.Received
	Outages  []Outage
	Chance   float64 // chance that a frame fails though nobody is to blame, 0 to 1
}

// Outage is a while in which all fails that needs something.
type Outage struct {
	Of       farm.Surrounding
	From, To float64 // seconds from the begin
	Cause    string
}

// Result is how a try at a frame ended.
type Result string

// The results.
const (
	Done    Result = "done"
	Failed  Result = "failed"
	Stopped Result = "stopped"
)

// Attempt is one try at a frame.
type Attempt struct {
	Node   string  `json:"node"`
	Job    string  `json:"job"`
	Frame  int     `json:"frame"`
	Launch int     `json:"launch"`        // changes with each start of a renderer on the node
	Start  float64 `json:"start_seconds"` // of the frame itself, after any start-up
	End    float64 `json:"end_seconds"`
	Result Result  `json:"result"`
}

// Failure is a try that failed, with what is true of it.
type Failure struct {
	Attempt
	Lease farm.LeaseID
	Fault blame.Kind // who is to blame
	Gone  string     // the place, licence or recipe that was gone, if one was
	Told  string     // who the farm thought was to blame when it failed
}

// Report is what came of a play.
type Report struct {
	Finish   float64   // seconds from the begin
	Jobs     []Outcome // as in Farm.Jobs
	Attempts []Attempt // in the order in which they ended
	Failures []Failure // those of them that failed
	Busy     []float64 // seconds that each node rendered or started, as in Farm.Nodes
	Present  []float64 // seconds that it was there until the finish
	Told     []Told    // what was decided, with reasons
	// Sidelined are the nodes that the farm has set aside, one device of them included, in order.
	Sidelined []string
}

// Outcome is what came of one job.
type Outcome struct {
	Finish   float64
	Launches int
	State    farm.RunState
}

// Told is one decision with its reason.
type Told struct {
	At     float64
	Job    string // "" where it concerns none
	Node   string
	Reason string
}

// Options say how to play.
type Options struct {
	Model *pace.Model // what is known before; nil: nothing
	// Policy makes another way of dealing; nil: the real dealer.
	Policy func(*farm.State) engine.Policy
	Tell   bool // keep decisions with their reasons
	// Watch is shown the farm at WatchAt seconds, once; nil: nobody looks. It
	// must not change anything.
	Watch   func(w Watched)
	WatchAt float64
	// Last is shown the farm at the end. It must not change anything, and may be nil.
	Last func(w Watched)
	// Coarse looks less often at what comes first.
	Coarse bool
	// GoOn is asked now and then; when it says no the play ends with ErrStopped. It
	// may be nil.
	GoOn func() bool
	// Script is shown each batch of events, with the Records that came of it. The
	// play is then timed as a service is: a tick each second, and signs of life of
	// the machines. It may be nil.
	Script func(events []Event, records []farm.Record)
	// Until ends the play early, in seconds; 0: when all jobs have ended.
	Until float64
}

// Event is one thing that the engine was told.
type Event struct {
	At     time.Time
	Node   farm.NodeID
	Submit *farm.RunSubmitted               // an act of a person
	Start  *farm.Facts                      // of a node process
	Ask    *engine.Question                 // for work
	Report *accept.Report                   // of a frame
	Trim   *TrimAnswer                      // what a node gives back
	Beat   map[farm.LeaseID]engine.Progress // a sign of life
	Gone   bool                             // nobody waits for the node's ask any more
}

// TrimAnswer answers an [engine.Trim].
type TrimAnswer struct {
	ID    int64
	Lease farm.LeaseID
	Given frames.Set
}

// ErrStopped says that a play was ended before its end.
var ErrStopped = errors.New("the play was stopped")

// Watched is a farm in the middle of a play, as a service would see it.
type Watched struct {
	State *farm.State
	Model *pace.Model
	Sight func(*farm.Lease) deal.Sight
	Now   time.Time
}

// mostQuiet is after how many events without a frame that is done or has failed a play that is
// bounded by its time ends: more than a weekend of closed duty hours has.
const mostQuiet = 20_000

// mostEvents bounds a play that does not end: this many events without a frame
// that is done or has failed.
const mostEvents = 200_000

// Play plays a farm to its end.
func Play(f Farm, o Options) (*Report, error) {
	w := newWorld(f, o)
	if err := w.resume(); err != nil {
		return nil, fmt.Errorf("beginning the play: %w", err)
	}
	for quiet, tried, count := 0, 0, 1; ; quiet++ {
		if o.Until > 0 && quiet == mostQuiet { // the rest does not end by then
			break
		}
		if quiet == mostEvents {
			return nil, fmt.Errorf("after %.0f s it goes round in circles: %w", w.now, w.stuck())
		}
		if count++; o.GoOn != nil && count%64 == 0 && !o.GoOn() {
			return nil, ErrStopped
		}
		if tried != len(w.attempts) {
			quiet, tried = 0, len(w.attempts)
		}
		e, ok := w.events.next()
		if !ok || o.Until > 0 && e.at > o.Until {
			break
		}
		if o.Watch != nil && e.at >= o.WatchAt {
			w.now = max(w.now, o.WatchAt)
			w.e.Begin(w.at(w.now))
			o.Watch(Watched{State: w.s, Model: w.m, Sight: w.e.Sight, Now: w.at(w.now)})
			o.Watch = nil
		}
		if err := w.moment(e); err != nil {
			return nil, fmt.Errorf("at %.3f s: %w", e.at, err)
		}
		if w.unfinished == 0 {
			break
		}
	}
	if o.Last != nil {
		o.Last(Watched{State: w.s, Model: w.m, Sight: w.e.Sight, Now: w.at(w.now)})
	}
	return w.report()
}
