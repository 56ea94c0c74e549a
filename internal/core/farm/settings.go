package farm

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"

	"vexillum/internal/core/hours"
	"vexillum/internal/core/trait"
)

// Settings is what wranglers decide about a node. They are kept whole, one
// version after the other.
type Settings struct {
	Traits []string     `json:"traits"` // given: name, or name=value
	Pools  []string     `json:"pools"`  // of which the node is a member
	Caps   Caps         `json:"caps"`
	Hours  *hours.Hours `json:"hours"` // nil: always on duty
	// Permits is what an administrator has allowed renderers there.
	Permits []Permission `json:"permits,omitempty"`
}

// Caps is the farm's share of a machine. 0 is all of it.
type Caps struct {
	Cores        int   `json:"cores"`         // logical processors
	MemoryBytes  int64 `json:"memory_bytes"`  // main memory
	Nice         int   `json:"nice"`          // of renderers, 1 to 19; 0 is as usual, 10
	StagingBytes int64 `json:"staging_bytes"` // disk for frames that are not delivered yet
	Leases       int   `json:"leases"`        // side by side; 0 is as many as fit
	// main memory that stays free when leases run side by side; 0 is as usual, see Spare
	SpareBytes int64 `json:"spare_bytes"`
	// KeptDevices are ids of graphics devices that the farm may not use.
	KeptDevices []string `json:"kept_devices,omitempty"`
}

// Spare returns how much main memory no second lease may take: what the caps
// say, or else a sixteenth of the machine's and at most 1 GiB.
func (n *Node) Spare() int64 {
	if n.Settings.Caps.SpareBytes > 0 {
		return n.Settings.Caps.SpareBytes
	}
	return min(n.Facts.MemoryBytes/16, 1<<30)
}

// Limits of settings.
const (
	mostTraits = 100
	mostPools  = 50
	mostKept   = 64
)

// Check returns an error that says what is wrong with settings, if anything.
// field is the JSON name of the part that is.
func (s Settings) Check() (field string, err error) {
	if len(s.Traits) > mostTraits {
		return "traits", fmt.Errorf("a node is given at most %d traits", mostTraits)
	}
	for _, text := range s.Traits {
		t, err := trait.Parse(text)
		if err != nil {
			return "traits", err
		}
		if reserved[t.Name] {
			return "traits", fmt.Errorf("the trait %s is found by the farm itself and cannot be given", t.Name)
		}
	}
	if len(s.Pools) > mostPools {
		return "pools", fmt.Errorf("a node is in at most %d pools", mostPools)
	}
	c := s.Caps
	switch {
	case c.Cores < 0 || c.MemoryBytes < 0 || c.StagingBytes < 0 || c.Leases < 0 || c.SpareBytes < 0:
		return "caps", fmt.Errorf("a cap cannot be less than 0; 0 is no cap")
	case len(c.KeptDevices) > mostKept:
		return "caps", fmt.Errorf("at most %d graphics devices are kept from the farm", mostKept)
	case c.Nice < 0 || c.Nice > 19:
		return "caps", fmt.Errorf("niceness lies between 0 and 19, not %d", c.Nice)
	}
	for _, p := range s.Permits {
		if err := p.Check(); err != nil {
			return "permit", err
		}
	}
	if s.Hours != nil {
		if err := s.Hours.Check(); err != nil {
			return "hours", err
		}
	}
	return "", nil
}

// Tidy puts lists in order and names each thing once.
func (s *Settings) Tidy() {
	s.Traits = slices.Compact(slices.Sorted(slices.Values(s.Traits)))
	s.Pools = slices.Compact(slices.Sorted(slices.Values(s.Pools)))
	s.Permits = slices.Compact(slices.Sorted(slices.Values(s.Permits)))
	s.Caps.KeptDevices = slices.Compact(slices.Sorted(slices.Values(s.Caps.KeptDevices)))
	if s.Hours != nil {
		s.Hours.Tidy()
	}
}

