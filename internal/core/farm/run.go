package farm

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"time"

	"vexillum/internal/core/frames"
	"vexillum/internal/core/trait"
)

// RunID identifies a run for the life of the
type RunID int64

// LeaseID identifies a lease for the life of the
type LeaseID int64

// RunKind says what a run is for.
type RunKind string

// The kinds of run.
const (
	Proof      RunKind = "proof"
	Final      RunKind = "final"
	Correction RunKind = "correction"
)

// RunState is where a run stands.
type RunState string

// The states of a run.
const (
	RunHeld      RunState = "held"
	RunWaiting   RunState = "waiting" // for another run
	RunQueued    RunState = "queued"
	RunRendering RunState = "rendering"
	RunDone      RunState = "done"
	RunGaps      RunState = "done with gaps"
	RunFailed    RunState = "failed"
	RunCancelled RunState = "cancelled"
)

// RunStates are all states of a run.
var RunStates = []RunState{RunHeld, RunWaiting, RunQueued, RunRendering, RunDone, RunGaps, RunFailed, RunCancelled}

// Closed reports whether a run in this state has ended.
func (s RunState) Closed() bool {
	return s == RunDone || s == RunGaps || s == RunFailed || s == RunCancelled
}

// HeldFor is why the farm itself holds a run; empty where a person does.
type HeldFor string

// HeldFailing says that its first frames have failed everywhere by one cause.
const HeldFailing HeldFor = "failing"

// HeldChanged says that its scene is not the one any more that it was submitted with.
const HeldChanged HeldFor = "changed"

// Mode says how a renderer takes frames.
type Mode string

// The modes of a recipe.
const (
	ModeRange  Mode = "range"  // one launch renders a..b in order
	ModeSingle Mode = "single" // one launch a frame
	ModeFeed   Mode = "feed"   // stays up and is handed one frame after the other
	ModeWhole  Mode = "whole"  // all frames in one go
)

