package setup

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"vexillum/internal/core/farm"
	"vexillum/internal/jobfile"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

var presetName = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,39}$`)

// mostPreset bounds the text of a preset, in bytes.
const mostPreset = 20_000

// Chosen is the preset that a run gets.
type Chosen struct {
	Use  *farm.PresetUse // nil: none
	Text string
	By   string    // who wrote this version
	Role farm.Role // that the writer has now; empty: none any more
}

// PresetFor returns the preset that a person's run of a project and recipe gets: the one of a
// name, or for none the one that the person has chosen.
func (d *Desk) PresetFor(ctx context.Context, person, project, recipe, name string) (out Chosen, err error) {
	err = d.do(ctx, func(t *transaction) error {
		var p *farm.Preset
		if name == "" {
			p = t.State.ChosenPreset(person, project, recipe)
		} else if p = t.State.Preset(project, recipe, name); p == nil {
			var names []string
			for _, there := range t.State.PresetsFor(project, recipe) {
				names = append(names, there.Name)
			}
			there := "there are none yet"
			if len(names) > 0 {
				there = "there is " + strings.Join(names, ", ")
			}
			return refusal.New(
				refusal.Invalid, "preset", "%s has no preset %.40q for %s; %s", cmp.Or(project, "the farm"), name,
				cmp.Or(recipe, "that recipe"), there,
			)
		}
		if p == nil {
			return nil
		}
		newest := p.Newest()
		out = Chosen{
			Use:  &farm.PresetUse{PresetKey: p.PresetKey, Version: newest.Number},
			Text: newest.Text, By: newest.By,
		}
		if writer := t.State.People[newest.By]; writer != nil {
			out.Role = writer.Role
		}
		return nil
	})
	return out, err
}

// Presets returns all presets, in order of project, recipe and name; those that were
// dropped as well where asked.
func (d *Desk) Presets(ctx context.Context, person string, dropped bool) ([]wire.Preset, error) {
	out := []wire.Preset{}
	err := d.do(ctx, func(t *transaction) error {
		keys := slices.SortedFunc(maps.Keys(t.State.Presets), func(a, b farm.PresetKey) int {
			return cmp.Or(
				cmp.Compare(a.Project, b.Project),
				cmp.Compare(a.Recipe, b.Recipe),
				cmp.Compare(a.Name, b.Name),
			)
		})
		for _, key := range keys {
			if p := t.State.Presets[key]; dropped || !p.Dropped() {
				out = append(out, t.presetView(p, person))
			}
		}
		return nil
	})
	return out, err
}

func (t *transaction) presetView(p *farm.Preset, person string) wire.Preset {
	v := wire.Preset{
		Project: p.Project, Recipe: p.Recipe, Name: p.Name, Dropped: p.Dropped(), Etag: p.Etag(),
		Text: p.Newest().Text, Versions: []wire.PresetVersion{},
	}
	chosen := t.State.PresetChoices[farm.PresetChoice{Person: person, Project: p.Project, Recipe: p.Recipe}]
	v.Mine = chosen == p.Name
	for _, version := range slices.Backward(p.Versions) {
		v.Versions = append(v.Versions, wire.PresetVersion{
			Number: version.Number, Text: version.Text, By: version.By, Note: version.Note, At: version.At,
		})
	}
	return v
}

// mayKeep refuses somebody who may not keep a preset: the leads of its project do, and
// wranglers.
func mayKeep(t *transaction, of farm.PresetKey, by farm.Person) error {
	p := t.State.Projects[of.Project]
	if by.Role.Allows(farm.Wrangler) || p != nil && p.Led(by) {
		return nil
	}
	if of.Project == "" {
		return refusal.New(refusal.Forbidden, "", "only a wrangler keeps presets of all projects; ask one")
	}
	return refusal.New(
		refusal.Forbidden, "", "only a lead of the project %s or a wrangler keeps its presets; ask one", of.Project,
	)
}

// SetPreset adds a version to a preset, or makes the preset. A text that is that of the
// newest version changes nothing. match, if not empty, must be the mark of what its changer
// has seen.
func (d *Desk) SetPreset(
	ctx context.Context, of farm.PresetKey, in wire.PresetChange, match string, by farm.Person,
) (out wire.Preset, err error) {
	if err := checkPreset(of, in); err != nil {
		return out, err
	}
	err = d.do(ctx, func(t *transaction) error {
		if err := d.presetOf(t, of, by); err != nil {
			return err
		}
		if err := mayKeep(t, of, by); err != nil {
			return err
		}
		old := t.State.Presets[of]
		if err := refusal.UnlessCurrent("the preset "+of.String(), match, old.Etag(), old != nil); err != nil {
			return err
		}
		if old == nil || old.Dropped() || old.Newest().Text != in.Text {
			number, before := 1, ""
			if old != nil {
				number, before = old.Newest().Number+1, fmt.Sprintf("version %d", old.Newest().Number)
			}
			t.Append(
				farm.PresetSet{Of: of, Version: number, Text: in.Text, By: by.Name, Note: in.Note, At: t.Now},
				farm.Audited{
					Actor: by.Name, Action: "set preset", Subject: of.String(), From: before,
					To: fmt.Sprintf("version %d", number), At: t.Now,
				},
			)
		}
		out = t.presetView(t.State.Presets[of], by.Name)
		return nil
	})
	return out, err
}

func checkPreset(of farm.PresetKey, in wire.PresetChange) error {
	switch {
	case !presetName.MatchString(of.Name) || of.Name == "none":
		return refusal.New(
			refusal.Invalid, "name",
			"a preset cannot be called %.60q: use up to 40 small letters, digits, dots, hyphens and underscores, and "+
				"not none", of.Name,
		)
	case utf8.RuneCountInString(in.Note) > mostNote:
		return refusal.New(refusal.Invalid, "note", "a note has at most %d characters", mostNote)
	case len(in.Text) > mostPreset:
		return refusal.New(refusal.Invalid, "text", "a preset has at most %d characters", mostPreset)
	}
	settings, err := jobfile.ParsePreset([]byte(in.Text))
	if err != nil {
		return err
	}
	var probe wire.Submit
	var wrong *jobfile.WrongError
	if err := settings.Apply(&probe); errors.As(err, &wrong) {
		return refusal.New(refusal.Invalid, wrong.Field, "%s", wrong.What)
	}
	return nil
}

// presetOf refuses presets of projects and recipes that are not there, or not for who asks.
func (d *Desk) presetOf(t *transaction, of farm.PresetKey, by farm.Person) error {
	if p := t.State.Projects[of.Project]; of.Project != "" && (p == nil || !p.Admits(by)) {
		return refusal.NoProject(of.Project)
	}
	if of.Recipe != "" && d.recipes.Book()[of.Recipe] == nil {
		return refusal.New(refusal.Invalid, "recipe", "%v", d.noRecipe(of.Recipe))
	}
	return nil
}

// DropPreset takes a preset out of use. One that is not there is gone already.
func (d *Desk) DropPreset(ctx context.Context, of farm.PresetKey, by farm.Person) error {
	return d.do(ctx, func(t *transaction) error {
		if err := d.presetOf(t, of, by); err != nil {
			return err
		}
		if p := t.State.Presets[of]; p == nil || p.Dropped() {
			return nil
		}
		if err := mayKeep(t, of, by); err != nil {
			return err
		}
		t.Append(
			farm.PresetDropped{Of: of, At: t.Now},
			farm.Audited{Actor: by.Name, Action: "drop preset", Subject: of.String(), At: t.Now},
		)
		return nil
	})
}

// ChoosePreset says which preset a person's own runs get where nothing is said; an empty
// name: none.
func (d *Desk) ChoosePreset(ctx context.Context, of farm.PresetKey, by farm.Person) error {
	return d.do(ctx, func(t *transaction) error {
		if err := d.presetOf(t, of, by); err != nil {
			return err
		}
		if p := t.State.Presets[of]; of.Name != "" && (p == nil || p.Dropped()) {
			return refusal.New(refusal.NotFound, "preset", "there is no preset %s", of)
		}
		choice := farm.PresetChoice{Person: by.Name, Project: of.Project, Recipe: of.Recipe}
		if t.State.PresetChoices[choice] != of.Name {
			t.Append(farm.PresetChosen{For: choice, Name: of.Name, At: t.Now})
		}
		return nil
	})
}

// PresetNames tells the presets that a person's run of a project and recipe may have.
func (d *Desk) PresetNames(
	ctx context.Context, person, project, recipe string, tell func(name string, version int, mine bool),
) error {
	return d.do(ctx, func(t *transaction) error {
		mine := t.State.ChosenPreset(person, project, recipe)
		for _, p := range t.State.PresetsFor(project, recipe) {
			tell(p.Name, p.Newest().Number, p == mine)
		}
		return nil
	})
}
