package wire

import "time"

// Selection names nodes: by number, by an expression over traits, or the
// members of a pool. Several of these must all hold.
type Selection struct {
	Nodes []int64 `json:"nodes,omitempty"`
	Where string  `json:"where,omitempty"`
	Pool  string  `json:"pool,omitempty"`
}

// NodeAct asks to do something with nodes.
type NodeAct struct {
	Selection
	Do     string `json:"do"`            // hold, release, drain, sideline, give-back, restart, retire or revoke
	Now    bool   `json:"now,omitempty"` // frames in flight do not finish
	Reason string `json:"reason,omitempty"`
	DryRun bool   `json:"dry_run,omitempty"` // only tell what would happen
}

// NodeEffect is what an act or a change means for one node.
type NodeEffect struct {
	Node     int64  `json:"node"`
	Name     string `json:"name"`
	Changes  bool   `json:"changes"`
	Sentence string `json:"sentence"`
}

// NodesActed answers an act on nodes, or a change of their settings.
type NodesActed struct {
	DryRun   bool         `json:"dry_run"`
	Sentence string       `json:"sentence"` // about all of them
	Lost     int          `json:"lost"`     // frames in flight that are thrown away
	Effects  []NodeEffect `json:"effects"`
	// Undo takes the act back, see NodeUndo; empty: it cannot be undone.
	Undo string `json:"undo,omitempty"`
}

// NodeUndo asks to restore exactly the states that nodes had before an act.
type NodeUndo struct {
	Undo string `json:"undo"` // of NodesActed
}

// NodeChange asks to change the settings of nodes. What is left out stays.
type NodeChange struct {
	Selection
	AddTraits  []string   `json:"add_traits,omitempty"`
	DropTraits []string   `json:"drop_traits,omitempty"`
	AddPools   []string   `json:"add_pools,omitempty"`
	DropPools  []string   `json:"drop_pools,omitempty"`
	Caps       *CapChange `json:"caps,omitempty"`
	Hours      *Hours     `json:"hours,omitempty"`
	Always     bool       `json:"always,omitempty"` // no hours: always on duty
	Permit     []string   `json:"permit,omitempty"` // by an administrator: account=NAME, group=NAME
	Forbid     []string   `json:"forbid,omitempty"`
	From       int64      `json:"from,omitempty"`  // node whose settings they get
	Parts      []string   `json:"parts,omitempty"` // of these: traits, pools, caps, hours
	DryRun     bool       `json:"dry_run,omitempty"`
}

// CapChange changes caps; what is null stays.
type CapChange struct {
	Cores        *int      `json:"cores,omitempty"`
	MemoryBytes  *int64    `json:"memory_bytes,omitempty"`
	Nice         *int      `json:"nice,omitempty"`
	StagingBytes *int64    `json:"staging_bytes,omitempty"`
	Leases       *int      `json:"leases,omitempty"`
	SpareBytes   *int64    `json:"spare_bytes,omitempty"`
	KeptDevices  *[]string `json:"kept_devices,omitempty"`
}

// NodeSettings is what wranglers decide about a node.
type NodeSettings struct {
	Version int64    `json:"version"`
	Traits  []string `json:"traits"` // given
	Pools   []string `json:"pools"`
	Caps    Caps     `json:"caps"`
	Hours   *Hours   `json:"hours"` // null: always on duty
	// Permits is what an administrator has allowed renderers there, as account=NAME and
	// group=NAME.
	Permits []string `json:"permits"`
}

// Caps is the farm's share of a machine; 0 is all.
type Caps struct {
	Cores        int      `json:"cores"`
	MemoryBytes  int64    `json:"memory_bytes"`
	Nice         int      `json:"nice"`
	StagingBytes int64    `json:"staging_bytes"`
	Leases       int      `json:"leases"`       // side by side; 0: as many as fit
	SpareBytes   int64    `json:"spare_bytes"`  // of memory, which stay free when leases run side by side; 0: as usual
	KeptDevices  []string `json:"kept_devices"` // graphics devices that the farm may not use
}

// Hours are duty hours.
type Hours struct {
	Zone       string          `json:"zone"`       // IANA name
	Week       string          `json:"week"`       // such as "mon-fri 18:00-08:00; sat,sun 00:00-24:00"
	Exceptions []HourException `json:"exceptions"` // by date
}

// HourException replaces the windows that begin on one date.
type HourException struct {
	Date    string `json:"date"`    // 2031-03-04
	Windows string `json:"windows"` // such as "12:00-14:00,20:00-24:00"; empty: none
	Note    string `json:"note"`
}

// NodeVersion is one version of a node's settings.
type NodeVersion struct {
	Version int64     `json:"version"`
	Actor   string    `json:"actor"`
	Reason  string    `json:"reason"` // what is different
	At      time.Time `json:"at"`
}