// Spec is what a run was submitted with. It never changes afterwards.
type Spec struct {
	Job     string  `json:"job"`
	Project string  `json:"project"`
	Kind    RunKind `json:"kind"`
	Number  int     `json:"number"` // counts runs of a kind in a job, from 1
	Recipe  string  `json:"recipe"`
	// of the recipe; 0 of runs from before there were versions: the newest
	RecipeVersion int               `json:"recipe_version,omitempty"`
	Mode          Mode              `json:"mode"`
	Scene         string            `json:"scene"`          // inside the project's scene place, with slashes
	Output        string            `json:"output"`         // folder inside the project's frame place, with slashes
	Mark          string            `json:"mark,omitempty"` // file by which the frame place is known to be there
	Picture       string            `json:"picture"`
	Ending        string            `json:"ending,omitempty"`     // of the names of frame files; that of Picture when empty
	Names         string            `json:"names,omitempty"`      // of delivered files, a pattern; see DefaultNames
	Passes        []Pass            `json:"passes,omitempty"`     // written beside the picture
	Width         int               `json:"width"`                // pixels
	Height        int               `json:"height"`               // pixels
	Values        map[string]string `json:"values"`               // the recipe's own settings
	Tries         int               `json:"tries"`                // attempts a frame before it is parked
	HoldAfter     int               `json:"hold_after,omitempty"` // failed frames that hold the run; 0: as the farm judges
	Chunk         int               `json:"chunk"`                // frames a lease; 0 lets the dealer choose
	Owner         string            `json:"owner"`
	Needs         string            `json:"needs,omitempty"` // what a node must be: an expression over traits
	Takes         Amounts           `json:"takes"`           // of a node, by one lease
	Sequence      Sequence          `json:"sequence,omitempty"`
	Scouts        frames.Set        `json:"scouts,omitzero"`    // that go first
	Wait          bool              `json:"wait,omitempty"`     // for a person's yes when the scouts are done
	StartOn       int               `json:"start_on,omitempty"` // nodes until a frame is done; 0: all at once
	// seconds that a renderer may give no sign of life; 0: as frames are expected to take
	Stall  float64    `json:"stall,omitempty"`
	After  []After    `json:"after,omitempty"`  // runs that it waits for
	Tiles  *Tiles     `json:"tiles,omitempty"`  // of a still whose frames are tiles; nil: of no other run
	Preset *PresetUse `json:"preset,omitempty"` // nil: none
	// Asked is the final as somebody has asked for it, of a proof that was made of that; what it
	// means is no matter of the farm.
	Asked    []byte       `json:"asked,omitempty"`
	From     RunID        `json:"from,omitempty"`    // run whose frames it reads, one of those; 0: none
	Once     bool         `json:"once,omitempty"`    // rendering a frame twice does harm
	Licence  *LicenceNeed `json:"licence,omitempty"` // nil: none
	Terms                 // as they were submitted; see Run.Terms
	Frames   frames.Set   `json:"frames"`
	Shot     Shot         `json:"shot,omitzero"` // of the job, as of this run; see ShotRange
	SceneSHA string       `json:"scene_sha256"`  // of the scene file when it was submitted
	// Pin is the state of the scene with all that it needs in its place; empty: the scene
	// alone counts.
	Pin  string   `json:"pin,omitempty"`
	With []string `json:"with,omitempty"` // files that it needs besides those that are found in it
	// Bundle names the files that go to the nodes by content; empty: they read the
	// scene in its place.
	Bundle      string `json:"bundle,omitempty"`
	BundleBytes int64  `json:"bundle_bytes,omitempty"` // of all its files
	// BundleBefore is the bundle of the job's run before, and BundleNew how many bytes
	// a node lacks that has all of it; empty where there was none.
	BundleBefore string `json:"bundle_before,omitempty"`
	BundleNew    int64  `json:"bundle_new,omitempty"`
	// SceneText is a small scene that goes to the nodes with each lease; empty
	// for scenes that they read in their place.
	SceneText string `json:"scene_text,omitempty"`
	// Origin is where the scene of a bundle lay when it was sent: a path inside the scene place,
	// or a whole one outside it, as its machine spells it. Empty: where Scene says.
	Origin string `json:"origin,omitempty"`
}

// Name is how people call the run, and type it: "salt_010/final-2".
func (s Spec) Name() string { return s.Job + "/" + string(s.Kind) + "-" + strconv.Itoa(s.Number) }

// Delivery is a frame whose picture was accepted and is being published.
type Delivery struct {
	Lease   LeaseID
	Node    NodeID
	Hash    string // see FrameHash
	Bytes   int64
	Files   []File // of a frame with passes
	Suspect string // why somebody should look at it; empty: nothing was odd
	Since   time.Time
}

// Attempt is one failed try at a frame.
type Attempt struct {
	Lease   LeaseID   `json:"lease"`
	Launch  int       `json:"launch"`
	Node    NodeID    `json:"node"`
	Cause   string    `json:"cause"`
	Message string    `json:"message"`
	Counts  bool      `json:"counts"` // uses up one of the frame's tries
	Blame   Blame     `json:"blame"`
	At      time.Time `json:"at"`
}

// Blame says who is to blame for a try that failed, as it was seen when it did.
type Blame struct {
	Kind string  `json:"kind"` // see [blame.Kind]; empty: of tries from before it was judged
	Sure float64 `json:"sure"` // how likely that is, 0 to 1
}

// Trouble is what went wrong with one frame so far.
type Trouble struct {
	Attempts []Attempt
	Accepted []string // hashes once accepted whose delivery was lost
}

// Tried returns how many of the frame's tries are used up.
func (t *Trouble) Tried() int {
	n := 0
	for _, a := range t.Attempts {
		if a.Counts {
			n++
		}
	}
	return n
}