// Words returns a list of named values as plain texts.
func Words[T ~string](list []T) []string {
	var out []string
	for _, v := range list {
		out = append(out, string(v))
	}
	return out
}

// Differences says what is set otherwise in b than in a, a sentence a part.
func Differences(a, b Settings) []string {
	var out []string
	lists := func(what string, x, y []string) {
		for _, v := range y {
			if !slices.Contains(x, v) {
				out = append(out, fmt.Sprintf("%s %s is added", what, v))
			}
		}
		for _, v := range x {
			if !slices.Contains(y, v) {
				out = append(out, fmt.Sprintf("%s %s is taken away", what, v))
			}
		}
	}
	lists("trait", a.Traits, b.Traits)
	lists("pool", a.Pools, b.Pools)
	lists("permission", Words(a.Permits), Words(b.Permits))
	number := func(what string, x, y int64, write func(int64) string) {
		if x != y {
			out = append(out, fmt.Sprintf("%s: %s instead of %s", what, write(y), write(x)))
		}
	}
	plain := func(n int64) string {
		if n == 0 {
			return "all"
		}
		return strconv.FormatInt(n, 10)
	}
	size := func(n int64) string {
		if n == 0 {
			return "all"
		}
		return humanize.IBytes(uint64(n))
	}
	number("cores", int64(a.Caps.Cores), int64(b.Caps.Cores), plain)
	number("memory", a.Caps.MemoryBytes, b.Caps.MemoryBytes, size)
	number("niceness", int64(a.Caps.Nice), int64(b.Caps.Nice), func(n int64) string {
		if n == 0 {
			return "as usual"
		}
		return strconv.FormatInt(n, 10)
	})
	number("staging disk", a.Caps.StagingBytes, b.Caps.StagingBytes, size)
	number("leases side by side", int64(a.Caps.Leases), int64(b.Caps.Leases), func(n int64) string {
		if n == 0 {
			return "as many as fit"
		}
		return strconv.FormatInt(n, 10)
	})
	number("memory kept free", a.Caps.SpareBytes, b.Caps.SpareBytes, func(n int64) string {
		if n == 0 {
			return "as usual"
		}
		return humanize.IBytes(uint64(n))
	})
	lists("device kept from the farm:", a.Caps.KeptDevices, b.Caps.KeptDevices)
	switch x, y := hoursText(a.Hours), hoursText(b.Hours); {
	case x != y:
		out = append(out, fmt.Sprintf("hours: %s instead of %s", y, x))
	case !a.Hours.Equal(b.Hours): // what a sentence leaves out
		out = append(out, "hours: other exceptions or notes")
	}
	return out
}

func hoursText(h *hours.Hours) string {
	if h == nil {
		return "always"
	}
	text := h.Week.String()
	if h.Zone != "" {
		text += " (" + h.Zone + ")"
	}
	for i, e := range h.Exceptions {
		if i == 3 {
			return text + fmt.Sprintf(" and %d exceptions more", len(h.Exceptions)-3)
		}
		text += ", on " + e.Date.String()
		if len(e.Windows) == 0 {
			text += " never"
		}
		for _, w := range e.Windows {
			text += " " + w.String()
		}
	}
	return text
}

// reserved are the names of traits that are found.
var reserved = map[string]bool{
	"os": true, "system": true, "arch": true, "cores": true, "memory": true,
	"disk": true, "gpu": true, "gpus": true, "gpu_memory": true, "gpu_model": true,
	"speed": true, "vexillum": true, "account": true, "memory_limit": true, "disk_rate": true,
	"network_rate": true, "rack": true, "desk": true, "pool": true, "name": true,
}

