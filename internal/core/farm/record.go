package farm

import (
	"time"

	"vexillum/internal/core/frames"
)

// Record is one change of the farm. Records are what is committed, what
// State.Apply takes and what the log of a run shows.
type Record interface {
	// Kind names the Record in the log and on the wire.
	Kind() string
	// About tells what the Record concerns.
	About() About
}

// About says which run and node a Record concerns, when it happened and why,
// in a sentence where there is one. Run and Node are 0 where none is meant.
type About struct {
	Run    RunID
	Node   NodeID
	At     time.Time
	Reason string
}

// NodeEnrolled makes a machine a node. It uses up one use of the key.
type NodeEnrolled struct {
	Node    NodeID    `json:"node"`
	Name    string    `json:"name"`
	Of      NodeKind  `json:"kind"`
	Facts   Facts     `json:"facts"`
	KeyHash string    `json:"key_hash"`
	At      time.Time `json:"at"`
}

// NodeStarted opens a session of a node process. All leases of earlier
// sessions must have ended before, but for those that the node kept; they go
// on in the new session.
type NodeStarted struct {
	Node    NodeID    `json:"node"`
	Session int64     `json:"session"`
	Facts   Facts     `json:"facts"`
	Kept    []LeaseID `json:"kept"`
	At      time.Time `json:"at"`
}

// NodeReach tells that a node fell silent or is heard from again.
type NodeReach struct {
	Node   NodeID    `json:"node"`
	Reach  Reach     `json:"reach"`
	Reason string    `json:"reason"`
	At     time.Time `json:"at"`
}

// NodeDuty switches a node on or off for work.
type NodeDuty struct {
	Node     NodeID     `json:"node"`
	Duty     Duty       `json:"duty"`
	Now      bool       `json:"now"`       // frames in flight shall not finish
	OffUntil *time.Time `json:"off_until"` // given back by its owner until then
	Reason   string     `json:"reason"`
	At       time.Time  `json:"at"`
}

// NodeHealth sets a node aside, or lets it work again.
type NodeHealth struct {
	Node   NodeID    `json:"node"`
	Health Health    `json:"health"`
	By     string    `json:"by"` // ByTriage, or empty for a person
	Reason string    `json:"reason"`
	At     time.Time `json:"at"`
}

// NodeSet gives a node new settings, as a new version.
type NodeSet struct {
	Node     NodeID    `json:"node"`
	Version  int64     `json:"version"`
	Settings Settings  `json:"settings"`
	Actor    string    `json:"actor"`
	Reason   string    `json:"reason"` // what is different
	At       time.Time `json:"at"`
}

// NodeAnnounced makes a node of a machine that will enrol later.
type NodeAnnounced struct {
	Node NodeID    `json:"node"`
	Name string    `json:"name"`
	Of   NodeKind  `json:"kind"`
	At   time.Time `json:"at"`
}

// NodeRenamed gives a node another name.
type NodeRenamed struct {
	Node NodeID    `json:"node"`
	Name string    `json:"name"`
	At   time.Time `json:"at"`
}

// NodeRetired takes a node off the farm for good. What it did stays on record;
// its name may be used again. It must hold no lease.
type NodeRetired struct {
	Node   NodeID    `json:"node"`
	Reason string    `json:"reason"`
	At     time.Time `json:"at"`
}

// PoolSet makes or changes a pool.
type PoolSet struct {
	Name     string    `json:"name"`
	Projects []string  `json:"projects"`
	At       time.Time `json:"at"`
}

// PoolDropped does away with a pool that has no members.
type PoolDropped struct {
	Name string    `json:"name"`
	At   time.Time `json:"at"`
}

// LaunchSettingsSet sets the account and the variables that renderers are
// launched with. Empty ones set nothing any more.
type LaunchSettingsSet struct {
	Of  LaunchScope    `json:"of"`
	Env LaunchSettings `json:"env"`
	At  time.Time      `json:"at"`
}

// StaySet holds a place, a recipe or a pool as a whole, or releases it in steps.
// A Stay that neither holds nor has a step is over.
type StaySet struct {
	Of   StayOf    `json:"of"`
	Stay Stay      `json:"stay"`
	At   time.Time `json:"at"`
}

// KeyRevoked shuts an enrolment key out.
type KeyRevoked struct {
	Hash string    `json:"hash"`
	At   time.Time `json:"at"`
}

// PlaceSet makes or changes a place.
type PlaceSet struct {
	Name  string            `json:"name"`
	Paths map[string]string `json:"paths"`
	Loads int               `json:"loads"` // launches that may load from it at the same moment; 0: any number
	At    time.Time         `json:"at"`
}

