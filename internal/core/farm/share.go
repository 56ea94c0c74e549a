package farm

import (
	"fmt"
	"slices"

	"github.com/dustin/go-humanize"

	"vexillum/internal/core/frames"
)

// Amounts is what one lease of a run takes of its node.
type Amounts struct {
	// logical processors; 0: all that the farm may use, and nothing runs beside it
	Cores       int   `json:"cores,omitempty"`
	MemoryBytes int64 `json:"memory_bytes,omitempty"` // main memory; 0: it is not told
	Devices     int   `json:"devices,omitempty"`      // graphics devices
}

// Whole reports whether a lease has its node for itself.
func (a Amounts) Whole() bool { return a.Cores == 0 }

// Check returns an error for amounts that make no sense.
func (a Amounts) Check() error {
	switch {
	case a.Cores < 0 || a.MemoryBytes < 0 || a.Devices < 0:
		return fmt.Errorf("what a lease takes of a node cannot be less than 0")
	case a.Cores == 0 && a.Devices > 0:
		return fmt.Errorf(
			"a lease that takes %d graphics devices has to say how many cores it takes; without that it gets all "+
				"cores and all devices",
			a.Devices,
		)
	}
	return nil
}

// Share is what a lease owns of its node until it has ended.
type Share struct {
	Cores       frames.Set `json:"cores"`        // numbers of logical processors, from 0; empty: the whole node
	MemoryBytes int64      `json:"memory_bytes"` // 0: not bounded by itself
	Devices     []string   `json:"devices"`      // ids of graphics devices
}

// Whole reports whether the share is all that the farm may use of a node.
func (s Share) Whole() bool { return s.Cores.Empty() }

// Collides reports whether two leases of a node cannot own these at the same
// time.
func (s Share) Collides(with Share) bool {
	if s.Whole() || with.Whole() || !s.Cores.Intersect(with.Cores).Empty() {
		return true
	}
	return slices.ContainsFunc(s.Devices, func(d string) bool { return slices.Contains(with.Devices, d) })
}

// Offer returns what the farm may use of a node: the first cores, its share of
// memory, and the devices that are not kept back. Of a node that does not tell
// its cores the share is whole.
func (n *Node) Offer() Share {
	out := Share{MemoryBytes: n.OfferedMemory(), Devices: []string{}}
	if cores := n.OfferedCores(); cores > 0 {
		out.Cores = frames.Of(frames.Span{First: 0, Last: cores - 1})
	}
	for _, d := range n.Facts.Devices {
		if !slices.Contains(n.Settings.Caps.KeptDevices, d.ID) && !n.DeviceAside(d.ID) {
			out.Devices = append(out.Devices, d.ID)
		}
	}
	return out
}

// OfferedMemory returns how much memory the farm may use, in bytes; 0 where the node does
// not tell.
func (n *Node) OfferedMemory() int64 {
	memory := n.Facts.MemoryBytes
	if c := n.Settings.Caps.MemoryBytes; c > 0 && (c < memory || memory == 0) {
		memory = c
	}
	return memory
}

// OfferedCores returns how many cores the farm may use; 0 where the node does
// not tell.
func (n *Node) OfferedCores() int {
	cores := n.Facts.Cores
	if c := n.Settings.Caps.Cores; c > 0 && c < cores {
		cores = c
	}
	return cores
}

// Part returns which part of the node's power a share has, above 0 and at most
// 1: that of its cores.
func (n *Node) Part(share Share) float64 { return n.PartOf(share.Cores.Len()) }

// PartOf returns which part of the node's power a number of cores has, 0 being all
// of them.
func (n *Node) PartOf(cores int) float64 {
	if cores == 0 || n.Facts.Cores == 0 {
		return 1
	}
	return min(1, float64(cores)/float64(n.Facts.Cores))
}

// String says what is taken, for sentences.
func (a Amounts) String() string {
	text := "the whole node"
	switch {
	case a.Cores == 1:
		text = "1 core"
	case a.Cores > 1:
		text = fmt.Sprintf("%d cores", a.Cores)
	}
	if a.MemoryBytes > 0 {
		text += ", " + humanize.IBytes(uint64(a.MemoryBytes))
	}
	switch {
	case a.Devices == 1:
		text += ", 1 graphics device"
	case a.Devices > 1:
		text += fmt.Sprintf(", %d graphics devices", a.Devices)
	}
	return text
}