// Last returns the newest try that failed on a node, or with node 0 on any; nil: none has.
func (t *Trouble) Last(node NodeID) *Attempt {
	if t == nil {
		return nil
	}
	for i := len(t.Attempts) - 1; i >= 0; i-- {
		if a := &t.Attempts[i]; node == 0 || a.Node == node {
			return a
		}
	}
	return nil
}

// FailedOn reports whether the frame has failed on the node.
func (t *Trouble) FailedOn(n NodeID) bool {
	return t != nil && slices.ContainsFunc(t.Attempts, func(a Attempt) bool { return a.Node == n })
}

// Run is one rendering of a job. Each of its frames is in exactly one place:
// in ToDo, in Later, in one open lease, in Delivering, in Done or in Parked. A
// frame that is raced for is in two open leases.
type Run struct {
	ID     RunID
	Spec   Spec
	State  RunState
	Reason string // why it is in this state
	Held   HeldFor
	// SHA-256 of the scene that was found while it is held as that has changed, and of the
	// one that somebody has said to go on with; empty: of none
	FoundScene, TakenScene string
	Order                  int64 // of submission; lower comes first
	Terms                  Terms // as they are now
	SubmittedAt            time.Time
	StartedAt              time.Time // zero before the first lease
	ReleasedAt             time.Time // when it was last held and released; zero: never
	LookedAt               time.Time // when somebody had done with its parked frames; zero: nobody has with all
	EndedAt                time.Time // zero while open

	ToDo       frames.Set
	Later      frames.Set // that wait for the same frames of other runs
	Done       frames.Set
	Parked     frames.Set
	Redo       frames.Set // that were done, and whose pictures new ones shall replace
	Delivering map[int]Delivery
	Stitched   bool // the picture of a tiled still is put together
	// parked frames that somebody has given up, by note and in the order of notes
	Skipped []Skip
	// frames that are done and somebody should look at, and why; nil: none
	Suspect map[int]string
	Trouble map[int]*Trouble
	// Short is the memory in bytes of the largest node on which a frame was short of it, also of
	// frames that are done since.
	Short  map[int]int64
	Leases map[LeaseID]*Lease // open and ended ones, until the run closes

	dealt           int            // frames on open leases
	races           int            // open leases that race
	on              map[NodeID]int // open leases by node
	Changed         int64          // sequence number of the last Record that changed it
	Checkpoint      int64          // sequence number up to which Done is kept as a whole
	SinceCheckpoint int            // frames done since then

	text  string   // of Spec.Frames
	open  []*Lease // those of Leases that have not ended, by their ids
	needs trait.Expression
}

// FramesText returns the frames of the run, as
// frames.Set.Text prints them.
func (r *Run) FramesText() string { return r.text }

// Needs returns what a node must be to take part.
func (r *Run) Needs() trait.Expression { return r.needs }

// OpenLeases yields the leases of the run that have not ended, by their ids, once
// the run is part of a State. Those that end or are opened meanwhile do no harm.
func (r *Run) OpenLeases(yield func(*Lease) bool) {
	for _, l := range r.open {
		if !yield(l) {
			return
		}
	}
}

// openAt returns where an open lease is or would be.
func (r *Run) openAt(id LeaseID) (int, bool) {
	return slices.BinarySearchFunc(r.open, id, func(l *Lease, id LeaseID) int { return cmp.Compare(l.ID, id) })
}

// OpenCount returns how many leases of the run have not ended.
func (r *Run) OpenCount() int { return len(r.open) }

// Dealt returns the frames that are out on open leases.
func (r *Run) Dealt() frames.Set {
	var spans []frames.Span
	for l := range r.OpenLeases {
		spans = slices.AppendSeq(spans, l.Left.Spans())
	}
	return frames.Of(spans...)
}

// DealtCount returns how many frames are out on open leases.
func (r *Run) DealtCount() int { return r.dealt }

