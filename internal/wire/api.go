// Package wire holds the shapes that cross the network: what people and
// pipelines send and get under /api/v1, and what nodes send and get under
// /node/v1. It has no behaviour.
package wire

import (
	"strings"
	"time"
)

// Problem is an error as RFC 9457 has it.
type Problem struct {
	Type   string `json:"type"`
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail"`          // one sentence for a person: what, why, what to do
	Field  string `json:"field,omitempty"` // the part of the request that is at fault
}

// Error makes a Problem an error for clients.
func (p *Problem) Error() string { return p.Detail }

// SignIn asks for a session.
type SignIn struct {
	Name     string `json:"name"`
	Password string `json:"password"`
	// Keep asks for a token for the command line instead of a cookie.
	Label   string `json:"label,omitempty"`
	Seconds int    `json:"seconds,omitempty"` // it is good for so long; 14 days when left out, 90 with a label
}

// NewPassword changes the password of who asks.
type NewPassword struct {
	Old string `json:"old"`
	New string `json:"new"`
}

// Token speaks for a person.
type Token struct {
	ID        string     `json:"id"`
	Kind      string     `json:"kind"` // session (a browser) or access (a command line or pipeline)
	Person    string     `json:"person"`
	Label     string     `json:"label"`
	CreatedAt time.Time  `json:"created_at"`
	ExpiresAt *time.Time `json:"expires_at"`
	UsedAt    *time.Time `json:"used_at"` // null: not since this is noted
	This      bool       `json:"this"`    // with which it was asked
}

// Me is who is asking.
type Me struct {
	Name  string `json:"name"`
	Role  string `json:"role"`
	Token string `json:"token,omitempty"` // shown once, when an access token was asked for
}

// Farm is the whole farm at one moment.
type Farm struct {
	Seq      int64      `json:"seq"` // of the last change that is in it
	Now      time.Time  `json:"now"`
	Facts    FarmFacts  `json:"facts"`
	Runs     []Run      `json:"runs"`  // in the order of the queue, ended ones last
	Nodes    []Node     `json:"nodes"` // racks first, then desks, each by name
	Projects []Project  `json:"projects"`
	Hands    []NeedHand `json:"needs_a_hand"`
}

// FarmFacts is the line at the top of the page.
type FarmFacts struct {
	NodesRendering int        `json:"nodes_rendering"`
	NodesOnline    int        `json:"nodes_online"`
	FramesAnHour   int        `json:"frames_an_hour"`
	NextFinish     *time.Time `json:"next_finish"`
	Active         Active     `json:"active"`
}

// Active is the service that keeps the farm going.
type Active struct {
	Name  string    `json:"name"`
	Epoch int64     `json:"epoch"` // grows whenever another service becomes active, or the same one again
	Since time.Time `json:"since"`
	Why   string    `json:"why"` // it is active, in a sentence
}

// Member is a service that shares the farm's database.
type Member struct {
	Name    string    `json:"name"`
	Address string    `json:"address"`
	Version string    `json:"version"`
	Active  bool      `json:"active"`
	SeenAt  time.Time `json:"seen_at"`
}

// NeedHand is something that wants a person.
type NeedHand struct {
	// parked, failed, failing, nobody (can take it), sidelined, place (that is away), delivery, full, held,
	// at risk, scouts, silent or hush (many silent together)
	Kind     string `json:"kind"`
	Sentence string `json:"sentence"`
	Evidence string `json:"evidence"`
	Run      int64  `json:"run,omitempty"`
	Node     int64  `json:"node,omitempty"`
	// the place, recipe or pool that it is about, if it is about one
	Subject *Subject `json:"subject,omitempty"`
	Action  string   `json:"action"` // retry, release, look at run or look at node
}

// Subject names a place, a recipe or a pool.
type Subject struct {
	Kind string `json:"kind"` // place, recipe or pool
	Name string `json:"name"`
}

