package wire

import "time"

// Errand is something that a node does once for somebody who waits for the answer. It
// belongs to no lease. One of its kinds is set.
type Errand struct {
	ID  int64       `json:"id"`
	Try *RecipeTask `json:"try,omitempty"`
	// Render is a frame of a run that is rendered by hand.
	Render *RenderTask `json:"render,omitempty"`
	Look   *LookTask   `json:"look,omitempty"`

	Check *CheckTask `json:"check,omitempty"`
	Probe *ProbeTask `json:"probe,omitempty"`
}

// ProbeTask lets a node look for the renderers of all recipes again.
type ProbeTask struct{}

// Probed lists the renderers that a node found.
type Probed struct {
	Renderers []Renderer `json:"renderers"`
}

// RecipeTask lets a node render frames by a recipe that is only tried: nothing of it is
// delivered.
type RecipeTask struct {
	Recipe         string            `json:"recipe"`     // its text
	SceneRoot      string            `json:"scene_root"` // path on the node
	Scene          string            `json:"scene"`      // inside scene_root, with slashes
	Frames         string            `json:"frames"`     // some in a row
	Shot           string            `json:"shot"`       // all frames of the animation; empty: as the scene says
	Width          int               `json:"width"`      // 0: as the scene says, or a small picture
	Height         int               `json:"height"`
	Values         map[string]string `json:"values,omitempty"` // settings of the recipe
	Passes         []string          `json:"passes,omitempty"`
	LaunchSettings LaunchValues      `json:"launch_settings"`
}

// RenderTask lets a node render frames of a run just as on a lease. Nothing of it is
// delivered or counts as a try.
type RenderTask struct {
	Recipe string `json:"recipe"` // its text
	Lease  Lease  `json:"lease"`  // of no number
}

// LookTask lets a node look at a scene whose place the service does not see.
type LookTask struct {
	Recipe    string   `json:"recipe"`         // its text
	SceneRoot string   `json:"scene_root"`     // path on the node
	Scene     string   `json:"scene"`          // inside scene_root, with slashes
	With      []string `json:"with,omitempty"` // files that it needs besides those that are found in it
	// Bundle is where the scene is, instead of in scene_root; the node gets it first.
	Bundle string `json:"bundle,omitempty"`
}

// Looked is what a node has seen of a scene.
type Looked struct {
	Scene   string            `json:"scene_sha256"`
	Pin     string            `json:"pin"`  // of the scene with all that it needs; empty where it is not known
	Why     string            `json:"why"`  // why it is not
	File    string            `json:"file"` // that says what follows
	Range   string            `json:"range"`
	Values  map[string]string `json:"values,omitempty"`
	Width   int               `json:"width"`
	Height  int               `json:"height"`
	Cameras []string          `json:"cameras,omitzero"`
	Layers  []string          `json:"layers,omitzero"`
	Inputs  []string          `json:"inputs,omitempty"`
	Missing []string          `json:"missing,omitempty"` // files that it needs and that are not there
	Outside []string          `json:"outside,omitempty"` // and that lie outside the place
	Gaps    []string          `json:"gaps,omitempty"`    // simulation caches that are there in part, as sentences
}

// ErrandTold says how far an errand is, or what came of it.
type ErrandTold struct {
	Session int64    `json:"session"`
	ID      int64    `json:"id"`
	Done    bool     `json:"done"`
	Error   string   `json:"error,omitempty"` // why it could not be done
	Trial   *Trial   `json:"trial,omitempty"`
	Looked  *Looked  `json:"looked,omitempty"`
	Checked *Checked `json:"checked,omitempty"`
	Probed  *Probed  `json:"probed,omitempty"`
}

// ErrandNoted answers ErrandTold.
type ErrandNoted struct {
	Wanted bool `json:"wanted"` // somebody still waits for it
}

// Trial is what came of a recipe that was tried, so far.
type Trial struct {
	Lines   []TrialLine  `json:"lines"` // what the renderer was launched with and said, in order
	Frames  []TrialFrame `json:"frames"`
	Notes   []string     `json:"notes"` // what the recipe reads, or could, and no line has told
	Width   int          `json:"width"`
	Height  int          `json:"height"`
	Picture []byte       `json:"picture,omitempty"` // of the first good frame, as JPEG
}

// TrialLine is a line that a renderer said.
type TrialLine struct {
	Text    string `json:"text"`
	Meaning string `json:"meaning"` // how it was understood; empty: not at all
	Launch  bool   `json:"launch"`  // it is what the renderer was launched with
}

// TrialFrame is what came of one frame of a trial.
type TrialFrame struct {
	Frame          int      `json:"frame"`
	Good           bool     `json:"good"`
	Bytes          int64    `json:"bytes"`
	StartupSeconds float64  `json:"startup_seconds"` // of the launch, with its first frame
	RenderSeconds  float64  `json:"render_seconds"`
	Passes         []string `json:"passes"`  // that were left beside the picture
	Layers         []string `json:"layers"`  // that stand in an OpenEXR picture
	Warning        string   `json:"warning"` // that makes it suspect
	Cause          string   `json:"cause"`   // of a failure
	Message        string   `json:"message"`
}

// TryRecipe asks for a trial of a recipe.
type TryRecipe struct {
	Text    string            `json:"text"` // of the recipe
	Project string            `json:"project"`
	Scene   string            `json:"scene"`            // in the project's scene place
	Node    string            `json:"node,omitempty"`   // empty: one that has nothing to do, if there is one
	Frames  string            `json:"frames,omitempty"` // such as 1 or 1-3; empty: the first
	Shot    string            `json:"shot,omitempty"`
	Width   int               `json:"width,omitempty"` // 0: as the scene says
	Height  int               `json:"height,omitempty"`
	Values  map[string]string `json:"values,omitempty"`
	Passes  []string          `json:"passes,omitempty"`
}

// RenderByHand asks for a frame of a run to be rendered again as on a lease, with nothing of
// it delivered.
type RenderByHand struct {
	Node string `json:"node,omitempty"` // its name; empty: where the frame failed last
}

// The states of a RecipeTrial.
const (
	TrialWaits  = "waits" // for its node
	TrialRuns   = "runs"
	TrialDone   = "done"   // all frames are good
	TrialFailed = "failed" // a frame is not, or nothing could be tried
)

// RecipeTrial is a trial of a recipe, or of a frame of a run, on a node.
type RecipeTrial struct {
	ID        string    `json:"id"`
	Recipe    string    `json:"recipe"`
	Node      string    `json:"node"`
	State     string    `json:"state"`
	StartedAt time.Time `json:"started_at"`
	Error     string    `json:"error"` // why it could not be tried
	Trial
}
