package wire

import "time"

// MinSpeed and MaxSpeed are between which the speed index of a node lies, where
// it is known.
const (
	MinSpeed = 0.001
	MaxSpeed = 10_000.0
)

// Facts is what a node process reports about its machine.
type Facts struct {
	OS          string     `json:"os"`
	System      string     `json:"system"`
	Arch        string     `json:"arch"`
	Cores       int        `json:"cores"`
	Memory      int64      `json:"memory_bytes"`
	Disk        int64      `json:"disk_bytes"`
	Speed       float64    `json:"speed"`
	Version     string     `json:"version"`
	Renderers   []Renderer `json:"renderers"`
	Devices     []Device   `json:"devices,omitempty"` // graphics devices
	Means       *Means     `json:"means,omitempty"`
	DiskRate    int64      `json:"disk_rate,omitempty"`    // bytes a second that staging takes, measured when it joined
	NetworkRate int64      `json:"network_rate,omitempty"` // bytes a second to the service, in the same way
}

// Enrol asks to become a node.
type Enrol struct {
	Key   string `json:"key"`
	Name  string `json:"name"`
	Kind  string `json:"kind"` // rack or desk
	Facts Facts  `json:"facts"`
}

// Enrolled answers Enrol.
type Enrolled struct {
	Node  int64  `json:"node"`
	Name  string `json:"name"`
	Token string `json:"token"`
}

// Start opens a session of a node process. It names all leases that the node
// still holds something of; what is not named is dealt to others.
type Start struct {
	Facts   Facts  `json:"facts"`
	Holding []Held `json:"holding,omitempty"`
	// Mishap reports that the system has killed the node process before this one for
	// want of memory.
	Mishap *Mishap `json:"mishap,omitempty"`
}

// Mishap is the end of a node process for want of memory.
type Mishap struct {
	At          time.Time `json:"at"`           // when the process told for the last time, by the node's clock
	Sure        bool      `json:"sure"`         // the system names the process
	Lease       int64     `json:"lease"`        // of all the one that had the most memory then; 0: none
	MemoryBytes int64     `json:"memory_bytes"` // that it had
}

// Held is a lease that a node holds something of.
type Held struct {
	Lease int64  `json:"lease"`
	Life  string `json:"life"` // of the farm that gave it
}

// Started answers Start.
type Started struct {
	Node    int64    `json:"node"`
	Name    string   `json:"name"`
	Session int64    `json:"session"`
	Life    string   `json:"life"` // of this farm
	Keep    []Kept   `json:"keep"` // leases that go on; the others that were named are over
	Caps    NodeCaps `json:"caps"`
}

// Kept is a lease that goes on in a new session.
type Kept struct {
	Lease  int64  `json:"lease"`
	Frames string `json:"frames"` // without a result
}

// Ask asks for work and waits for it. The same Number in a session gets the
// same lease, however often it is asked.
type Ask struct {
	Session int64 `json:"session"`
	Number  int64 `json:"number"`
	// lease that could go on: its renderer is still up, or each frame is a launch
	Warm    int64   `json:"warm,omitempty"`
	Ended   []Ended `json:"ended,omitempty"` // leases that have ended just before
	Memory  *Memory `json:"memory,omitempty"`
	Seconds int     `json:"seconds"` // to wait at most
}

// Memory is what a node measures of its main memory.
type Memory struct {
	Free int64       `json:"free_bytes"` // that new processes could have
	Used []LeaseUsed `json:"used,omitempty"`
}

// LeaseUsed is what the processes of a lease have of main memory.
type LeaseUsed struct {
	Lease int64 `json:"lease"`
	Bytes int64 `json:"bytes"`
}

// Ended reports, together with an ask, that all renderers of a lease are gone.
type Ended struct {
	Lease   int64  `json:"lease"`
	Message string `json:"message"`
}

// Answer answers Ask. Without a lease there is nothing to do now.
type Answer struct {
	Leases []Lease `json:"leases"`
	More   bool    `json:"more"`  // a further lease may fit beside these: the node may ask at once
	Again  bool    `json:"again"` // another copy of the ask has taken its place: ask again under the same number
	Why    string  `json:"why"`
}