// FrameSets are the frames of a run by state, each as a frame range. Where they are
// very many stretches they are told by blocks of so many frames: all of a block
// stand where the state that matters most in it is named.
type FrameSets struct {
	Block      int    `json:"block"` // 1: frame by frame
	ToDo       string `json:"to_do"`
	Dealt      string `json:"dealt"`
	Rendering  string `json:"rendering"`
	Verifying  string `json:"verifying"`
	Delivering string `json:"delivering"`
	Done       string `json:"done"`
	Failed     string `json:"failed"`
	Parked     string `json:"parked"`
}

// Run is one rendering of a job.
type Run struct {
	ID       int64             `json:"id"`
	Name     string            `json:"name"`
	Job      string            `json:"job"`
	Kind     string            `json:"kind"`
	Number   int               `json:"number"`
	Project  string            `json:"project"`
	State    string            `json:"state"`
	Why      string            `json:"why"`
	Recipe   string            `json:"recipe"`
	Scene    string            `json:"scene"`
	Output   string            `json:"output"` // folder in the project's frame place
	Width    int               `json:"width"`
	Height   int               `json:"height"`
	Values   map[string]string `json:"values"`
	Needs    string            `json:"needs"`    // what a node must be: an expression over traits
	Priority string            `json:"priority"` // urgent, high, normal, low or filler
	// the most nodes at once: a number or a percentage; empty: none
	Ceiling string     `json:"ceiling"`
	Due     *time.Time `json:"due"`     // when it must be ready
	AtRisk  bool       `json:"at_risk"` // forecast to miss that
	// order of its frames: forward, reverse or scouts; empty: the dealer chooses
	Sequence string `json:"sequence"`
	Scouts   string `json:"scouts"` // frames that go first
	// where it was put inside its priority: before 0 first, 0 in its turn
	Put   int64   `json:"put"`
	Takes Amounts `json:"takes"` // of a node, by one lease
	// the account, group, file mask and variables of its renderers
	LaunchSettings LaunchValues `json:"launch_settings"`
	// most that a launch is expected to grow to, as was measured; 0: not known
	MemoryPeak  int64          `json:"memory_peak_bytes"`
	Passes      []string       `json:"passes"` // written beside the picture
	Tries       int            `json:"tries"`
	Owner       string         `json:"owner"`
	Frames      string         `json:"frames"`
	Shot        string         `json:"shot"`     // all frames of the animation
	ShotWhy     string         `json:"shot_why"` // how that came about, in a sentence; may be empty
	FrameCount  int            `json:"frame_count"`
	DoneCount   int            `json:"done_count"`
	ParkedCount int            `json:"parked_count"`
	Sets        FrameSets      `json:"sets"`
	Nodes       []string       `json:"nodes"`     // that render it now
	InFlight    int            `json:"in_flight"` // frames that are begun, and have no result yet
	Newest      *int           `json:"newest"`
	NewestAt    *time.Time     `json:"newest_at"`
	SubmittedAt time.Time      `json:"submitted_at"`
	StartedAt   *time.Time     `json:"started_at"`
	EndedAt     *time.Time     `json:"ended_at"`
	Forecast    Forecast       `json:"forecast"`
	Troubles    []FrameTrouble `json:"troubles"`
	Changed     int64          `json:"changed"`
}

// FrameTrouble is a frame that has failed and has no good picture yet.
type FrameTrouble struct {
	Frame  int       `json:"frame"`
	Parked bool      `json:"parked"`
	Tried  int       `json:"tried"`
	Failed []Attempt `json:"failed"`
}

// Attempt is a try at a frame that failed.
type Attempt struct {
	Node    string    `json:"node"`
	NodeID  int64     `json:"node_id"`
	Lease   int64     `json:"lease"`
	Cause   string    `json:"cause"`
	Message string    `json:"message"`
	At      time.Time `json:"at"`
}

// Forecast says when a run will be finished.
type Forecast struct {
	Known  bool       `json:"known"`
	Median *time.Time `json:"median"`
	Late   *time.Time `json:"late"` // nine of ten are finished by then
	Why    string     `json:"why"`
}

