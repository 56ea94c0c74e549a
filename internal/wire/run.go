package wire

import (
	"strings"
	"time"
)

// FrameSets are the frames of a run by state, each as a frame range. Where they are
// very many stretches they are told by blocks of several frames: all of a block
// stand where the state that matters most in it is named.
type FrameSets struct {
	Block      int    `json:"block"` // 1: frame by frame
	ToDo       string `json:"to_do"`
	Dealt      string `json:"dealt"`
	Rendering  string `json:"rendering"`
	Verifying  string `json:"verifying"`
	Delivering string `json:"delivering"`
	Done       string `json:"done"`
	Suspect    string `json:"suspect"` // done, and somebody should look at them
	Failed     string `json:"failed"`
	Parked     string `json:"parked"`
	Skipped    string `json:"skipped"` // given up by somebody
}

// FrameState is where a frame of a run stands.
type FrameState string

// FrameStates are the states of frames, the worst first: where one word has to do
// for several frames, it is the first of theirs. The console has the same list.
func FrameStates() []FrameState {
	return []FrameState{
		"parked", "failed", "suspect", "rendering", "verifying", "delivering", "dealt", "to do", "skipped", "done",
	}
}

// Of returns the frames in a state, as a frame range.
func (s *FrameSets) Of(state FrameState) *string {
	switch state {
	case "parked":
		return &s.Parked
	case "skipped":
		return &s.Skipped
	case "failed":
		return &s.Failed
	case "suspect":
		return &s.Suspect
	case "rendering":
		return &s.Rendering
	case "verifying":
		return &s.Verifying
	case "delivering":
		return &s.Delivering
	case "dealt":
		return &s.Dealt
	case "to do":
		return &s.ToDo
	}
	return &s.Done
}

// Run is one rendering of a job.
type Run struct {
	ID      int64  `json:"id"`
	Name    string `json:"name"`
	Job     string `json:"job"`
	Kind    string `json:"kind"`
	Number  int    `json:"number"`
	Project string `json:"project"`
	State   string `json:"state"`
	Why     string `json:"why"`
	// HeldFor is why the farm itself holds it: changed, failing or step; empty: it does not.
	HeldFor string `json:"held_for"`
	Recipe  string `json:"recipe"`
	// of the recipe, which the run keeps; 0: submitted before there were versions
	RecipeVersion int               `json:"recipe_version"`
	Renderer      string            `json:"renderer"` // version that its frames come from; empty: any, as none is begun
	Bundle        string            `json:"bundle"`   // with which it was submitted; empty: the scene is in its place
	Scene         string            `json:"scene"`
	Output        string            `json:"output"` // folder in the project's frame place
	Width         int               `json:"width"`
	Height        int               `json:"height"`
	Values        map[string]string `json:"values"`
	Needs         string            `json:"needs"`    // what a node must be: an expression over traits
	Priority      string            `json:"priority"` // urgent, high, normal, low or filler
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
	HoldAfter   int            `json:"hold_after"` // frames that may fail before it is held; 0: as the farm judges
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
	// why frames that are done should be looked at
	Suspects []FrameSuspect `json:"suspects"`
	Tiles    *RunTiles      `json:"tiles"`     // null: of no still that is rendered in tiles
	Preset   *RunPreset     `json:"preset"`    // nil: none
	HasFinal bool           `json:"has_final"` // a proof whose final can be submitted as it was asked for
	Movie    bool           `json:"movie"`     // each of its frames is a movie
	// what nodes have answered that were asked by themselves whether they can render it; null:
	// they were not
	Preflight *RunPreflight `json:"preflight"`
	After     []RunAfter    `json:"after"` // runs that it waits for, or has waited for
	From      int64         `json:"from"`  // run whose frames it reads; 0: none
	Changed   int64         `json:"changed"`
}

