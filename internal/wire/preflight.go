package wire

import "time"

// Questions that a preflight asks of each node, in order.
const (
	AskReach    = "there"    // it answers, and may have work
	AskScene    = "scene"    // it reads the scene and its files, of the same content
	AskOutput   = "output"   // it writes, links and removes a file where frames go
	AskRenderer = "renderer" // it starts it, and the version will do
	AskPlugins  = "plug-ins" // the files that the recipe names are there
	AskAccount  = "account"  // renderers can run as they are to
	AskLicence  = "licence"  // one is free, or will be
	AskMemory   = "memory"   // what a launch needs
	AskDisk     = "disk"     // where frames are staged
	AskDevices  = "devices"  // graphics devices
	AskClock    = "clock"    // it agrees with the service's
	AskFrame    = "frame"    // one small frame is rendered
)

// PreflightQuestions are all of them.
func PreflightQuestions() []string {
	return []string{
		AskReach, AskScene, AskOutput, AskRenderer, AskPlugins, AskAccount, AskLicence, AskMemory, AskDisk, AskDevices,
		AskClock, AskFrame,
	}
}

// CheckTask lets a node look whether it could really render something.
type CheckTask struct {
	Recipe         string       `json:"recipe"`          // its text
	SceneRoot      string       `json:"scene_root"`      // path on the node; empty: it has none there
	Scene          string       `json:"scene,omitempty"` // inside it; empty: nothing is read there
	With           []string     `json:"with,omitempty"`
	SHA            string       `json:"sha,omitempty"` // of the scene, as it is meant; empty: any
	Pin            string       `json:"pin,omitempty"` // of all that it needs
	OutputRoot     string       `json:"output_root"`   // path on the node; empty: frames go to the service
	Mark           string       `json:"mark,omitempty"`
	LaunchSettings LaunchValues `json:"launch_settings"`
	DiskBytes      int64        `json:"disk_bytes"`      // that have to be free where frames are staged
	Frame          *RecipeTask  `json:"frame,omitempty"` // one small frame to render; nil: none
}

// Checked is what a node has found.
type Checked struct {
	Answers []PreflightAnswer `json:"answers"`
	Now     time.Time         `json:"now"` // by the clock of the node
}

// PreflightAnswer is what is known of one question for one node.
type PreflightAnswer struct {
	Question string `json:"question"`
	Passes   bool   `json:"passes"`
	Skipped  bool   `json:"skipped"` // it was not asked, as another answer says enough
	Says     string `json:"says"`    // what was found, in a few words or a sentence
	Remedy   string `json:"remedy"`  // what would make it pass; empty: nothing is to be done
}

// Preflighting asks which nodes could really render something.
type Preflighting struct {
	Submit *Submit  `json:"submit,omitempty"` // what would be submitted
	Text   string   `json:"text,omitempty"`   // or of a job file, all runs of which read the same
	Proof  bool     `json:"proof,omitempty"`  // of the file: of its proof
	Run    int64    `json:"run,omitempty"`    // or a run that is in the queue
	Frame  bool     `json:"frame,omitempty"`  // render one small frame on each node as well
	Nodes  []string `json:"nodes,omitempty"`  // only these; all that may take part when left out
}

// Preflight is a matrix of nodes and questions.
type Preflight struct {
	Name      string          `json:"name"`      // of the run, or what it would be called
	Questions []string        `json:"questions"` // that were asked, in order
	Nodes     []PreflightNode `json:"nodes"`     // those that fail first
	Passing   int             `json:"passing"`
	Failing   int             `json:"failing"`
	Left      int             `json:"left"` // nodes of a large farm that were not asked
	Seconds   float64         `json:"seconds"`
}

// PreflightNode is a row of it.
type PreflightNode struct {
	ID      int64             `json:"id"`
	Name    string            `json:"name"`
	Passes  bool              `json:"passes"`
	Answers []PreflightAnswer `json:"answers"` // as many as there are questions
}