// Node is one machine that renders.
type Node struct {
	ID          int64        `json:"id"`
	Name        string       `json:"name"`
	Kind        string       `json:"kind"`
	State       string       `json:"state"` // the one that matters most
	Reach       string       `json:"reach"`
	Duty        string       `json:"duty"`
	Health      string       `json:"health"`
	Since       time.Time    `json:"since"` // of reach
	Why         string       `json:"why"`
	OS          string       `json:"os"`
	System      string       `json:"system"`
	Cores       int          `json:"cores"`
	Memory      int64        `json:"memory_bytes"`
	Disk        int64        `json:"disk_bytes"`
	Speed       float64      `json:"speed"`
	Version     string       `json:"version"`
	Renderers   []Renderer   `json:"renderers"`
	Devices     []Device     `json:"devices"` // graphics devices
	Traits      []Trait      `json:"traits"`
	Settings    NodeSettings `json:"settings"`
	OnHours     bool         `json:"on_hours"`     // inside its duty hours, where it has some
	HoursChange *time.Time   `json:"hours_change"` // when that changes
	EnrolledAt  *time.Time   `json:"enrolled_at"`  // null: announced, and not enrolled yet
	Retired     bool         `json:"retired"`
	OffUntil    *time.Time   `json:"off_until"` // given back by its owner until then
	Findings    []Finding    `json:"findings"`  // what is wrong with the machine
	Means       Means        `json:"means"`
	// bytes a second that staging takes, measured when it joined; 0: not measured
	DiskRate    int64   `json:"disk_rate"`
	NetworkRate int64   `json:"network_rate"` // bytes a second to the service
	Works       []Work  `json:"works"`        // what it does now, side by side
	Processor   float64 `json:"processor"`    // part of all cores in use, 0 to 1
	MemoryUsed  float64 `json:"memory_used"`
	Changed     int64   `json:"changed"`
}

// Finding is one thing that is wrong with a machine.
type Finding struct {
	Kind     string `json:"kind"` // memory, clock, disk, swap, restarts, version or renderers
	Sentence string `json:"sentence"`
	Remedy   string `json:"remedy"` // what to do
}

// Renderer is a renderer that a node has.
type Renderer struct {
	Recipe  string `json:"recipe"`
	Version string `json:"version"`
	Path    string `json:"path"`
}

// Work is a lease that a node works on now.
type Work struct {
	Run         int64     `json:"run"`
	RunName     string    `json:"run_name"`
	Lease       int64     `json:"lease"`
	Frames      string    `json:"frames"` // left on its lease
	Share       Share     `json:"share"`
	MemoryBytes int64     `json:"memory_bytes"` // that its processes have; 0: not measured
	Frame       *int      `json:"frame"`        // that it renders now
	Phase       string    `json:"phase"`        // starting, rendering, verifying or delivering
	Fraction    float64   `json:"fraction"`
	Since       time.Time `json:"since"`
}