// Share is what a lease owns of its node until it has ended.
type Share struct {
	// numbers of logical processors, such as 0-3,6; empty: all that the farm may use, and no other lease runs beside
	Cores       string   `json:"cores"`
	MemoryBytes int64    `json:"memory_bytes"` // 0: not bounded
	Devices     []string `json:"devices"`      // ids of graphics devices
}

// Lease is frames to render with all that is needed to do it.
type Lease struct {
	ID             int64        `json:"id"`
	Run            int64        `json:"run"`
	RunName        string       `json:"run_name"`
	Recipe         string       `json:"recipe"`         // its name
	RecipeVersion  int          `json:"recipe_version"` // a node that does not know it reads the recipes again
	Frames         string       `json:"frames"`
	Share          Share        `json:"share"`
	LaunchSettings LaunchValues `json:"launch_settings"`
	ShotFirst      int          `json:"shot_first"` // of the whole animation
	ShotLast       int          `json:"shot_last"`
	Scene          string       `json:"scene"`      // inside scene_root, with slashes
	SceneRoot      string       `json:"scene_root"` // path on the node
	// of a scene that comes with the lease instead of lying there
	SceneText string `json:"scene_text,omitempty"`
	Bundle    string `json:"bundle,omitempty"`       // in which the scene is; the node gets what it lacks of it
	SceneSHA  string `json:"scene_sha256,omitempty"` // of the scene in its place; another is not rendered
	// Pin is the state of the scene with all that it needs; where it is set it counts
	// instead of the scene alone.
	Pin        string   `json:"pin,omitempty"`
	With       []string `json:"with,omitempty"` // files that it needs besides those that are found in it
	Output     string   `json:"output"`         // folder inside output_root, with slashes
	OutputRoot string   `json:"output_root"`    // path on the node
	// file in output_root without which that is not the place
	OutputMark string      `json:"output_mark,omitempty"`
	FilePrefix string      `json:"file_prefix"` // of frame files, before the number
	FileEnding string      `json:"file_ending"` // behind it
	Passes     []LeasePass `json:"passes,omitempty"`
	Tiles      *LeaseTiles `json:"tiles,omitempty"` // of a still whose frames are its tiles
	From       *LeaseFrom  `json:"from,omitempty"`  // whose frames it reads
	Stall      float64     `json:"stall_seconds"`   // for which its renderer may give no sign of life
	// StallHard says that the job or the recipe has set that: it holds even for a renderer
	// that computes.
	StallHard bool              `json:"stall_hard,omitempty"`
	Digits    int               `json:"digits"` // least digits of the number
	Width     int               `json:"width"`
	Height    int               `json:"height"`
	Values    map[string]string `json:"values"`
}

// LeaseTiles are the parts of a still.
type LeaseTiles struct {
	Frame int      `json:"frame"` // of the animation
	Rects [][4]int `json:"rects"` // left, top, right and bottom of what is rendered; the first is frame 1 of the run
}

// LeaseFrom is a run whose frames a lease reads.
type LeaseFrom struct {
	Folder     string `json:"folder"`      // path on the node
	FilePrefix string `json:"file_prefix"` // of frame files in it, before the number, with slashes
	FileEnding string `json:"file_ending"`
	Digits     int    `json:"digits"`
	Frames     string `json:"frames"` // that the run has
}

// Checkpoint is a file from which the renderer of a lease can go on.
type Checkpoint struct {
	Frame *int   `json:"frame"` // the last that it is behind; null: there is none
	Hash  string `json:"hash,omitempty"`
	Bytes int64  `json:"bytes,omitempty"`
	Name  string `json:"name,omitempty"` // in the output folder, with slashes
}

// LaunchValues are the account, group, file mask and variables that the renderers
// of a lease are launched with. What is empty is not set.
type LaunchValues struct {
	Account   string            `json:"account,omitempty"`
	Group     string            `json:"group,omitempty"`
	Mask      string            `json:"mask,omitempty"`
	Variables map[string]string `json:"variables,omitempty"`
}

// LeasePass is a file that belongs to every frame beside the picture. It goes
// into a folder of that name in the output folder.
type LeasePass struct {
	Name       string `json:"name"`
	FilePrefix string `json:"file_prefix"`
	FileEnding string `json:"file_ending"`
	// in the output folder; that of its name when left out
	Folder *string `json:"folder,omitempty"`
}

