package setup

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"vexillum/internal/core/farm"
	"vexillum/internal/recipe"
	"vexillum/internal/service/refusal"
	"vexillum/internal/service/shelf"
	"vexillum/internal/wire"
)

// mostNote bounds what somebody says of a version of a recipe, in characters.
const mostNote = 400

// SetRecipe adds a version to a recipe, or makes the recipe: it is in force for new
// runs at once. A text that is that of the newest version changes nothing. match,
// if not empty, must be the mark of what its changer has seen.
func (d *Desk) SetRecipe(
	ctx context.Context, r *recipe.Recipe, note, match string, by farm.Person,
) (out wire.RecipeDetail, err error) {
	if utf8.RuneCountInString(note) > mostNote {
		return out, refusal.New(refusal.Invalid, "note", "a note has at most %d characters", mostNote)
	}
	err = d.do(ctx, func(t *transaction) error {
		old := t.State.Recipes[r.Name]
		if err := refusal.UnlessCurrent("the recipe "+r.Name, match, old.Etag(), old != nil); err != nil {
			return err
		}
		if old == nil || old.Dropped() || old.Newest().Text != r.Text() {
			t.setRecipe(r, farm.RecipePerson, by.Name, note)
		}
		return nil
	})
	if err != nil {
		return out, err
	}
	return d.Recipe(ctx, r.Name, 0)
}

func (t *transaction) setRecipe(r *recipe.Recipe, origin farm.RecipeOrigin, by, note string) {
	before, number := "", 1
	if old := t.State.Recipes[r.Name]; old != nil {
		before, number = fmt.Sprintf("version %d", old.Newest().Number), old.Newest().Number+1
	}
	t.Append(
		farm.RecipeSet{
			Name: r.Name, Version: number, Text: r.Text(), Origin: origin, By: by, Note: note, At: t.Now,
		},
		farm.Audited{
			Actor: by, Action: "set recipe", Subject: r.Name, From: before, To: fmt.Sprintf("version %d", number),
			At: t.Now,
		},
	)
}

// DropRecipe takes a recipe out of use: no new run may have it. One that is not
// there is gone already.
func (d *Desk) DropRecipe(ctx context.Context, name string, by farm.Person) error {
	return d.do(ctx, func(t *transaction) error {
		if r := t.State.Recipes[name]; r == nil || r.Dropped() {
			return nil
		}
		t.Append(
			farm.RecipeDropped{Name: name, At: t.Now},
			farm.Audited{Actor: by.Name, Action: "drop recipe", Subject: name, At: t.Now},
		)
		return nil
	})
}

// Ship takes in the recipes that came with the program, or stand in the folder that
// the service was started with. What somebody has written since stays in force, and
// so does that a recipe was dropped; a file of the folder that has changed counts
// again.
func (d *Desk) Ship(ctx context.Context, book recipe.Book, origin farm.RecipeOrigin, by string) error {
	return d.do(ctx, func(t *transaction) error {
		for _, name := range book.Names() {
			if old := t.State.Recipes[name]; old == nil || overrides(old, book[name].Text(), origin) {
				t.setRecipe(book[name], origin, by, "")
			}
		}
		return nil
	})
}

// overrides reports whether a text of an origin shall follow on what is kept.
func overrides(old *farm.Recipe, text string, origin farm.RecipeOrigin) bool {
	var last *farm.RecipeVersion
	for i, v := range old.Versions {
		if v.Origin != origin {
			continue
		}
		if last = &old.Versions[i]; origin == farm.RecipeShipped && v.Text == text {
			return false // of this program or an older one that took over
		}
	}
	if origin == farm.RecipeShipped {
		return !old.Dropped() && old.Newest().Origin == farm.RecipeShipped
	}
	return last == nil || last.Text != text
}

// Recipes returns the recipes that new runs may have, in order of name; those that
// were dropped as well where asked.
func (d *Desk) Recipes(ctx context.Context, dropped bool) ([]wire.Recipe, error) {
	out := []wire.Recipe{}
	err := d.do(ctx, func(t *transaction) error {
		names := d.recipes.Book().Names()
		if dropped {
			names = slices.Compact(slices.Sorted(slices.Values(slices.AppendSeq(names, maps.Keys(t.State.Recipes)))))
		}
		for _, name := range names {
			if v, known := t.recipeView(d.recipes, name, 0); known {
				out = append(out, v)
			}
		}
		return nil
	})
	return out, err
}

// Recipe returns all of one recipe, with the text of a version; of the newest for 0.
func (d *Desk) Recipe(ctx context.Context, name string, number int) (out wire.RecipeDetail, err error) {
	err = d.do(ctx, func(t *transaction) error {
		view, known := t.recipeView(d.recipes, name, number)
		if !known && number != 0 {
			return refusal.New(refusal.NotFound, "version", "there is no version %d of the recipe %s", number, name)
		}
		if !known {
			return refusal.New(refusal.NotFound, "recipe", "%v", d.noRecipe(name))
		}
		kept := t.State.Recipes[name]
		out = wire.RecipeDetail{Recipe: view, Etag: kept.Etag(), Versions: []wire.RecipeVersion{}}
		if kept == nil {
			out.Text = d.recipes.Book()[name].Text()
			return nil
		}
		runs := map[int]int{}
		for _, run := range t.State.Queue() {
			if run.Spec.Recipe == name {
				_, version := d.recipes.Of(run.Spec)
				runs[version]++
			}
		}
		for _, v := range slices.Backward(kept.Versions) {
			if v.Number == view.Version {
				out.Text = v.Text
			}
			out.Versions = append(out.Versions, wire.RecipeVersion{
				Number: v.Number, By: v.By, Origin: string(v.Origin), Note: v.Note, At: v.At, OpenRuns: runs[v.Number],
			})
		}
		return nil
	})
	return out, err
}

// noRecipe says that there is no recipe of a name, and which there are.
func (d *Desk) noRecipe(name string) error {
	return fmt.Errorf(
		"there is no recipe %q; the recipes are: %s", name, strings.Join(d.recipes.Book().Names(), ", "),
	)
}

// recipeView returns a recipe as people see it in lists, in one version or the
// newest.
func (t *transaction) recipeView(books *shelf.Shelf, name string, number int) (wire.Recipe, bool) {
	kept, r := t.State.Recipes[name], books.Book()[name]
	v := wire.Recipe{Name: name, Values: map[string]string{}, Scenes: []string{}}
	switch {
	case kept == nil && (r == nil || number != 0):
		return v, false
	case kept != nil && number > len(kept.Versions):
		return v, false
	case kept != nil:
		if number == 0 {
			number = kept.Newest().Number
		}
		version := kept.Versions[number-1]
		v.Version, v.By, v.Origin, v.At = number, version.By, string(version.Origin), &version.At
		v.Dropped = kept.Dropped()
		r = books.At(name, number)
	}
	if r == nil {
		v.Title, v.Unreadable = name, true
		return v, true
	}
	v.Title, v.Mode, v.Scenes, v.Role = r.Title, string(r.Mode), wire.List(r.Scenes), r.Role
	for value, d := range r.Values {
		v.Values[value] = d.Default
	}
	for _, n := range t.State.NodeList() {
		if _, has := n.Facts.Renderer(name); has && n.Reach == farm.Online && n.RetiredAt.IsZero() {
			v.Nodes++
		}
	}
	return v, true
}
