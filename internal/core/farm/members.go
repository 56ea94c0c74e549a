package farm

import (
	"fmt"
	"iter"
	"maps"
	"slices"
	"strings"
)

// ProjectRole is what somebody is in a project, besides the role on the farm.
type ProjectRole string

// The roles in a project.
const (
	// Member sees the project and submits to it.
	Member ProjectRole = "artist"
	// Lead steers all runs of the project besides, whoever has submitted them, and keeps
	// its presets.
	Lead ProjectRole = "lead"
)

// MostMembers bounds the members of a project.
const MostMembers = 500

// membersOf returns a copy of members, nil where there are none.
func membersOf(members map[string]ProjectRole) map[string]ProjectRole {
	if len(members) == 0 {
		return nil
	}
	return maps.Clone(members)
}

// CheckMembers returns an error for members that no project may have.
func (s *State) CheckMembers(members map[string]ProjectRole) error {
	if len(members) > MostMembers {
		return fmt.Errorf("a project has at most %d members", MostMembers)
	}
	for _, name := range slices.Sorted(maps.Keys(members)) {
		switch role := members[name]; {
		case s.People[name] == nil:
			return fmt.Errorf("there is nobody called %.60q; make them first with: vexillum person set", name)
		case role != Member && role != Lead:
			return fmt.Errorf("%s can be an artist or a lead of a project, not %.60q", name, role)
		}
	}
	return nil
}

// Admits reports whether somebody sees the project and may submit to it, as far as their
// role on the farm goes: everybody where it is open, its members where it is closed, and
// wranglers always.
func (p *Project) Admits(who Person) bool {
	return !p.Closed || who.Role.Allows(Wrangler) || p.Members[who.Name] != ""
}

// Led reports whether somebody may steer all runs of the project, and keep its presets: its
// leads may who may submit at all, and wranglers always.
func (p *Project) Led(by Person) bool {
	return by.Role.Allows(Wrangler) || by.Role.Allows(Artist) && p.Members[by.Name] == Lead
}

// MaySteer reports whether somebody may steer a run: who has submitted it, the leads of its
// project, and wranglers.
func (s *State) MaySteer(run *Run, who Person) bool {
	p := s.Projects[run.Spec.Project]
	return run.Spec.Owner == who.Name || who.Role.Allows(Wrangler) || p != nil && p.Led(who)
}

// Sight is which projects somebody sees. The zero Sight sees all. It never changes.
type Sight struct {
	hidden map[string]bool
}

// NewSight returns which of some projects somebody sees.
func NewSight(who Person, projects iter.Seq[*Project]) Sight {
	var out Sight
	for p := range projects {
		if p.Admits(who) {
			continue
		}
		if out.hidden == nil {
			out.hidden = map[string]bool{}
		}
		out.hidden[p.Name] = true
	}
	return out
}

// SightOf returns which projects somebody sees.
func (s *State) SightOf(who Person) Sight { return NewSight(who, maps.Values(s.Projects)) }

// All reports whether no project is hidden.
func (s Sight) All() bool { return len(s.hidden) == 0 }

// Hidden returns the projects that are hidden, in order.
func (s Sight) Hidden() []string { return slices.Sorted(maps.Keys(s.hidden)) }

// Sees reports whether a project is not hidden. One that is not there is not.
func (s Sight) Sees(project string) bool { return !s.hidden[project] }

// SeesPath reports whether somebody sees a path in a scene place, written with slashes: a folder
// at the top of a place that has the name of a project is that project's, even if others use the
// place.
func (s Sight) SeesPath(path string) bool {
	top, _, _ := strings.Cut(strings.TrimLeft(path, "./"), "/")
	for project := range s.hidden {
		if strings.EqualFold(project, top) { // some systems take them for one
			return false
		}
	}
	return true
}

// Key is the same for those who see the same.
func (s Sight) Key() string { return strings.Join(s.Hidden(), " ") }