// elsewhere reports whether an open lease other than the given holds a frame.
func (r *Run) elsewhere(f int, than *Lease) bool {
	for l := range r.OpenLeases {
		if l != than && l.Left.Has(f) {
			return true
		}
	}
	return false
}

// Races returns how many open leases race for a frame of another.
func (r *Run) Races() int { return r.races }

// Raced reports whether two nodes render a frame side by side.
func (r *Run) Raced(f int) bool {
	if r.races == 0 {
		return false
	}
	held := 0
	for l := range r.OpenLeases {
		if l.Left.Has(f) {
			held++
		}
	}
	return held > 1
}

// Failing returns the frames that have failed and will be tried again.
func (r *Run) Failing() frames.Set {
	var spans []frames.Span
	for f, t := range r.Trouble {
		if len(t.Attempts) > 0 && !r.Done.Has(f) && !r.Parked.Has(f) {
			if _, delivering := r.Delivering[f]; !delivering {
				spans = append(spans, frames.Span{First: f, Last: f})
			}
		}
	}
	return frames.Of(spans...)
}

// Settled returns the closing state of a run in which nothing is left to do,
// and false while something is.
func (r *Run) Settled() (RunState, bool) {
	if !r.ToDo.Empty() || !r.Later.Empty() || len(r.Delivering) > 0 {
		return "", false
	}
	for l := range r.OpenLeases {
		if !l.Left.Empty() {
			return "", false
		}
	}
	switch {
	case r.Spec.Tiles != nil && !r.Stitched && r.Parked.Empty():
		return "", false
	case r.Parked.Empty():
		return RunDone, true
	case r.Done.Empty():
		return RunFailed, true
	default:
		return RunGaps, true
	}
}

// Lease is a chunk of a run given to one node.
type Lease struct {
	ID         LeaseID
	Node       NodeID
	Run        RunID
	Session    int64      // of the node when it was given
	Ask        int64      // the ask that it answers
	Given      frames.Set // all frames it ever held
	Left       frames.Set // those without a result
	Share      Share      // of the node
	Race       bool       // its frame is in flight on another node, too
	Superseded bool       // another node finished its last frame first: it may stop at once
	Reason     string
	OpenedAt   time.Time
	EndedAt    time.Time // zero while open
}

// Open reports whether the lease has not ended.
func (l *Lease) Open() bool { return l.EndedAt.IsZero() }

var jobName = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9_.-]{0,79}$`)

// CheckJobName returns an error for a name that no job may have; it becomes a
// folder and the beginning of file names.
func CheckJobName(name string) error {
	if !jobName.MatchString(name) {
		return fmt.Errorf(
			"a job cannot be called %q: use up to 80 letters of A to Z, digits, dots, hyphens and underscores, such "+
				"as salt_010",
			name,
		)
	}
	return nil
}

// Working counts the nodes that work on the run.
func (r *Run) Working() int {
	return len(r.on)
}

// LeasesOn returns how many open leases of the run a node has.
func (r *Run) LeasesOn(n NodeID) int { return r.on[n] }

// Resumes returns the state in which a run goes on that waits for nothing any more.
func (r *Run) Resumes() RunState {
	if r.StartedAt.IsZero() {
		return RunQueued
	}
	return RunRendering
}

// Deals reports whether the run has frames that could be dealt.
func (r *Run) Deals() bool {
	return !r.ToDo.Empty() && (r.State == RunQueued || r.State == RunRendering)
}

// Begun reports whether some frame of the run is done or on a node, so that others have
// to be of the same kind.
func (r *Run) Begun() bool { return r.dealt > 0 || !r.Done.Empty() || len(r.Delivering) > 0 }

// Scene returns the state of the scene that the run is rendered from, by a SHA-256: see
// Spec.Pin and Spec.SceneSHA. It is empty where it is not known.
func (r *Run) Scene() string { return cmp.Or(r.TakenScene, r.Spec.Pin, r.Spec.SceneSHA) }
