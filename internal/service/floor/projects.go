package floor

import (
	"context"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"vexillum/internal/core/farm"
)

// ownProject is the farm's own project, whose runs test nodes. Only OwnActor may
// set it up.
const (
	ownProject = "self-test"
	OwnActor   = "self-test"
)

// SetPlace makes or changes a place.
func (f *Floor) SetPlace(ctx context.Context, p farm.Place, actor string) error {
	return f.do(ctx, func(t *turn) error {
		if err := farm.CheckShortName("place", p.Name); err != nil {
			return refuse(Invalid, "name", "%v", err)
		}
		if len(p.Paths) == 0 {
			return refuse(Invalid, "paths", "the place %s has no path; give one for linux, darwin or windows", p.Name)
		}
		for os, where := range p.Paths {
			switch {
			case os != "linux" && os != "darwin" && os != "windows":
				return refuse(Invalid, "paths", "%q is no operating system; use linux, darwin or windows", os)
			case os == "windows" && !strings.HasPrefix(where, `\\`) && !(len(where) > 2 && where[1] == ':'),
				os != "windows" && !path.IsAbs(where):
				return refuse(Invalid, "paths", "%q is not a whole path on %s", where, os)
			case len(where) > maxPath:
				return refuse(Invalid, "paths", "the path on %s has more than %d characters", os, maxPath)
			case path.Clean(where) == "/":
				return refuse(Invalid, "paths", "a place cannot be the whole of a machine")
			}
		}
		before := ""
		if old := t.s.Places[p.Name]; old != nil {
			before = fmt.Sprint(old.Paths, " loads ", old.Loads)
		}
		if p.Loads < 0 || p.Loads > 100_000 {
			return refuse(Invalid, "loads", "so many launches cannot load at the same moment: use 1 to 100000, or 0 for any number")
		}
		t.append(farm.PlaceSet{Name: p.Name, Paths: p.Paths, Loads: p.Loads, At: t.now},
			farm.Audited{Actor: actor, Action: "set place", Subject: p.Name, From: before, To: fmt.Sprint(p.Paths, " loads ", p.Loads), At: t.now})
		return nil
	})
}

// Places returns all places by name.
func (f *Floor) Places(ctx context.Context) ([]farm.Place, error) {
	var out []farm.Place
	err := f.do(ctx, func(t *turn) error {
		for _, name := range slices.Sorted(maps.Keys(t.s.Places)) {
			out = append(out, *t.s.Places[name])
		}
		return nil
	})
	return out, err
}

// SetProject makes or changes a project.
func (f *Floor) SetProject(ctx context.Context, p farm.Project, actor string) error {
	return f.do(ctx, func(t *turn) error {
		if err := farm.CheckShortName("project", p.Name); err != nil {
			return refuse(Invalid, "name", "%v", err)
		}
		if p.Name == ownProject && actor != OwnActor {
			return refuse(Conflict, "name", "the project %s is the farm's own", p.Name)
		}
		if p.Title == "" {
			p.Title = p.Name
		}
		if len(p.Title) > 100 {
			return refuse(Invalid, "title", "the title has more than 100 characters")
		}
		if p.Weight == 0 {
			p.Weight = 1
		}
		if !(p.Weight > 0 && p.Weight <= 1000) {
			return refuse(Invalid, "weight", "a weight is above 0 and at most 1000, not %v", p.Weight)
		}
		for field, place := range map[string]string{"scenes": p.Scenes, "frames": p.Frames} {
			if t.s.Places[place] == nil {
				return refuse(Invalid, field, "there is no place %q; make it first with: vexillum place set", place)
			}
		}
		before := ""
		if old := t.s.Projects[p.Name]; old != nil {
			before = fmt.Sprintf("%s, weight %g, scenes %s, frames %s", old.Title, old.Weight, old.Scenes, old.Frames)
		}
		after := fmt.Sprintf("%s, weight %g, scenes %s, frames %s", p.Title, p.Weight, p.Scenes, p.Frames)
		t.append(farm.ProjectSet{Name: p.Name, Title: p.Title, Weight: p.Weight, Scenes: p.Scenes, Frames: p.Frames, At: t.now},
			farm.Audited{Actor: actor, Action: "set project", Subject: p.Name, From: before, To: after, At: t.now})
		return nil
	})
}
