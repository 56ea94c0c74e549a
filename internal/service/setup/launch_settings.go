package setup

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// SetLaunchSettings sets the account, group, file mask and variables that
// renderers are launched with, for a project, a recipe, both or all. What is not
// named stays.
// match, if not empty, must be the mark of what is said.
func (d *Desk) SetLaunchSettings(
	ctx context.Context, in wire.LaunchSettingsChange, match string, by farm.Person,
) (out wire.LaunchSettings, err error) {
	err = d.do(ctx, func(t *transaction) error {
		of := farm.LaunchScope{Project: in.Project, Recipe: in.Recipe}
		if in.Project != "" && t.State.Projects[in.Project] == nil {
			return refusal.New(
				refusal.Invalid, "project", "there is no project %q; vexillum project list shows them", in.Project,
			)
		}
		if in.Recipe != "" && d.recipes.Book()[in.Recipe] == nil {
			return refusal.New(refusal.Invalid, "recipe", "%v", d.noRecipe(in.Recipe))
		}
		old := t.State.LaunchSettings[of]
		if err := refusal.UnlessCurrent("what is said for "+of.String(), match, old.Etag(), true); err != nil {
			return err
		}
		env := old
		wire.Set(&env.Account, in.Account)
		wire.Set(&env.Group, in.Group)
		wire.Set(&env.Mask, in.Mask)
		env.Variables = maps.Clone(old.Variables)
		if env.Variables == nil {
			env.Variables = map[string]string{}
		}
		for name, value := range in.Variables {
			if value == nil {
				delete(env.Variables, name)
			} else {
				env.Variables[name] = *value
			}
		}
		if field, err := env.Check(); err != nil {
			return refusal.New(refusal.Invalid, field, "%v", err)
		}
		if err := t.permitted(of, old, env); err != nil {
			return err
		}
		before, after := launchText(old), launchText(env)
		if before != after {
			t.Append(
				farm.LaunchSettingsSet{Of: of, Env: env, At: t.Now},
				farm.Audited{
					Actor: by.Name, Action: "set launch settings", Subject: of.String(), From: before,
					To: after, At: t.Now,
				},
			)
		}
		out = launchSettingsView(of, env)
		return nil
	})
	return out, err
}

// DropLaunchSettings takes all back that is set for a project, a recipe, both or
// all. What is not set is gone already.
func (d *Desk) DropLaunchSettings(ctx context.Context, project, recipe string, by farm.Person) error {
	return d.do(ctx, func(t *transaction) error {
		of := farm.LaunchScope{Project: project, Recipe: recipe}
		if old, set := t.State.LaunchSettings[of]; set {
			t.Append(farm.LaunchSettingsSet{Of: of, At: t.Now}, farm.Audited{
				Actor: by.Name, Action: "drop launch settings", Subject: of.String(), From: launchText(old), At: t.Now,
			})
		}
		return nil
	})
}

// permitted refuses what is said for the first time and no administrator has
// allowed on any node.
func (t *transaction) permitted(of farm.LaunchScope, old, env farm.LaunchSettings) error {
	had := old.Wants("")
	for _, want := range env.Wants("") {
		somewhere := slices.Contains(had, want)
		for _, n := range t.State.Nodes {
			somewhere = somewhere || n.RetiredAt.IsZero() &&
				(slices.Contains(n.Settings.Permits, want) || !slices.Contains(env.Wants(n.Facts.Means.RendersAs), want))
		}
		if !somewhere {
			return refusal.New(
				refusal.Forbidden, "launch_settings",
				"renderers of %s would run under %s, which no administrator has allowed on any node. An administrator "+
					"allows it with: vexillum nodes set NAME --permit %s",
				of, strings.Replace(string(want), "=", " ", 1), want,
			)
		}
	}
	return nil
}

// launchText puts launch settings in words, for the audit record.
func launchText(e farm.LaunchSettings) string {
	var parts []string
	for _, p := range []struct{ name, value string }{{"account", e.Account}, {"group", e.Group}, {"mask", e.Mask}} {
		if p.value != "" {
			parts = append(parts, p.name+" "+p.value)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(e.Variables)) {
		parts = append(parts, fmt.Sprintf("%s=%s", name, e.Variables[name]))
	}
	return strings.Join(parts, ", ")
}

// LaunchSettings returns all that are set, in order.
func (d *Desk) LaunchSettings(ctx context.Context) ([]wire.LaunchSettings, error) {
	out := []wire.LaunchSettings{}
	err := d.do(ctx, func(t *transaction) error {
		for of, e := range t.State.LaunchSettings {
			out = append(out, launchSettingsView(of, e))
		}
		slices.SortFunc(out, func(a, b wire.LaunchSettings) int {
			return cmp.Or(cmp.Compare(a.Project, b.Project), cmp.Compare(a.Recipe, b.Recipe))
		})
		return nil
	})
	return out, err
}

func launchSettingsView(of farm.LaunchScope, e farm.LaunchSettings) wire.LaunchSettings {
	v := wire.LaunchSettings{
		For: of.String(), Project: of.Project, Recipe: of.Recipe, Account: e.Account, Group: e.Group, Mask: e.Mask,
		Variables: map[string]string{}, Etag: e.Etag(),
	}
	maps.Copy(v.Variables, e.Variables)
	return v
}