// RunTiles are the parts of a still, which are the frames of its run.
type RunTiles struct {
	Frame    int      `json:"frame"` // of the animation
	Rects    [][4]int `json:"rects"` // left, top, right and bottom in pixels; the first is frame 1 of the run
	Overlap  int      `json:"overlap"`
	Stitched bool     `json:"stitched"` // the picture is put together
	File     string   `json:"file"`     // of the picture, in the output folder
}

// RunPreset says from which preset a run has its settings, and what it has otherwise.
type RunPreset struct {
	Name    string   `json:"name"`
	Version int      `json:"version"`
	Changed []string `json:"changed"` // fields, and values.name
}

// RunAfter is a run that another waits for.
type RunAfter struct {
	Run    int64  `json:"run"`
	Name   string `json:"name"`
	Frames bool   `json:"frames"` // each frame waits for the same frame alone
}

// FrameTrouble is a frame that has failed and has no good picture yet.
type FrameTrouble struct {
	Skipped bool      `json:"skipped"` // somebody has given it up
	Note    string    `json:"note"`    // why
	Frame   int       `json:"frame"`
	Parked  bool      `json:"parked"`
	Tried   int       `json:"tried"`
	Failed  []Attempt `json:"failed"`
}

// Attempt is a try at a frame that failed.
type Attempt struct {
	Node    string    `json:"node"`
	NodeID  int64     `json:"node_id"`
	Lease   int64     `json:"lease"`
	Cause   string    `json:"cause"`
	Message string    `json:"message"`
	Blame   Blame     `json:"blame"` // as it was seen when it failed
	At      time.Time `json:"at"`
}

// Forecast says when a run will be finished.
type Forecast struct {
	Known  bool       `json:"known"`
	Median *time.Time `json:"median"`
	Late   *time.Time `json:"late"` // nine of ten are finished by then
	Why    string     `json:"why"`
}

// Submit asks for a run.
type Submit struct {
	// Job is a name of its own for the job; after its scene when left out, with its folders
	// before it where another scene has that name.
	Job     string `json:"job,omitempty"`
	Project string `json:"project"`
	// Variant tells runs apart that come of one thing, such as one of each camera: it stands
	// behind the name of the job, and is a folder below its output.
	Variant []string `json:"variant,omitempty"`
	Kind    string   `json:"kind,omitempty"` // proof, final (default) or correction
	// of a bundle that was sent before, in which the scene is; empty: the scene place
	Bundle string `json:"bundle,omitempty"`
	// Origin is the whole path of the scene of a bundle on the machine that sends it: it tells
	// scenes of the same name apart.
	Origin string `json:"origin,omitempty"`
	Recipe string `json:"recipe,omitempty"` // by the scene's ending when left out
	Scene  string `json:"scene,omitempty"`  // inside the project's scene place; of a recipe that reads one
	// files or patterns of files in the scene place that the scene needs, besides those that
	// are found in it
	With   []string `json:"with,omitempty"`
	Frames string   `json:"frames,omitempty"` // the whole shot when left out
	// one frame in so many of these, spread over them
	Every int `json:"every,omitempty"`
	// all frames of the animation, such as 1-180; as the job or the scene says when left out
	Shot   string `json:"shot,omitempty"`
	Width  int    `json:"width,omitempty"`  // 1920 when left out
	Height int    `json:"height,omitempty"` // 1080 when left out
	// part of that size, such as 0.5
	Scale float64 `json:"scale,omitempty"`
	// name of the preset of the project that says what is not said here; none for none;
	// the person's own choice when left out
	Preset string `json:"preset,omitempty"`
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
	// HoldAfter is how many frames may fail before the run is held; as the farm judges when left out.
	HoldAfter int  `json:"hold_after,omitempty"`
	Chunk     int  `json:"chunk,omitempty"` // frames a lease; chosen by the dealer when left out
	Held      bool `json:"held,omitempty"`
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
	// After are runs that it waits for.
	After []SubmitAfter `json:"after,omitempty"`
	// From is the run whose frames it reads, and that it waits for.
	From string `json:"from,omitempty"`
	// Tiles divide a still over nodes: a grid such as 4x3, tiles of a size such as 512x512px, or
	// by-speed. Overlap is by how many pixels they are rendered beyond their own; DropTiles
	// removes their files once the picture is put together.
	Tiles     string `json:"tiles,omitempty"`
	Overlap   int    `json:"overlap,omitempty"`
	DropTiles bool   `json:"drop_tiles,omitempty"`
	// OneByOne makes a run of each of several frames that are rendered in tiles, each waiting for
	// the one before; the answer is that of the last.
	OneByOne bool `json:"one_by_one,omitempty"`
	// Preflight asks each node first, and submits to those that pass, if at least so many do.
	Preflight int `json:"preflight,omitempty"`
	// Missing leaves out frames that the job's newest run of the kind has, and that are there
	// and whole.
	Missing bool `json:"missing,omitempty"`
	// Proof asks for the proof of what is described here: some frames, smaller, as the preset
	// says; ProofScale is its part of the size.
	Proof      bool    `json:"proof,omitempty"`
	ProofScale float64 `json:"proof_scale,omitempty"`
	DryRun     bool    `json:"dry_run,omitempty"` // check all, and answer with the receipt that would come
}

