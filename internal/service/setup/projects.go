package setup

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/refusal"
	"vexillum/internal/service/views"
	"vexillum/internal/wire"
)

// SetPlace makes a place or changes it; what is not named stays. match, if not
// empty, must be the mark of what is there. It returns the place before, with no
// path where there was none, and after.
func (d *Desk) SetPlace(
	ctx context.Context, name string, in wire.PlaceChange, match, actor string,
) (before, after farm.Place, err error) {
	err = d.do(ctx, func(t *transaction) error {
		if err := farm.CheckShortName("place", name); err != nil {
			return refusal.New(refusal.Invalid, "name", "%v", err)
		}
		text := ""
		after = farm.Place{Name: name, Paths: map[string]string{}}
		if old := t.State.Places[name]; old != nil {
			before, after = *old, *old
			after.Paths = maps.Clone(old.Paths)
			text = placeText(before)
		}
		if err := refusal.UnlessCurrent(
			"the place "+name, match, before.Etag(), t.State.Places[name] != nil,
		); err != nil {
			return err
		}
		for os, where := range in.Paths {
			if os != "linux" && os != "darwin" && os != "windows" {
				return refusal.New(
					refusal.Invalid, "paths", "%q is not an operating system; use linux, darwin or windows", os,
				)
			}
			if where == "" {
				delete(after.Paths, os)
				continue
			}
			if err := checkRoot(os, where); err != nil {
				return err
			}
			after.Paths[os] = where
		}
		if len(after.Paths) == 0 {
			return refusal.New(
				refusal.Invalid, "paths", "the place %s has no path; give one for linux, darwin or windows", name,
			)
		}
		if in.Loads != nil {
			after.Loads = *in.Loads
		}
		if after.Loads < 0 || after.Loads > 100_000 {
			return refusal.New(
				refusal.Invalid, "loads", "give a number of launches from 1 to 100000, or 0 for any number",
			)
		}
		if err := t.placeStrands(before, after, in.Strand); err != nil {
			return err
		}
		if text != placeText(after) && !in.DryRun {
			t.Append(
				farm.PlaceSet{Name: name, Paths: after.Paths, Loads: after.Loads, At: t.Now},
				farm.Audited{
					Actor: actor, Action: "set place", Subject: name, From: text, To: placeText(after),
					At: t.Now,
				},
			)
		}
		return nil
	})
	return before, after, err
}

// placeText says where a place lies, for the audit record.
func placeText(p farm.Place) string {
	var parts []string
	for _, os := range slices.Sorted(maps.Keys(p.Paths)) {
		parts = append(parts, p.Paths[os]+" on "+os)
	}
	loads := "launches that may load at once: any number"
	if p.Loads > 0 {
		loads = fmt.Sprintf("launches that may load at once: %d", p.Loads)
	}
	return strings.Join(append(parts, loads), ", ")
}

// checkRoot refuses a path that no place can have.
func checkRoot(os, where string) error {
	switch {
	case os == "windows" && !strings.HasPrefix(where, `\\`) && !(len(where) > 2 && where[1] == ':'),
		os != "windows" && !path.IsAbs(where):
		return refusal.New(refusal.Invalid, "paths", "%q is not an absolute path on %s", where, os)
	case len(where) > farm.MaxPath:
		return refusal.New(refusal.Invalid, "paths", "the path on %s has more than %d characters", os, farm.MaxPath)
	case path.Clean(where) == "/":
		return refusal.New(refusal.Invalid, "paths", "a place cannot be the root of a machine's disk")
	}
	return nil
}

// Place returns one place.
func (d *Desk) Place(ctx context.Context, name string) (out farm.Place, err error) {
	err = d.do(ctx, func(t *transaction) error {
		p := t.State.Places[name]
		if p == nil {
			return refusal.New(refusal.NotFound, "place", "there is no place %q; vexillum place list shows them", name)
		}
		out = *p
		return nil
	})
	return out, err
}

// Marked puts on record that a person had the folder of a place marked.
func (d *Desk) Marked(ctx context.Context, name, path string, by farm.Person) error {
	return d.do(ctx, func(t *transaction) error {
		t.Append(farm.Audited{Actor: by.Name, Action: "mark place", Subject: name, To: path, At: t.Now})
		return nil
	})
}

// Places returns all places by name.
func (d *Desk) Places(ctx context.Context) ([]farm.Place, error) {
	var out []farm.Place
	err := d.do(ctx, func(t *transaction) error {
		for _, name := range slices.Sorted(maps.Keys(t.State.Places)) {
			out = append(out, *t.State.Places[name])
		}
		return nil
	})
	return out, err
}

// SetProject makes a project or changes it; what is not named stays. match, if
// not empty, must be the mark of what is there.
func (d *Desk) SetProject(
	ctx context.Context, name string, in wire.ProjectChange, match, actor string,
) (out wire.Project, err error) {
	err = d.do(ctx, func(t *transaction) error {
		if err := farm.CheckShortName("project", name); err != nil {
			return refusal.New(refusal.Invalid, "name", "%v", err)
		}
		if name == farm.OwnProject && actor != farm.OwnActor {
			return refusal.New(refusal.Conflict, "name", "the project %s is the farm's own", name)
		}
		old := t.State.Projects[name]
		before, p := "", farm.Project{Name: name, Title: name, Weight: 1}
		if old != nil {
			p, before = *old, projectText(*old)
		}
		if err := refusal.UnlessCurrent("the project "+name, match, p.Etag(), old != nil); err != nil {
			return err
		}
		if err := t.changeProject(&p, in); err != nil {
			return err
		}
		if old != nil {
			if err := t.projectStrands(*old, p, in.Strand); err != nil {
				return err
			}
		}
		if in.DryRun {
			out = views.ProjectView(t.State, p, t.Now)
			return nil
		}
		if after := projectText(p); before != after {
			t.Append(farm.ProjectSet{
				Name: p.Name, Title: p.Title, Weight: p.Weight, Scenes: p.Scenes, Frames: p.Frames, Names: p.Names,
				Bundles: p.Bundles, Members: p.Members, Closed: p.Closed, Budget: p.Budget, At: t.Now,
			},
				farm.Audited{Actor: actor, Action: "set project", Subject: name, From: before, To: after, At: t.Now})
		}
		if kept := t.State.Projects[name]; kept != nil {
			p = *kept
		}
		out = views.ProjectView(t.State, p, t.Now)
		return nil
	})
	return out, err
}