// Submit asks for a run.
type Submit struct {
	Job     string `json:"job"`
	Project string `json:"project"`
	Kind    string `json:"kind,omitempty"`   // proof, final (default) or correction
	Recipe  string `json:"recipe,omitempty"` // by the scene's ending when left out
	Scene   string `json:"scene"`            // inside the project's scene place
	Frames  string `json:"frames"`
	// all frames of the animation, such as 1-180; as the job or the scene says when left out
	Shot   string `json:"shot,omitempty"`
	Width  int    `json:"width,omitempty"`  // 1920 when left out
	Height int    `json:"height,omitempty"` // 1080 when left out
	// folder in the project's frame place; the job's name when left out
	Output string            `json:"output,omitempty"`
	Values map[string]string `json:"values,omitempty"`
	Needs  string            `json:"needs,omitempty"` // what a node must be: an expression over traits
	// Priority is urgent (wranglers only), high, normal (default), low or filler.
	Priority string `json:"priority,omitempty"`
	// Ceiling is the most nodes at once: a number, or a percentage of those that
	// could take the run.
	Ceiling string   `json:"ceiling,omitempty"`
	Takes   *Amounts `json:"takes,omitempty"`  // of a node, by one lease; as the recipe says when left out
	Passes  []string `json:"passes,omitempty"` // to be written beside the picture
	Tries   int      `json:"tries,omitempty"`  // 3 when left out
	Chunk   int      `json:"chunk,omitempty"`  // frames a lease; chosen by the dealer when left out
	Held    bool     `json:"held,omitempty"`
	// Stall is for how many seconds a renderer may give no sign of life; as its
	// frames are expected to take when left out.
	Stall float64 `json:"stall_seconds,omitempty"`
	Due   string  `json:"due,omitempty"` // when it must be ready, as RFC 3339 writes it
	// Sequence is the order of frames: forward, reverse, or scouts (a few spread
	// over the range first); chosen by the dealer when left out.
	Sequence string `json:"sequence,omitempty"`
	Wait     bool   `json:"wait,omitempty"` // for a person's yes when the scouts are rendered
	// StartOn is how many nodes begin until the first frame is verified: 3 for a
	// scene that nobody has rendered yet when left out, and 0 for all at once.
	StartOn *int `json:"start_on,omitempty"`
	DryRun  bool `json:"dry_run,omitempty"` // check all, and answer with the receipt that would come
}

// Redo names frames that are rendered again.
type Redo struct {
	Frames string `json:"frames"`
}

// RunChange changes what may be changed of a run while it renders. What is
// left out stays.
type RunChange struct {
	Priority *string `json:"priority,omitempty"`
	Ceiling  *string `json:"ceiling,omitempty"` // empty: none
	Due      *string `json:"due,omitempty"`     // as RFC 3339 writes it; empty: none
	Put      *string `json:"put,omitempty"`     // inside its priority: first, last, or back into its turn
	Before   *int64  `json:"before,omitempty"`  // just before this run of the same priority
	Now      bool    `json:"now,omitempty"`     // stop frames in flight of less urgent runs for it
	DryRun   bool    `json:"dry_run,omitempty"` // only tell what would happen
}

// RunChanged says what a change of a run does.
type RunChanged struct {
	DryRun   bool     `json:"dry_run"`
	Changes  bool     `json:"changes"`
	Effects  []string `json:"effects"`  // what it does, each a part of a sentence
	Sentence string   `json:"sentence"` // all of that
	Stops    int      `json:"stops"`    // leases of other runs that are ended at once, with their frames in flight
	Run      Run      `json:"run"`
	// Before and After are when it is finished as things are, and with the change;
	// only where that was played, before a change.
	Before *Forecast  `json:"before,omitempty"`
	After  *Forecast  `json:"after,omitempty"`
	Others []RunMoves `json:"others"` // runs that are finished at another time, the most moved first
}

// Say adds to what a change does.
func (c *RunChanged) Say(effects ...string) {
	c.Effects = append(c.Effects, effects...)
	c.Sentence = strings.Join(c.Effects, "; ")
}

// RunMoves tells by how much a run is finished later.
type RunMoves struct {
	Run     int64   `json:"run"`
	Name    string  `json:"name"`
	Seconds float64 `json:"seconds"` // below 0: earlier
}

// Licence is a counted right to run a renderer.
type Licence struct {
	Name         string     `json:"name"`
	Count        *int       `json:"count"` // null: nobody counts it
	Used         int        `json:"used"`
	Lowered      *int       `json:"lowered"` // reckoned with for a while, as a renderer found none
	LoweredUntil *time.Time `json:"lowered_until"`
	Recipes      []string   `json:"recipes"` // that need it
}

// NewLicence counts a licence.
type NewLicence struct {
	Count *int `json:"count"` // null: it is counted no more
}

