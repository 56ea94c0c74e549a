package farm

import (
	"fmt"
	"regexp"
	"strings"
	"time"

	"vexillum/internal/core/trait"
)

// NodeID identifies a node for the life of the farm; it is never used again.
type NodeID int64

// NodeKind reports whether a machine always belongs to the farm.
type NodeKind string

// The kinds of node.
const (
	Rack NodeKind = "rack" // always on the farm
	Desk NodeKind = "desk" // somebody's machine
)

// Reach reports whether a node is heard from.
type Reach string

// The values of Reach.
const (
	Online Reach = "online"
	Away   Reach = "away"   // its node process was stopped properly
	Silent Reach = "silent" // its heartbeat is missing
)

// Duty reports whether a node shall be given work.
type Duty string

// The values of Duty.
const (
	OnDuty   Duty = "on duty"
	OffDuty  Duty = "off duty"
	Held     Duty = "held"
	Draining Duty = "draining"
)

// Health reports whether a node can be trusted with work.
type Health string

// The values of Health.
const (
	Fine      Health = "fine"
	Sidelined Health = "sidelined" // set aside; gets no work until a person releases it
)

// Drained is the reason for which a node is held whose last frame has left after a drain.
const Drained = "drained; its last frame has left"

// ByTriage says that the farm itself has set a node aside, for what it failed.
const ByTriage = "triage"

// Renderer is one renderer that a node found by running it.
type Renderer struct {
	Recipe  string `json:"recipe"`
	Version string `json:"version"` // empty for a renderer that reports none
	Path    string `json:"path"`
	Unfit   string `json:"unfit,omitempty"`   // why it cannot be used; empty: it can
	Failed  bool   `json:"failed,omitempty"`  // its probe failed, and is repeated
	Printed string `json:"printed,omitempty"` // what the probe printed, shortened, where it cannot be used
}

// Quoted returns the first line of what a program printed in quotation marks, as the end of a
// sentence; "" for nothing.
func Quoted(printed string) string {
	const most = 160 // bytes
	line, _, _ := strings.Cut(strings.TrimSpace(printed), "\n")
	if len(line) > most {
		line = strings.ToValidUTF8(line[:most], "") + "…"
	}
	if line == "" {
		return ""
	}
	return "; it printed “" + strings.TrimSpace(line) + "”"
}

// Facts is what a node process reports about its machine.
type Facts struct {
	OS          string     `json:"os"`           // as in Go: linux, darwin, windows
	System      string     `json:"system"`       // name and version for people
	Arch        string     `json:"arch"`         // as in Go: amd64, arm64
	Cores       int        `json:"cores"`        // logical processors
	MemoryBytes int64      `json:"memory_bytes"` // main memory in all
	DiskBytes   int64      `json:"disk_bytes"`   // free where frames are staged
	Speed       float64    `json:"speed"`        // reference seconds of work per second, above 0
	Version     string     `json:"version"`      // of the node process
	Renderers   []Renderer `json:"renderers"`
	Devices     []Device   `json:"devices"` // graphics devices
	Means       Means      `json:"means"`
	// bytes a second that staging takes, measured when it joined; 0: not measured
	DiskRate    int64 `json:"disk_rate,omitempty"`
	NetworkRate int64 `json:"network_rate,omitempty"` // bytes a second to the service, in the same way
}

// Device is a graphics device.
type Device struct {
	ID          string `json:"id"` // stays the same over restarts
	Model       string `json:"model"`
	MemoryBytes int64  `json:"memory_bytes"` // 0 where the system does not tell
}

// Renderer returns the renderer that the node has for a recipe, and whether it will
// do.
func (f Facts) Renderer(recipe string) (r Renderer, fit bool) {
	for _, r := range f.Renderers {
		if r.Recipe == recipe {
			return r, r.Unfit == ""
		}
	}
	return Renderer{}, false
}

// Node is one machine that renders.
type Node struct {
	ID         NodeID
	Name       string
	Kind       NodeKind
	Facts      Facts
	Session    int64 // grows with each start of the node process; 0 before the first
	Reach      Reach
	ReachSince time.Time
	Duty       Duty
	DutyReason string    // why it is not on duty
	DutySince  time.Time // zero before the first change
	DutyNow    bool      // frames in flight shall not finish
	OffUntil   time.Time // given back by its owner until then; zero: it is not
	Health     Health
	HealthWhy  string
	HealthBy   string    // ByTriage where the farm itself has set it aside
	HealthAt   time.Time // of the last change; zero before the first
	// TrialAt is from when on a node that the farm has sidelined may render a trial frame;
	// zero: not by itself.
	TrialAt time.Time
	// TrialPause is how long it had to wait for that the last time; 0: never.
	TrialPause time.Duration
	// Aside are graphics devices of it that are set aside, by their ids; nil: none.
	Aside      map[string]Aside
	Settings   Settings
	Version    int64     // of the settings; 0 before they were first set
	EnrolledAt time.Time // zero: announced, and not enrolled yet
	RetiredAt  time.Time // zero: it is not
	Changed    int64     // sequence number of the last Record that changed it

	traits   trait.Set // as they were at the Record traitsOf
	traitsOf int64
}

// KnownTraits is Traits, kept until the node changes. Like all of a State it
// is for the State's owner alone.
func (n *Node) KnownTraits() trait.Set {
	if n.traitsOf != n.Changed || n.Changed == 0 {
		n.traits, n.traitsOf = n.Traits(), n.Changed
	}
	return n.traits
}

// Aside is a graphics device that is set aside, or was before.
type Aside struct {
	Why     string    `json:"why"`
	At      time.Time `json:"at"`
	TrialAt time.Time `json:"trial_at,omitzero"` // when it is tried again; zero: not by itself
	Pause   float64   `json:"pause_seconds"`     // until then
	Back    bool      `json:"back,omitempty"`    // it works again
}

// OnTrial reports whether a lease of a node that the farm has sidelined is its trial.
func (n *Node) OnTrial(l *Lease) bool {
	return n.Health == Sidelined && !n.TrialAt.IsZero() && l.Node == n.ID && !l.OpenedAt.Before(n.TrialAt)
}

// TrialDue reports whether a node that is sidelined may render a trial frame.
func (n *Node) TrialDue(now time.Time) bool {
	return n.Health == Sidelined && !n.TrialAt.IsZero() && !now.Before(n.TrialAt) &&
		n.Reach == Online && n.Duty == OnDuty && n.RetiredAt.IsZero()
}

// DeviceAside reports whether a graphics device is set aside.
func (n *Node) DeviceAside(id string) bool {
	a, known := n.Aside[id]
	return known && !a.Back
}

// Ready reports whether the node may be given work.
func (n *Node) Ready() bool {
	return n.Reach == Online && n.Duty == OnDuty && n.Health != Sidelined && n.RetiredAt.IsZero()
}

var nodeName = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$`)

// CheckNodeName returns an error for a name that no node may have. Names are
// single labels as in host names: small letters, digits and hyphens.
func CheckNodeName(name string) error {
	if !nodeName.MatchString(name) {
		return fmt.Errorf(
			"%q is not a valid node name: use 1 to 63 small letters, digits and hyphens, such as kiln-07", name,
		)
	}
	return nil
}