// Traits returns what is true of a node: found by its node process, given by
// wranglers, and what follows from its pools.
func (n *Node) Traits() trait.Set {
	var all []trait.Trait
	found := func(name, value string) {
		if value != "" {
			all = append(all, trait.Trait{Name: name, Value: value, Source: trait.Measured})
		}
	}
	assigned := func(name, value string) {
		all = append(all, trait.Trait{Name: name, Value: value, Source: trait.Assigned})
	}
	f := n.Facts
	assigned("name", n.Name)
	assigned(string(n.Kind), "")
	for _, p := range n.Settings.Pools {
		assigned("pool", p)
	}
	found("os", f.OS)
	found("system", f.System)
	found("arch", f.Arch)
	if f.Cores > 0 {
		found("cores", strconv.Itoa(f.Cores))
	}
	found("memory", amount(f.MemoryBytes))
	found("disk", amount(f.DiskBytes))
	if f.Speed > 0 {
		found("speed", strconv.FormatFloat(f.Speed, 'f', 2, 64))
	}
	found("vexillum", f.Version)
	found("account", f.Means.Account)
	found("memory_limit", strings.ReplaceAll(f.Means.Memory, " ", "-"))
	found("disk_rate", rate(f.DiskRate))
	found("network_rate", rate(f.NetworkRate))
	if len(f.Devices) > 0 {
		all = append(all, trait.Trait{Name: "gpu", Source: trait.Measured})
		found("gpus", strconv.Itoa(len(f.Devices)))
		for _, d := range f.Devices {
			found("gpu_model", d.Model)
			found("gpu_memory", amount(d.MemoryBytes))
		}
	}
	for _, r := range f.Renderers {
		if r.Unfit != "" {
			continue
		}
		if r.Version == "" { // a renderer that reports none
			all = append(all, trait.Trait{Name: r.Recipe, Source: trait.Measured})
		}
		found(r.Recipe, r.Version)
	}
	for _, text := range n.Settings.Traits {
		if t, err := trait.Parse(text); err == nil {
			all = append(all, t)
		}
	}
	return trait.NewSet(all...)
}

// amount writes bytes as a trait's value, in tenths of a GiB.
func amount(bytes int64) string {
	if bytes <= 0 {
		return ""
	}
	return strconv.FormatFloat(float64(bytes)/(1<<30), 'f', 1, 64) + "GiB"
}

// rate writes bytes a second as a trait's value, in whole MiB.
func rate(bytes int64) string {
	if bytes <= 0 {
		return ""
	}
	return strconv.FormatInt(bytes>>20, 10) + "MiB"
}

// Pool is a named set of nodes.
type Pool struct {
	Name     string   `json:"name"`
	Projects []string `json:"projects"` // that may use its nodes; all when empty
	// its nodes neither get pieces of bundles from others nor give them any
	Alone bool `json:"alone,omitempty"`
}

// Alone reports whether a node neither gets pieces of bundles from others nor gives them
// any: one of its pools says so.
func (s *State) Alone(n *Node) bool {
	return slices.ContainsFunc(n.Settings.Pools, func(name string) bool {
		return s.Pools[name] != nil && s.Pools[name].Alone
	})
}

// Admits returns an error that says why a project may not use a node: all its
// pools belong to others. A node in no pool, or in one that is open, is for
// all.
func (s *State) Admits(n *Node, project string) error {
	if len(n.Settings.Pools) == 0 {
		return nil
	}
	for _, name := range n.Settings.Pools {
		p := s.Pools[name]
		if p == nil || len(p.Projects) == 0 || slices.Contains(p.Projects, project) {
			return nil
		}
	}
	return fmt.Errorf("the pool %s is not open to %s", n.Settings.Pools[0], project)
}

// Members returns the nodes of a pool, by name.
func (s *State) Members(pool string) []*Node {
	var out []*Node
	for _, id := range slices.Sorted(maps.Keys(s.Nodes)) {
		if n := s.Nodes[id]; n.RetiredAt.IsZero() && slices.Contains(n.Settings.Pools, pool) {
			out = append(out, n)
		}
	}
	return out
}

// MaxPath bounds a path that people give, in bytes.
const MaxPath = 500