// Beat reports that a node lives and what it does.
type Beat struct {
	Session    int64      `json:"session"`
	Leases     []Progress `json:"leases"`
	Processor  float64    `json:"processor"`                   // 0 to 1
	Memory     float64    `json:"memory_used"`                 // 0 to 1
	MemoryFree *int64     `json:"memory_free_bytes,omitempty"` // that new processes could have
	Now        *time.Time `json:"now,omitempty"`               // by the node's clock
	DiskFree   *int64     `json:"disk_free_bytes,omitempty"`   // where frames are staged
	DiskTotal  int64      `json:"disk_total_bytes,omitempty"`
	SwapUsed   int64      `json:"swap_used_bytes,omitempty"`
	Sample     *Sample    `json:"sample,omitempty"` // every five seconds
}

// Progress is how far a lease is.
type Progress struct {
	Lease       int64   `json:"lease"`
	Frame       *int    `json:"frame"`
	Phase       string  `json:"phase"`
	Fraction    float64 `json:"fraction"`
	Verifying   []int   `json:"verifying,omitempty"`
	Detail      string  `json:"detail,omitempty"`       // of the phase, in words
	Checking    string  `json:"checking,omitempty"`     // what a check that takes long is at, in words
	Trouble     string  `json:"trouble,omitempty"`      // why frames wait to be delivered
	Full        string  `json:"full,omitempty"`         // why no further frame is begun now
	MemoryBytes int64   `json:"memory_bytes,omitempty"` // that the lease's processes have
}

// Orders asks which leases shall end, and waits until there is one.
type Orders struct {
	Session int64   `json:"session"`
	Leases  []int64 `json:"leases"`            // that the node works on
	Caps    int64   `json:"caps"`              // version of the caps that are in force on the node
	Seconds int     `json:"seconds"`           // to wait at most
	Recipes string  `json:"recipes"`           // mark of those that it knows; empty: it does not say
	Errands []int64 `json:"errands,omitempty"` // that it is at
	Places  string  `json:"places,omitempty"`  // mark of those that it has looked at; empty: it does not look
}

// RecipeMarks says of a recipe that nodes get which version it is.
type RecipeMarks struct {
	Version int  `json:"version"`
	Newest  bool `json:"newest"` // nodes look for its renderer; others are for runs that go on
}

// Found says which renderers a node has found in a session that goes on.
type Found struct {
	Session   int64      `json:"session"`
	Renderers []Renderer `json:"renderers"`
	Speed     float64    `json:"speed,omitempty"` // index measured again; 0: as before
}

// Ordered answers Orders.
type Ordered struct {
	Stop    []Stop    `json:"stop"`
	Trim    []Trim    `json:"trim,omitempty"`
	Caps    *NodeCaps `json:"caps,omitempty"`    // newer ones than the node has
	Restart bool      `json:"restart,omitempty"` // the node process is to restart
	Recipes string    `json:"recipes,omitempty"` // mark of other recipes than it knows: it reads them again
	Errands []Errand  `json:"errands,omitempty"` // that it does not know yet
	Places  string    `json:"places,omitempty"`  // mark of others than it has looked at: it reads them again
}

// NodePlaces are the places that a node is to look at.
type NodePlaces struct {
	Mark   string      `json:"mark"`
	Places []NodePlace `json:"places"`
}

// NodePlace is a place as a node knows it.
type NodePlace struct {
	Name   string `json:"name"`
	Path   string `json:"path"`   // on the node; empty: it has none on its system
	Reads  bool   `json:"reads"`  // scenes are read there
	Writes bool   `json:"writes"` // frames are put there
}

// PlacesSeen says what a node sees of the places that it was to look at.
type PlacesSeen struct {
	Session int64       `json:"session"`
	Places  []PlaceSeen `json:"places"`
}

// PlaceSeen is what a node sees of one place.
type PlaceSeen struct {
	Name      string `json:"name"`
	Reads     bool   `json:"reads"`
	Writes    bool   `json:"writes"`
	Why       string `json:"why"`        // why it cannot do all that it is wanted for; empty: it can
	ReadRate  int64  `json:"read_rate"`  // bytes a second, about; 0: not known
	WriteRate int64  `json:"write_rate"` // the same
}