// LicenceSet counts a licence, or lowers the count for a while. A Count below 0
// means that nobody counts it any more.
type LicenceSet struct {
	Name         string     `json:"name"`
	Count        int        `json:"count"`
	Lowered      int        `json:"lowered"`
	LoweredUntil *time.Time `json:"lowered_until"`
	Reason       string     `json:"reason"`
	At           time.Time  `json:"at"`
}

// RunSet changes the terms of a run.
type RunSet struct {
	Run    RunID     `json:"run"`
	Terms  Terms     `json:"terms"`
	Reason string    `json:"reason"` // what is different, and who wanted it
	At     time.Time `json:"at"`
}

// ProjectSet makes or changes a project.
type ProjectSet struct {
	Name   string    `json:"name"`
	Title  string    `json:"title"`
	Weight float64   `json:"weight"`
	Scenes string    `json:"scenes"`
	Frames string    `json:"frames"`
	At     time.Time `json:"at"`
}

// PlaceDropped does away with a place that no project uses, and with what it
// is held for.
type PlaceDropped struct {
	Name string    `json:"name"`
	At   time.Time `json:"at"`
}

// ProjectDropped does away with a project that has no runs, and with the launch
// settings for it.
type ProjectDropped struct {
	Name string    `json:"name"`
	At   time.Time `json:"at"`
}

// PersonSet makes a person, or changes role or password.
type PersonSet struct {
	Name         string    `json:"name"`
	Role         Role      `json:"role"`
	PasswordHash string    `json:"password_hash"`
	At           time.Time `json:"at"`
}

// PersonRemoved takes a person off the farm, and ends all that speaks for them.
type PersonRemoved struct {
	Name string    `json:"name"`
	At   time.Time `json:"at"`
}

// TokenIssued lets a token in.
type TokenIssued struct {
	Hash      string     `json:"hash"`
	Of        TokenKind  `json:"kind"`
	Person    string     `json:"person"`
	Node      NodeID     `json:"node"`
	Label     string     `json:"label"`
	At        time.Time  `json:"at"`
	ExpiresAt *time.Time `json:"expires_at"` // nil: never
}

// TokenRevoked shuts a token out.
type TokenRevoked struct {
	Hash string    `json:"hash"`
	At   time.Time `json:"at"`
}

// KeyIssued lets an enrolment key be used.
type KeyIssued struct {
	Hash      string    `json:"hash"`
	Label     string    `json:"label"`
	CreatedBy string    `json:"created_by"`
	Uses      int       `json:"uses"`
	Pools     []string  `json:"pools"`   // that its nodes join
	Returns   []string  `json:"returns"` // nodes that were shut out and may come back with it
	At        time.Time `json:"at"`
	ExpiresAt time.Time `json:"expires_at"`
}

// RunSubmitted puts a run into the queue, held or at once.
type RunSubmitted struct {
	Run    RunID     `json:"run"`
	Spec   Spec      `json:"spec"`
	State  RunState  `json:"state"`
	Order  int64     `json:"order"`
	Key    string    `json:"key"`    // the submitter's own, to make a submit repeatable; may be empty
	Digest string    `json:"digest"` // of what was asked for under that key
	Reason string    `json:"reason"`
	At     time.Time `json:"at"`
}

// RunMoved puts a run into another state.
type RunMoved struct {
	Run    RunID     `json:"run"`
	State  RunState  `json:"state"`
	Held   HeldFor   `json:"held"` // of a run that the farm itself holds
	Reason string    `json:"reason"`
	At     time.Time `json:"at"`
}

// RunKept says that Done and Parked are kept whole up to here, so that frames
// finished earlier need not be read one by one at a start.
type RunKept struct {
	Run    RunID     `json:"run"`
	Done   string    `json:"done"`   // as multirange
	Parked string    `json:"parked"` // as multirange
	Seq    int64     `json:"seq"`
	At     time.Time `json:"at"`
}

// LeaseOpened gives frames of a run to a node.
type LeaseOpened struct {
	Lease   LeaseID    `json:"lease"`
	Node    NodeID     `json:"node"`
	Run     RunID      `json:"run"`
	Session int64      `json:"session"`
	Ask     int64      `json:"ask"`
	Frames  frames.Set `json:"frames"`
	Share   Share      `json:"share"` // of the node, until the lease has ended
	Race    bool       `json:"race"`  // the frame is in flight on another node, too
	Reason  string     `json:"reason"`
	At      time.Time  `json:"at"`
}