// SubmitAfter is a run that a submitted one waits for.
type SubmitAfter struct {
	Run    string `json:"run"`              // by its name
	Frames bool   `json:"frames,omitempty"` // each frame waits for the same frame alone
}

// Redo names frames that are rendered again: those of a range, and all that fit what else is
// said.
type Redo struct {
	Frames  string `json:"frames,omitempty"`
	Suspect bool   `json:"suspect,omitempty"` // that are suspect
	Node    string `json:"node,omitempty"`    // that this node has rendered
	Missing bool   `json:"missing,omitempty"` // whose files are not there any more, or not whole
	DryRun  bool   `json:"dry_run,omitempty"` // only say which those are
}

// Redone says which frames are rendered again, or would be.
type Redone struct {
	DryRun bool   `json:"dry_run"`
	Frames string `json:"frames"` // empty: none
	Count  int    `json:"count"`
	Run    Run    `json:"run"`
}

// RunChange changes what may be changed of a run while it renders. What is
// left out stays.
type RunChange struct {
	Priority *string `json:"priority,omitempty"`
	Ceiling  *string `json:"ceiling,omitempty"`  // empty: none
	Due      *string `json:"due,omitempty"`      // as RFC 3339 writes it; empty: none
	Renderer *string `json:"renderer,omitempty"` // version that frames come from; empty: any
	// What further leases take of a node, and what a node must be for them.
	Cores       *int    `json:"cores,omitempty"`        // 0: the whole node
	MemoryBytes *int64  `json:"memory_bytes,omitempty"` // 0: no limit
	Needs       *string `json:"needs,omitempty"`        // an expression over traits; empty: none
	Put         *string `json:"put,omitempty"`          // inside its priority: first, last, or back into its turn
	Before      *int64  `json:"before,omitempty"`       // just before this run of the same priority
	Now         bool    `json:"now,omitempty"`          // stop frames in flight of less urgent runs for it
	DryRun      bool    `json:"dry_run,omitempty"`      // only tell what would happen
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

// RunMoves reports by how much a run is finished later.
type RunMoves struct {
	Run     int64   `json:"run"`
	Name    string  `json:"name"`
	Seconds float64 `json:"seconds"` // below 0: earlier
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

// RunDifferences say how a run differs from what another was submitted with.
type RunDifferences struct {
	Name        string          `json:"name"`
	From        int64           `json:"from"` // the other
	FromName    string          `json:"from_name"`
	Differences []RunDifference `json:"differences"`
}

// RunDifference is one of them. Times in it are in RFC 3339.
type RunDifference struct {
	What  string `json:"what"`
	Was   string `json:"was"` // empty: nothing
	Is    string `json:"is"`
	Value bool   `json:"value"` // what is the name of a setting of the recipe
}

// Receipt answers a submit.
type Receipt struct {
	Run        int64    `json:"run"` // 0 where nothing was submitted
	DryRun     bool     `json:"dry_run"`
	Name       string   `json:"name"`
	Frames     string   `json:"frames"`
	FrameCount int      `json:"frame_count"`
	Tiles      int      `json:"tiles"`  // into which its one frame is divided; 0: it is rendered whole
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
	Files          []Output  `json:"files"`         // picture and passes; they stand there together or not at all
	FetchedBytes   int64     `json:"fetched_bytes"` // of a bundle, before the launch; with its first frame
	FetchedSeconds float64   `json:"fetched_seconds"`
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

// FrameSuspect says why somebody should look at a frame that is done.
type FrameSuspect struct {
	Frame int    `json:"frame"`
	Why   string `json:"why"`
}

// SubmitJobs asks for the runs of a job file, all of them or none.
type SubmitJobs struct {
	Text   string `json:"text"`              // of the job file: YAML or JSON by its schema
	Proof  bool   `json:"proof,omitempty"`   // of each job its proof
	DryRun bool   `json:"dry_run,omitempty"` // check all, and answer with the receipts that would come
}

// JobsSubmitted answers the submit of a job file.
type JobsSubmitted struct {
	DryRun     bool      `json:"dry_run"`
	FrameCount int       `json:"frame_count"` // of all
	Receipts   []Receipt `json:"receipts"`    // each behind those that it waits for
}

// Mending says that the scene of a run was mended: the run goes on with it as it is now.
type Mending struct {
	Redo   bool `json:"redo,omitempty"`    // render again what is done, too
	DryRun bool `json:"dry_run,omitempty"` // only say what would happen
}

// Mended is what follows from a mended scene.
type Mended struct {
	Run     Run      `json:"run"`
	DryRun  bool     `json:"dry_run"`
	Changed []string `json:"changed"` // files that have changed, as far as it is known
	// frames that are done, of the scene as it was
	Old      string `json:"old"`
	OldCount int    `json:"old_count"`
	Redone   bool   `json:"redone"` // they are rendered again
	// parked frames that are tried again
	Again      string   `json:"again"`
	AgainCount int      `json:"again_count"`
	Sentences  []string `json:"sentences"` // the same for people
}

// SubmitFinal asks for the final of a proof.
type SubmitFinal struct {
	DryRun bool `json:"dry_run,omitempty"` // check all, and answer with the receipt that would come
}

// Estimating asks for an estimate: of one run, or of the runs of a job file.
type Estimating struct {
	Submit *Submit `json:"submit,omitempty"`
	Text   string  `json:"text,omitempty"`  // of a job file
	Proof  bool    `json:"proof,omitempty"` // of each job of the file its proof
}

// Estimate says when runs would be finished that are not submitted yet, and what they take.
type Estimate struct {
	Known        bool            `json:"known"`
	Basis        string          `json:"basis"`  // on what it rests, or why nothing can be said, as a sentence
	Median       *time.Time      `json:"median"` // finish of the last of them
	Late         *time.Time      `json:"late"`   // nine of ten are finished by then
	MachineHours float64         `json:"machine_hours"`
	EnergyKWh    float64         `json:"energy_kwh"` // 0: no rate says what machines take
	Money        float64         `json:"money"`      // 0: no rate says what machines cost
	Currency     string          `json:"currency"`   // as ISO 4217 has it
	Nodes        int             `json:"nodes"`      // that would take part
	Sentence     string          `json:"sentence"`   // whether more nodes help; may be empty
	Curve        []EstimatePoint `json:"curve"`      // finish by number of nodes; of one run alone
}

// EstimatePoint is when a run would be finished with so many nodes at most.
type EstimatePoint struct {
	Nodes   int     `json:"nodes"`
	Seconds float64 `json:"seconds"` // from now
}