// Trait is one thing that is true of a node.
type Trait struct {
	Name   string `json:"name"`
	Value  string `json:"value"`
	Source string `json:"source"` // measured, given or assigned
}

// Device is a graphics device.
type Device struct {
	ID     string `json:"id"`
	Model  string `json:"model"`
	Memory int64  `json:"memory_bytes"`
	Aside  string `json:"aside"` // why the farm has set it aside; empty: it has not
}

// Picked answers which nodes an expression picks.
type Picked struct {
	Nodes   []int64  `json:"nodes"`
	Unknown []string `json:"unknown"` // traits in the expression that no node has
}

// Pool is a named set of nodes.
type Pool struct {
	Name     string   `json:"name"`
	Projects []string `json:"projects"` // that may use it; all when empty
	Alone    bool     `json:"alone"`    // its nodes exchange no pieces of bundles with others
	Nodes    []string `json:"nodes"`
}

// LaunchSettings are the account, group, file mask and variables that renderers
// are launched with: for a project, a recipe, both, or all when neither is
// named. What is empty is not set; for one launch the later of farm, recipe,
// project, and both wins.
type LaunchSettings struct {
	For       string            `json:"for"` // what they are for, in words
	Project   string            `json:"project"`
	Recipe    string            `json:"recipe"`
	Account   string            `json:"account"` // on the nodes
	Group     string            `json:"group"`
	Mask      string            `json:"mask"`      // octal: permissions that new files do not get, such as 002
	Variables map[string]string `json:"variables"` // values may hold the placeholders of recipes
	Etag      string            `json:"etag"`      // for If-Match
}

// LaunchSettingsChange changes what is set for a project, a recipe, both, or all
// when neither is named. What is left out stays; what is empty is taken back.
type LaunchSettingsChange struct {
	Project   string             `json:"project"`
	Recipe    string             `json:"recipe"`
	Account   *string            `json:"account,omitempty"`
	Group     *string            `json:"group,omitempty"`
	Mask      *string            `json:"mask,omitempty"`
	Variables map[string]*string `json:"variables,omitempty"` // null takes one back
}

// PinMark separates an enrolment key from the pin of the service that made it.
const PinMark = "."

// Means says how a node can hold renderers to what they are given.
type Means struct {
	Account string `json:"account"` // whom the node process runs as
	// RendersAs is the account that renderers get when nobody names one.
	RendersAs string `json:"renders_as"`
	// Permits is what the machine's administrator allows beyond that, as account=NAME and group=NAME.
	Permits  []string `json:"permits"`
	Switches bool     `json:"switches"` // it can start renderers as others
	Memory   string   `json:"memory"`   // by what memory is limited: control group, resource limit, job object or told
	Pins     bool     `json:"pins"`     // renderers are held to their cores
}

// Stay holds a place, a recipe or a pool as a whole, or releases it: at once, or
// in steps.
type Stay struct {
	Kind string `json:"kind"` // place, recipe or pool
	Name string `json:"name"`
	Held bool   `json:"held"`
	// of a release in steps: nodes that may begin at once, and again after each
	Step         int        `json:"step,omitempty"`
	EverySeconds int        `json:"every_seconds,omitempty"` // between steps
	Reason       string     `json:"reason,omitempty"`
	DryRun       bool       `json:"dry_run,omitempty"` // only tell what would happen
	By           string     `json:"by,omitempty"`      // of what is held; not asked for
	At           *time.Time `json:"at,omitempty"`      // the same
}

// StayDone answers Stay.
type StayDone struct {
	DryRun   bool   `json:"dry_run"`
	Changes  bool   `json:"changes"`
	Sentence string `json:"sentence"`
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
	Trial       *time.Time   `json:"trial"` // from when on it may render a trial frame, if it is sidelined; null: not by itself
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
	DiskRate    int64       `json:"disk_rate"`
	NetworkRate int64       `json:"network_rate"` // bytes a second to the service
	Places      []PlaceSeen `json:"places"`       // what it sees of the places of projects
	Works       []Work      `json:"works"`        // what it does now, side by side
	Processor   float64     `json:"processor"`    // part of all cores in use, 0 to 1
	MemoryUsed  float64     `json:"memory_used"`
	Changed     int64       `json:"changed"`
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
	Unfit   string `json:"unfit,omitempty"`   // why it cannot be used; empty: it can
	Failed  bool   `json:"failed,omitempty"`  // its probe failed, and is repeated
	Printed string `json:"printed,omitempty"` // what the probe printed, shortened, where it cannot be used
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
	Phase       string    `json:"phase"`        // fetching, starting, rendering, verifying or delivering
	Detail      string    `json:"detail"`       // of the phase, in words; may be empty
	Checking    string    `json:"checking"`     // what a check that takes long is at, in words; may be empty
	Fraction    float64   `json:"fraction"`
	Since       time.Time `json:"since"`
}