// changeProject makes the changes that are asked for, and looks whether the project can be
// like that.
func (t *transaction) changeProject(p *farm.Project, in wire.ProjectChange) error {
	if in.Title != nil {
		p.Title = cmp.Or(*in.Title, p.Name)
	}
	if in.Weight != nil {
		p.Weight = *in.Weight
	}
	wire.Set(&p.Names, in.Names)
	wire.Set(&p.Bundles, in.Bundles)
	if in.Members != nil {
		p.Closed = p.Closed || len(in.Members) > 0 // whoever names members means them and nobody else
		p.Members = map[string]farm.ProjectRole{}
		for person, role := range in.Members {
			p.Members[person] = farm.ProjectRole(role)
		}
		if err := t.State.CheckMembers(p.Members); err != nil {
			return refusal.New(refusal.Invalid, "members", "%v", err)
		}
	}
	wire.Set(&p.Closed, in.Closed)
	wire.Set(&p.Budget, in.BudgetHours)
	if err := farm.CheckBudget(p.Budget); err != nil {
		return refusal.New(refusal.Invalid, "budget_hours", "%v", err)
	}
	if err := farm.CheckNames(p.Names); err != nil {
		return refusal.New(refusal.Invalid, "names", "%v", err)
	}
	p.Scenes, p.Frames = cmp.Or(in.Scenes, p.Scenes), cmp.Or(in.Frames, p.Frames)
	if len(p.Title) > 100 {
		return refusal.New(refusal.Invalid, "title", "the title has more than 100 characters")
	}
	if !(p.Weight >= leastWeight && p.Weight <= mostWeight) {
		return refusal.New(
			refusal.Invalid, "weight", "a weight is %v to %v, not %v", leastWeight, mostWeight, p.Weight,
		)
	}
	for _, at := range []struct{ field, place, what string }{
		{"scenes", p.Scenes, "scenes lie"}, {"frames", p.Frames, "frames go"},
	} {
		if at.place == "" {
			return refusal.New(
				refusal.Invalid, at.field, "say in which place the %s of the project %s, with --%s", at.what, p.Name,
				at.field,
			)
		}
		if t.State.Places[at.place] == nil {
			return refusal.New(
				refusal.Invalid, at.field, "there is no place %q; make it first with: vexillum place set", at.place,
			)
		}
	}
	return nil
}

// DropProject does away with a project that has no runs on record, and with the
// launch settings for it. One that is not there is gone already.
func (d *Desk) DropProject(ctx context.Context, name, actor string) error {
	return d.do(ctx, func(t *transaction) error {
		p := t.State.Projects[name]
		switch {
		case p == nil:
			return nil
		case name == farm.OwnProject:
			return refusal.New(refusal.Conflict, "project", "the project %s is the farm's own", name)
		}
		if err := p.InUse(t.State); err != nil {
			return refusal.New(refusal.Conflict, "project", "%v, and stays as long as they do", err)
		}
		t.Append(farm.ProjectDropped{Name: name, At: t.Now},
			farm.Audited{Actor: actor, Action: "drop project", Subject: name, From: projectText(*p), At: t.Now})
		return nil
	})
}

// DropPlace does away with a place that no project uses. Its folder stays as it
// is. One that is not there is gone already.
func (d *Desk) DropPlace(ctx context.Context, name, actor string) error {
	return d.do(ctx, func(t *transaction) error {
		p := t.State.Places[name]
		if p == nil {
			return nil
		}
		if err := p.InUse(t.State); err != nil {
			return refusal.New(
				refusal.Conflict, "place", "%v; give them another one first, with: vexillum project set", err,
			)
		}
		t.Append(farm.PlaceDropped{Name: name, At: t.Now},
			farm.Audited{Actor: actor, Action: "drop place", Subject: name, From: placeText(*p), At: t.Now})
		return nil
	})
}

// Bounds of a project's weight.
const (
	leastWeight = 0.001
	mostWeight  = 1000.0
)

func projectText(p farm.Project) string {
	text := fmt.Sprintf(
		"%s, weight %g, scenes %s, frames %s, names %s", p.Title, p.Weight, p.Scenes, p.Frames,
		cmp.Or(p.Names, farm.DefaultNames),
	)
	if p.Bundles {
		text += ", scenes are sent"
	}
	if p.Budget > 0 {
		text += fmt.Sprintf(", budget %g machine hours", p.Budget)
	}
	if p.Closed {
		text += ", for its members alone"
	}
	for _, name := range slices.Sorted(maps.Keys(p.Members)) {
		text += fmt.Sprintf(", %s %s", p.Members[name], name)
	}
	return text
}

// Roots returns where a project's places lie on an operating system.
func (d *Desk) Roots(ctx context.Context, project, os string) (farm.Roots, error) {
	var roots farm.Roots
	err := d.do(ctx, func(t *transaction) error {
		p := t.State.Projects[project]
		if p == nil {
			return refusal.NoProject(project)
		}
		roots = t.State.Roots(p, os)
		return nil
	})
	return roots, err
}