// Amounts is what one lease of a run takes of its node.
type Amounts struct {
	Cores       int   `json:"cores,omitempty"`        // 0: the whole node
	MemoryBytes int64 `json:"memory_bytes,omitempty"` // 0: it is not told
	Devices     int   `json:"devices,omitempty"`      // graphics devices
}

// Why is the reason for something, as one sentence.
type Why struct {
	Why string `json:"why"`
}

// Receipt answers a submit.
type Receipt struct {
	Run        int64    `json:"run"` // 0 where nothing was submitted
	DryRun     bool     `json:"dry_run"`
	Name       string   `json:"name"`
	Frames     string   `json:"frames"`
	FrameCount int      `json:"frame_count"`
	Output     string   `json:"output"` // whole path where the service runs
	State      string   `json:"state"`
	Shot       string   `json:"shot"`    // all frames of the animation
	Remarks    []string `json:"remarks"` // what the submitter should know, in sentences
	Sentence   string   `json:"sentence"`
	Forecast   Forecast `json:"forecast"`
	Nodes      int      `json:"nodes"` // that could render it now
}

// Result is a frame with a good picture.
type Result struct {
	Frame          int       `json:"frame"`
	State          string    `json:"state"` // delivering or done
	File           string    `json:"file"`  // name in the run's output folder
	Node           string    `json:"node"`
	Lease          int64     `json:"lease"`
	Launch         int       `json:"launch"`
	Hash           string    `json:"hash"`
	Bytes          int64     `json:"bytes"`
	Files          []Output  `json:"files"` // the picture and its passes; they stand there together or not at all
	StartupSeconds float64   `json:"startup_seconds"`
	RenderSeconds  float64   `json:"render_seconds"`
	CheckSeconds   float64   `json:"check_seconds"`
	At             time.Time `json:"at"`
	Seq            int64     `json:"seq"` // of the change that told it
}

// Timings tell who rendered each frame of a run and how long that took, as
// columns.
type Timings struct {
	Seq     int64     `json:"seq"`     // of the newest change that is in them
	Nodes   []string  `json:"nodes"`   // by name
	Frames  []int     `json:"frames"`  // that have a good picture
	Node    []int     `json:"node"`    // of each frame, as its place in nodes
	Seconds []float64 `json:"seconds"` // that rendering each took
}

// QueuePage is one page of the runs that a search finds.
type QueuePage struct {
	Total  int      `json:"total"` // runs that are found
	Page   int      `json:"page"`  // this one, from 1
	Pages  int      `json:"pages"` // at least 1
	Runs   []Run    `json:"runs"`
	Owners []string `json:"owners"` // of all runs there are
}

// Output is one file of a frame.
type Output struct {
	Pass  string `json:"pass"` // "" is the picture itself
	File  string `json:"file"` // in the run's output folder, with slashes
	Hash  string `json:"hash"` // SHA-256
	Bytes int64  `json:"bytes"`
}

// HistoryLine is one thing that happened to a run or node.
type HistoryLine struct {
	Seq    int64     `json:"seq"`
	At     time.Time `json:"at"`
	Kind   string    `json:"kind"`
	Node   string    `json:"node"`
	Reason string    `json:"reason"`
	Moved  string    `json:"moved"` // how it moved work from node to node: take-over or race; empty: not at all
}

// AuditLine tells who changed what.
type AuditLine struct {
	Seq     int64     `json:"seq"`
	At      time.Time `json:"at"`
	Actor   string    `json:"actor"`
	Action  string    `json:"action"`
	Subject string    `json:"subject"`
	Before  string    `json:"before"`
	After   string    `json:"after"`
}

// Place is a named storage root.
type Place struct {
	Name  string            `json:"name"`
	Paths map[string]string `json:"paths"` // by operating system: linux, darwin, windows
	Loads int               `json:"loads"` // launches that may load from it at the same moment; 0: any number
	// Mark is whether the folder holds the mark of the farm, where the service
	// runs: marked, not marked, not there, or not on this system.
	Mark   string `json:"mark"`
	Remark string `json:"remark,omitempty"` // of what was done just now, in a sentence
	Etag   string `json:"etag"`             // for If-Match
}