// NodeCaps are the caps of a node at a version of its settings.
type NodeCaps struct {
	Version int64 `json:"version"`
	Caps
}

// Trim asks a node which of the last frames of a lease it can give back.
type Trim struct {
	ID     int64  `json:"id"`
	Lease  int64  `json:"lease"`
	Frames string `json:"frames"` // wanted back
}

// Trimmed answers Trim. Asked again, a node answers the same.
type Trimmed struct {
	Session int64  `json:"session"`
	ID      int64  `json:"id"`
	Lease   int64  `json:"lease"`
	Frames  string `json:"frames"` // given back; no renderer has begun them or will; may be empty
}

// Stop tells a node to end a lease and all its processes.
type Stop struct {
	Lease  int64  `json:"lease"`
	Now    bool   `json:"now"` // at once; otherwise when the frame in flight is finished
	Reason string `json:"reason"`
}

// Outcomes of a ReportItem.
const (
	OutcomeGood      = "good"      // the frame is verified and can be delivered
	OutcomeDelivered = "delivered" // the accepted frame stands in its place
	OutcomeFailed    = "failed"    // the try failed
	OutcomeEnded     = "ended"     // the lease's processes are gone
)

// ReportItem says what became of a frame or a lease.
type ReportItem struct {
	Outcome        string  `json:"outcome"`
	Lease          int64   `json:"lease"`
	Launch         int     `json:"launch"`
	Frame          int     `json:"frame"`
	Hash           string  `json:"hash,omitempty"`  // of a frame with passes that of the list of its files
	Bytes          int64   `json:"bytes,omitempty"` // of all its files
	Files          []File  `json:"files,omitempty"` // of a frame with passes
	StartupSeconds float64 `json:"startup_seconds,omitempty"`
	FetchedBytes   int64   `json:"fetched_bytes,omitempty"` // of a bundle, before the launch
	FetchedSeconds float64 `json:"fetched_seconds,omitempty"`
	RenderSeconds  float64 `json:"render_seconds,omitempty"`
	CheckSeconds   float64 `json:"check_seconds,omitempty"`
	MemoryBytes    int64   `json:"memory_bytes,omitempty"` // most that the launch had so far
	Cause          string  `json:"cause,omitempty"`
	Message        string  `json:"message,omitempty"`
	Warning        string  `json:"warning,omitempty"` // that makes a good frame suspect
	Scene          string  `json:"scene,omitempty"`   // SHA-256 of a scene that has changed
}

// File is one of the files that make a frame.
type File struct {
	Pass  string `json:"pass"` // "" is the picture itself
	Hash  string `json:"hash"` // SHA-256 in hexadecimal
	Bytes int64  `json:"bytes"`
}

// Report is what became of frames, in order.
type Report struct {
	Session int64        `json:"session"`
	Items   []ReportItem `json:"items"`
}

// Verdicts on a ReportItem.
const (
	VerdictDeliver = "deliver" // publish it, then report it delivered
	VerdictNoted   = "noted"   // nothing more to do
	VerdictDiscard = "discard" // the frame is no longer wanted
)

// Verdict answers a ReportItem.
type Verdict struct {
	Verdict string   `json:"verdict"`
	Why     string   `json:"why"`
	Replace bool     `json:"replace,omitempty"` // another picture may stand in the frame's place: it is set aside
	Adopt   []string `json:"adopt,omitempty"`   // hashes that may already stand in the frame's place
}

// Reported answers Report, item by item.
type Reported struct {
	Verdicts []Verdict `json:"verdicts"`
}

// Uploaded says how much of a file that is sent in pieces is there, or that
// the whole frame stands in its place.
type Uploaded struct {
	Have     int64     `json:"have"`               // bytes; the next piece begins here
	Standing *Standing `json:"standing,omitempty"` // what stands in its place
}

// Standing is what stands in the place of a frame.
type Standing struct {
	Hash  string `json:"hash"`
	Bytes int64  `json:"bytes"`
	Files []File `json:"files,omitempty"` // of a frame with passes
}

// Leave reports that a node process ends.
type Leave struct {
	Session int64  `json:"session"`
	Reason  string `json:"reason"`
}
