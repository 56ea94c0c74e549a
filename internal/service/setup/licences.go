package setup

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

const mostLicences = 1_000_000

// SetLicence counts a licence; a count that is nil counts it no more.
func (d *Desk) SetLicence(ctx context.Context, name string, count *int, by farm.Person) error {
	return d.do(ctx, func(t *transaction) error {
		if err := farm.CheckShortName("licence", name); err != nil {
			return refusal.New(refusal.Invalid, "name", "%v", err)
		}
		old := t.State.Licences[name]
		before, after := "not counted", "not counted"
		if old != nil {
			before = fmt.Sprint(old.Count)
		}
		record := farm.LicenceSet{Name: name, Count: -1, At: t.Now}
		if count != nil {
			if *count < 0 || *count > mostLicences {
				return refusal.New(
					refusal.Invalid, "count", "a count of licences is 0 to %d, not %d", mostLicences, *count,
				)
			}
			record.Count, after = *count, fmt.Sprint(*count)
		} else if old == nil {
			return refusal.New(refusal.NotFound, "licence", "no licence %q is counted", name)
		}
		record.Reason = fmt.Sprintf("licence %s: %s instead of %s", name, after, before)
		t.Append(
			record,
			farm.Audited{Actor: by.Name, Action: "set licence", Subject: name, From: before, To: after, At: t.Now},
		)
		return nil
	})
}

// Licences returns the licences that are counted, and those that recipes need
// and nobody counts, by name.
func (d *Desk) Licences(ctx context.Context) ([]wire.Licence, error) {
	out := []wire.Licence{}
	err := d.do(ctx, func(t *transaction) error {
		views := map[string]*wire.Licence{}
		view := func(name string) *wire.Licence {
			if views[name] == nil {
				views[name] = &wire.Licence{
					Name: name, Used: capacity.LicencesUsed(t.State, name, 0), Recipes: []string{},
				}
			}
			return views[name]
		}
		for name, l := range t.State.Licences {
			v := view(name)
			if count := l.Count; count != farm.Uncounted {
				v.Count = &count
			}
			if t.Now.Before(l.LoweredUntil) {
				lowered, until := l.Lowered, l.LoweredUntil
				v.Lowered, v.LoweredUntil = &lowered, &until
			}
		}
		book := d.recipes.Book()
		for _, name := range book.Names() {
			if l := book[name].Licence; l != nil {
				v := view(l.Name)
				v.Recipes = append(v.Recipes, name)
			}
		}
		for _, name := range slices.Sorted(maps.Keys(views)) {
			out = append(out, *views[name])
		}
		return nil
	})
	return out, err
}
