package views

import (
	"cmp"
	"math"
	"strings"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/hours"
	"vexillum/internal/wire"
)

func hoursView(h *hours.Hours) *wire.Hours {
	if h == nil {
		return nil
	}
	v := &wire.Hours{Zone: h.Zone, Week: h.Week.String(), Exceptions: []wire.HourException{}}
	for _, e := range h.Exceptions {
		var windows []string
		for _, w := range e.Windows {
			windows = append(windows, w.String())
		}
		v.Exceptions = append(
			v.Exceptions, wire.HourException{Date: e.Date.String(), Windows: strings.Join(windows, ","), Note: e.Note},
		)
	}
	return v
}

func settingsView(n *farm.Node) wire.NodeSettings {
	c := n.Settings.Caps
	return wire.NodeSettings{
		Permits: wire.List(farm.Words(n.Settings.Permits)),
		Version: n.Version, Traits: wire.List(n.Settings.Traits), Pools: wire.List(n.Settings.Pools),
		Hours: hoursView(n.Settings.Hours), Caps: CapsView(c),
	}
}

// CapsView returns caps as they are told.
func CapsView(c farm.Caps) wire.Caps {
	return wire.Caps{
		Cores: c.Cores, MemoryBytes: c.MemoryBytes, Nice: c.Nice, StagingBytes: c.StagingBytes,
		Leases: c.Leases, SpareBytes: c.SpareBytes, KeptDevices: wire.List(c.KeptDevices),
	}
}

// ProjectView returns a project as it travels. It is to be called in the loop.
func ProjectView(s *farm.State, p farm.Project, now time.Time) wire.Project {
	out := wire.Project{
		Name: p.Name, Title: p.Title, Weight: p.Weight, Scenes: p.Scenes, Frames: p.Frames,
		Names: cmp.Or(p.Names, farm.DefaultNames), Bundles: p.Bundles, Closed: p.Closed,
		Members: map[string]string{}, Etag: p.Etag(), BudgetHours: p.Budget,
		SpentHours: math.Round(10*s.SpentHours(p.Name, now)) / 10,
	}
	for name, role := range p.Members {
		out.Members[name] = string(role)
	}
	return out
}

// LaunchValuesView returns launch settings as leases and runs tell them.
func LaunchValuesView(e farm.LaunchSettings) wire.LaunchValues {
	return wire.LaunchValues{Account: e.Account, Group: e.Group, Mask: e.Mask, Variables: e.Variables}
}