// LeaseExtended moves the end of a lease: it gets more frames.
type LeaseExtended struct {
	Lease  LeaseID    `json:"lease"`
	Node   NodeID     `json:"node"`
	Run    RunID      `json:"run"`
	Ask    int64      `json:"ask"`
	Frames frames.Set `json:"frames"`
	Reason string     `json:"reason"`
	At     time.Time  `json:"at"`
}

// LeaseTrimmed moves the end of a lease: frames that the node has not begun
// go back to be dealt.
type LeaseTrimmed struct {
	Lease  LeaseID    `json:"lease"`
	Node   NodeID     `json:"node"`
	Run    RunID      `json:"run"`
	Frames frames.Set `json:"frames"`
	Reason string     `json:"reason"`
	At     time.Time  `json:"at"`
}

// LeaseEnded ends a lease; frames without a result go back to be dealt.
type LeaseEnded struct {
	Lease  LeaseID   `json:"lease"`
	Node   NodeID    `json:"node"`
	Run    RunID     `json:"run"`
	Reason string    `json:"reason"`
	At     time.Time `json:"at"`
}

// FrameAccepted takes a node's picture of a frame as the one that counts.
// The node now publishes it.
type FrameAccepted struct {
	Run            RunID     `json:"run"`
	Frame          int       `json:"frame"`
	Lease          LeaseID   `json:"lease"`
	Node           NodeID    `json:"node"`
	Launch         int       `json:"launch"`
	Hash           string    `json:"hash"` // see FrameHash
	Bytes          int64     `json:"bytes"`
	Files          []File    `json:"files,omitempty"` // of a frame with passes
	StartupSeconds float64   `json:"startup_seconds"` // of the launch, with its first frame; 0 otherwise
	RenderSeconds  float64   `json:"render_seconds"`
	CheckSeconds   float64   `json:"check_seconds"`
	MemoryBytes    int64     `json:"memory_bytes,omitempty"` // most that the launch had of main memory so far; 0: not known
	At             time.Time `json:"at"`
}

// FrameDone tells that an accepted picture stands in its place, all its files
// together. It may be one that was accepted earlier, and has other bytes.
type FrameDone struct {
	Run   RunID     `json:"run"`
	Frame int       `json:"frame"`
	Lease LeaseID   `json:"lease"`
	Node  NodeID    `json:"node"`
	Hash  string    `json:"hash"`
	Bytes int64     `json:"bytes"`
	Files []File    `json:"files,omitempty"` // of a frame with passes
	At    time.Time `json:"at"`
}

// DeliveryLost takes an acceptance back because its node can no longer
// publish the picture. The frame goes back to be dealt.
type DeliveryLost struct {
	Run    RunID     `json:"run"`
	Frame  int       `json:"frame"`
	Node   NodeID    `json:"node"`
	Hash   string    `json:"hash"`
	Reason string    `json:"reason"`
	At     time.Time `json:"at"`
}

// FrameFailed tells that a try at a frame failed. The frame goes back to be
// dealt.
type FrameFailed struct {
	Run     RunID     `json:"run"`
	Frame   int       `json:"frame"`
	Lease   LeaseID   `json:"lease"`
	Node    NodeID    `json:"node"`
	Launch  int       `json:"launch"`
	Cause   string    `json:"cause"`
	Message string    `json:"message"`
	Counts  bool      `json:"counts"`
	Reason  string    `json:"reason"`
	At      time.Time `json:"at"`
}

// FrameParked sets a frame aside for a person.
type FrameParked struct {
	Run    RunID     `json:"run"`
	Frame  int       `json:"frame"`
	Reason string    `json:"reason"`
	At     time.Time `json:"at"`
}

// FramesRetried puts parked frames back with all their tries.
type FramesRetried struct {
	Run    RunID      `json:"run"`
	Frames frames.Set `json:"frames"`
	Reason string     `json:"reason"`
	At     time.Time  `json:"at"`
}

// FramesRedone puts frames that are done back to be rendered again. Their pictures
// stand until new ones are verified; no lease that had them brings them any more.
type FramesRedone struct {
	Run    RunID      `json:"run"`
	Frames frames.Set `json:"frames"`
	Reason string     `json:"reason"`
	At     time.Time  `json:"at"`
}

// Audited tells who changed what.
type Audited struct {
	Actor   string    `json:"actor"`
	Action  string    `json:"action"`  // such as "hold run"
	Subject string    `json:"subject"` // such as "salt_010/final-2"
	From    string    `json:"from"`
	To      string    `json:"to"`
	Run     RunID     `json:"run"`
	Node    NodeID    `json:"node"`
	At      time.Time `json:"at"`
}
