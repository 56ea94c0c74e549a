package farm

import (
	"fmt"
	"slices"
	"strings"
)

// InUse returns an error that says what still needs a place, if anything.
func (p *Place) InUse(s *State) error {
	var users []string
	for name, project := range s.Projects {
		if project.Scenes == p.Name || project.Frames == p.Name {
			users = append(users, name)
		}
	}
	if len(users) == 0 {
		return nil
	}
	slices.Sort(users)
	return fmt.Errorf("the place %s is used by the %s", p.Name, listOf("project", users))
}

// InUse returns an error that says what still needs a project, if anything: a
// run on record has its frames in a folder of the project, for good.
func (p *Project) InUse(s *State) error {
	var runs []string
	for _, run := range s.Runs {
		if run.Spec.Project == p.Name {
			runs = append(runs, run.Spec.Name())
		}
	}
	if len(runs) > 0 {
		slices.Sort(runs)
		return fmt.Errorf("the project %s has the %s on record", p.Name, listOf("run", runs))
	}
	var pools []string
	for name, pool := range s.Pools {
		if slices.Contains(pool.Projects, p.Name) {
			pools = append(pools, name)
		}
	}
	if len(pools) > 0 {
		slices.Sort(pools)
		return fmt.Errorf("the project %s is among those that may use the %s", p.Name, listOf("pool", pools))
	}
	return nil
}

// listOf names some of what is meant: "run a", "runs a and b", "runs a, b, c
// and 7 more".
func listOf(what string, names []string) string {
	const most = 3
	switch more := len(names) - most; {
	case len(names) == 1:
		return what + " " + names[0]
	case more > 0:
		return fmt.Sprintf("%ss %s and %d more", what, strings.Join(names[:most], ", "), more)
	}
	return fmt.Sprintf("%ss %s and %s", what, strings.Join(names[:len(names)-1], ", "), names[len(names)-1])
}

func (s *State) placeDropped(r PlaceDropped) error {
	if p := s.Places[r.Name]; p != nil {
		if err := p.InUse(s); err != nil {
			return err
		}
	}
	delete(s.Places, r.Name)
	delete(s.Freezes, FreezeScope{Kind: FreezePlace, Name: r.Name})
	return nil
}

func (s *State) projectDropped(r ProjectDropped) error {
	if p := s.Projects[r.Name]; p != nil {
		if err := p.InUse(s); err != nil {
			return err
		}
	}
	delete(s.Projects, r.Name)
	for of := range s.LaunchSettings {
		if of.Project == r.Name {
			delete(s.LaunchSettings, of)
		}
	}
	return nil
}