// PlaceChange makes a place or changes it. What is left out stays.
type PlaceChange struct {
	Paths map[string]string `json:"paths,omitempty"` // by operating system; an empty one is taken away
	Loads *int              `json:"loads,omitempty"`
}

// Project is a production.
type Project struct {
	Name   string  `json:"name"`
	Title  string  `json:"title"`
	Weight float64 `json:"weight"`
	Scenes string  `json:"scenes"` // place
	Frames string  `json:"frames"` // place
	Etag   string  `json:"etag"`   // for If-Match
}

// ProjectChange makes a project or changes it. What is left out stays.
type ProjectChange struct {
	Title  *string  `json:"title,omitempty"`
	Weight *float64 `json:"weight,omitempty"`
	Scenes string   `json:"scenes,omitempty"` // place
	Frames string   `json:"frames,omitempty"` // place
}

// Person is somebody who may sign in.
type Person struct {
	Name      string    `json:"name"`
	Role      string    `json:"role"`
	CreatedAt time.Time `json:"created_at"`
	Etag      string    `json:"etag"` // for If-Match
}

// PersonChange makes a person or changes one. What is left out stays; a new
// person without a role is an artist.
type PersonChange struct {
	Role     string `json:"role,omitempty"`
	Password string `json:"password,omitempty"` // of a new person made up and told when left out
}

// PersonMade answers PersonChange.
type PersonMade struct {
	Person
	Password string `json:"password,omitempty"` // shown once, if it was made up
}

// NewKey asks for an enrolment key.
type NewKey struct {
	Label   string   `json:"label,omitempty"`
	Seconds int      `json:"seconds,omitempty"` // it is good for so long; 1800 when left out
	Uses    int      `json:"uses,omitempty"`    // 1 when left out
	Pools   []string `json:"pools,omitempty"`   // that its nodes join
	Returns []string `json:"returns,omitempty"` // nodes that were shut out and may come back with it, under their names
}

// NewName gives a thing another name.
type NewName struct {
	Name string `json:"name"`
}

// NewPool makes a pool, or changes it.
type NewPool struct {
	Projects []string `json:"projects"` // that may use it; all when empty
}

// Key is an enrolment key.
type Key struct {
	ID        string    `json:"id"`            // to revoke it by
	Key       string    `json:"key,omitempty"` // shown once, when it is made
	Label     string    `json:"label"`
	CreatedBy string    `json:"created_by"`
	CreatedAt time.Time `json:"created_at"`
	ExpiresAt time.Time `json:"expires_at"`
	UsesLeft  int       `json:"uses_left"`
	Pools     []string  `json:"pools"`   // that its nodes join
	Returns   []string  `json:"returns"` // nodes that were shut out and may come back with it
	Revoked   bool      `json:"revoked"`
}

// Recipe is a recipe as people see it.
type Recipe struct {
	Name   string            `json:"name"`
	Title  string            `json:"title"`
	Mode   string            `json:"mode"`
	Scenes []string          `json:"scenes"`
	Values map[string]string `json:"values"` // defaults
	Nodes  int               `json:"nodes"`  // that have it
}

// Health is what /healthz and /readyz answer.
type Health struct {
	Service   string    `json:"service"` // always "vexillum"
	Version   string    `json:"version"`
	Part      string    `json:"part"` // active, stand-by, starting, or away (from the database)
	Name      string    `json:"name"`
	Active    string    `json:"active"` // name of the active service, if known
	Now       time.Time `json:"now"`
	NodesFrom string    `json:"nodes_from"` // oldest version of a node process that it works with
}

// Set stores what a change says of a value; nil says nothing.
func Set[T any](to *T, value *T) {
	if value != nil {
		*to = *value
	}
}

// List returns a list as it travels: one that is empty, not missing.
func List(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}
