package wire

// TroubleGroup are failed tries that have something in common, and that nobody has asked to be
// tried again.
type TroubleGroup struct {
	Key      string         `json:"key"`      // the cause, or the name of the node, the recipe or the run
	Sentence string         `json:"sentence"` // what failed, and what has become of it
	Remedy   string         `json:"remedy"`   // what to do about the cause; empty where there are several
	Tries    int            `json:"tries"`    // that failed
	Frames   int            `json:"frames"`
	Done     int            `json:"done"` // frames that are rendered since
	Parked   int            `json:"parked"`
	Runs     []TroubleRun   `json:"runs"`  // those with the most frames first
	Nodes    []TroubleNode  `json:"nodes"` // those with the most tries first
	Causes   []TroubleCause `json:"causes"`
	Blame    Blame          `json:"blame"`
	Last     Attempt        `json:"last"` // the newest
	LastRun  int64          `json:"last_run"`
}

// Blame is who most likely is to blame.
type Blame struct {
	Kind string  `json:"kind"` // frame, node, device, run, place, licence, renderer or chance; empty: not judged
	Who  string  `json:"who"`  // in words
	Sure float64 `json:"sure"` // 0 to 1
	Text string  `json:"text"` // how sure it is: very likely, 98 %
}

// NodeTrouble is what failed on a node, beside what came of the same frames on others.
type NodeTrouble struct {
	Sentence string            `json:"sentence"` // how it went elsewhere; empty: nothing has failed
	Frames   []NodeFrameFailed `json:"frames"`   // what failed last first
	More     int               `json:"more"`     // frames that are not listed
}

// NodeFrameFailed is a frame that failed on a node.
type NodeFrameFailed struct {
	Run       int64     `json:"run"`
	RunName   string    `json:"run_name"`
	Frame     int       `json:"frame"`
	Tries     []Attempt `json:"tries"`     // on the node that failed, the newest last
	Elsewhere []Attempt `json:"elsewhere"` // on other nodes that failed, the newest last
	GoodOn    string    `json:"good_on"`   // the node where it came out well; empty: none that is known
	Done      bool      `json:"done"`
	Blame     Blame     `json:"blame"` // as it is seen now
}

// TroubleRun is what failed of a run.
type TroubleRun struct {
	Run    int64  `json:"run"`
	Name   string `json:"name"`
	Frames string `json:"frames"` // that failed
	Parked string `json:"parked"` // of these
}

// TroubleNode is how many tries failed on a node.
type TroubleNode struct {
	Node  int64  `json:"node"`
	Name  string `json:"name"`
	Tries int    `json:"tries"`
}

// TroubleCause is how many tries failed by a cause.
type TroubleCause struct {
	Cause string `json:"cause"`
	Tries int    `json:"tries"`
}

// Retrying asks for parked frames to be tried again: of the runs that are named, or of all that
// the asker may steer; of these those of which a try failed by the cause and on the node.
type Retrying struct {
	Runs   []int64 `json:"runs,omitempty"`
	Frames string  `json:"frames,omitempty"` // of the one run
	Cause  string  `json:"cause,omitempty"`
	Node   string  `json:"node,omitempty"` // by name
	DryRun bool    `json:"dry_run,omitempty"`
}

// Retried are parked frames that are tried again, or would be.
type Retried struct {
	DryRun bool         `json:"dry_run"`
	Runs   []RunRetried `json:"runs"`
	Frames int          `json:"frames"` // in all
}

// RunRetried are those of a run.
type RunRetried struct {
	Run    int64  `json:"run"`
	Name   string `json:"name"`
	Frames string `json:"frames"`
	Count  int    `json:"count"`
}

// FramesAct is what a person decides about frames of a run.
type FramesAct struct {
	// skip: give frames up that are parked or not on a node; accept: frames that are suspect
	// are as they shall be
	Do     string `json:"do"`
	Frames string `json:"frames"` // a range; empty: all that are parked, or suspect
	Note   string `json:"note,omitempty"`
	DryRun bool   `json:"dry_run,omitempty"`
}

// FramesActed answers a FramesAct.
type FramesActed struct {
	Name   string `json:"name"` // of the run
	Frames string `json:"frames"`
	Count  int    `json:"count"`
	DryRun bool   `json:"dry_run"`
}
