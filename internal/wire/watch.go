package wire

import "time"

// Sample is what a machine measures of itself at one moment. Rates are bytes a
// second. What is not known is below 0.
type Sample struct {
	Processor   float64        `json:"processor"`        // part of all cores in use, 0 to 1
	Groups      []float64      `json:"groups,omitempty"` // the same of groups of cores, in order
	Memory      float64        `json:"memory"`           // bytes in use
	Swap        float64        `json:"swap"`             // bytes in use
	DiskFree    float64        `json:"disk_free"`        // bytes, where frames are staged
	DiskRead    float64        `json:"disk_read"`
	DiskWritten float64        `json:"disk_written"`
	Received    float64        `json:"received"` // over the network
	Sent        float64        `json:"sent"`
	Load        float64        `json:"load"`        // processes that want to run, over a minute
	Temperature float64        `json:"temperature"` // degrees Celsius of the processor
	Devices     []DeviceSample `json:"devices,omitempty"`
}

// DeviceSample is what is measured of a graphics device.
type DeviceSample struct {
	ID          string  `json:"id"`
	Busy        float64 `json:"busy"`        // 0 to 1
	Memory      float64 `json:"memory"`      // bytes in use
	Temperature float64 `json:"temperature"` // degrees Celsius
}

// Usage is what a node measured over a while: columns of equal length. Gaps
// are null.
type Usage struct {
	StepSeconds   int           `json:"step_seconds"`
	At            []int64       `json:"at"`        // seconds since 1970
	Processor     []*float64    `json:"processor"` // part of all cores, 0 to 1
	ProcessorMost []*float64    `json:"processor_most"`
	Groups        [][]*float64  `json:"groups"` // of processor, by groups of cores
	Memory        []*float64    `json:"memory"` // bytes
	MemoryMost    []*float64    `json:"memory_most"`
	Swap          []*float64    `json:"swap"` // bytes
	DiskFree      []*float64    `json:"disk_free"`
	DiskRead      []*float64    `json:"disk_read"` // bytes a second
	DiskWritten   []*float64    `json:"disk_written"`
	Received      []*float64    `json:"received"`
	Sent          []*float64    `json:"sent"`
	Load          []*float64    `json:"load"`
	Temperature   []*float64    `json:"temperature"` // degrees Celsius
	Devices       []DeviceUsage `json:"devices"`
}

// DeviceUsage is what was measured of a graphics device.
type DeviceUsage struct {
	ID          string     `json:"id"`
	Busy        []*float64 `json:"busy"`   // 0 to 1
	Memory      []*float64 `json:"memory"` // bytes
	Temperature []*float64 `json:"temperature"`
}

// Said is lines that a node process or its renderers have said.
type Said struct {
	Session int64       `json:"session"`
	Pieces  []SaidPiece `json:"pieces"`
}

// SaidPiece is lines of one log, in order.
type SaidPiece struct {
	Lease int64      `json:"lease"` // 0: of the node process itself
	Run   int64      `json:"run"`
	Seq   int64      `json:"seq"` // grows along the log
	Lines []SaidLine `json:"lines"`
}

// SaidLine is one line.
type SaidLine struct {
	At     int64  `json:"at"`     // milliseconds since 1970
	Stream int    `json:"stream"` // 1 standard output, 2 standard error; 0 of the node process
	Text   string `json:"text"`
}

// Beaten answers Beat.
type Beaten struct {
	PeerKey string `json:"peer_key,omitempty"` // by which nodes know permits of the service
	Watched bool   `json:"watched"`            // somebody follows the node's log: send what is said at once
}

// LogLine is a line of a log as people read it.
type LogLine struct {
	At     time.Time `json:"at"`
	Node   int64     `json:"node"`
	Lease  int64     `json:"lease"` // 0: of the node process itself
	Run    int64     `json:"run"`
	Stream int       `json:"stream"` // 1 standard output, 2 standard error; 0 of the node process
	Text   string    `json:"text"`
}

// NodeLog is lines of logs, in order.
type NodeLog struct {
	Lines  []LogLine  `json:"lines"`
	Older  bool       `json:"older"`             // there may be older ones
	BackTo *time.Time `json:"back_to,omitempty"` // what was said before was not looked at; null: all was
}

// Timeline is what a node did over a while.
type Timeline struct {
	From  time.Time      `json:"from"`
	To    time.Time      `json:"to"`
	Spans []TimelineSpan `json:"spans"`
}

// TimelineSpan is a stretch of time in which a node worked on a run, or did not
// work for a reason.
type TimelineSpan struct {
	From    time.Time `json:"from"`
	To      time.Time `json:"to"`
	Lane    int       `json:"lane"`     // of work side by side, from 0; -1 of what is no work
	Run     int64     `json:"run"`      // 0 of what is no work
	RunName string    `json:"run_name"` // "" of what is no work
	Leases  int       `json:"leases"`   // that it is made of
	Is      string    `json:"is"`       // of what is no work: silent, off duty, held, draining or sidelined
	Why     string    `json:"why"`
}

// NodeProbe is what a node found when it looked for the renderers of all recipes.
type NodeProbe struct {
	Node      int64      `json:"node"`
	Name      string     `json:"name"` // of the node
	Renderers []Renderer `json:"renderers"`
	Error     string     `json:"error,omitempty"` // why it could not look; empty: it has
}

// NodeTest is one small known frame that a node renders to show that it works.
type NodeTest struct {
	Node           int64      `json:"node"`
	Name           string     `json:"name"` // of the node
	Recipe         string     `json:"recipe"`
	Run            int64      `json:"run"`   // 0: no renderer could be tested
	State          string     `json:"state"` // waiting, rendering, passed or failed
	Sentence       string     `json:"sentence"`
	StartupSeconds float64    `json:"startup_seconds"`
	RenderSeconds  float64    `json:"render_seconds"`
	CheckSeconds   float64    `json:"check_seconds"`
	DeliverSeconds float64    `json:"deliver_seconds"`
	Speed          float64    `json:"speed"` // index of the machine with this renderer, by this test; 0: not known
	At             *time.Time `json:"at"`    // when it ended
}
