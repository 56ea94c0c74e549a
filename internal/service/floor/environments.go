package floor

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"vexillum/internal/core/farm"
	"vexillum/internal/wire"
)

// SetEnvironment says as whom renderers run and what they find in their
// environment, for a project, a recipe, both or all. What is not named stays.
// match, if not empty, must be the mark of what is said.
func (f *Floor) SetEnvironment(
	ctx context.Context, in wire.EnvironmentChange, match string, by farm.Person,
) (out wire.Environment, err error) {
	err = f.do(ctx, func(t *turn) error {
		of := farm.EnvironmentOf{Project: in.Project, Recipe: in.Recipe}
		if in.Project != "" && t.s.Projects[in.Project] == nil {
			return refuse(Invalid, "project", "there is no project %q; vexillum project list shows them", in.Project)
		}
		if in.Recipe != "" && f.recipes[in.Recipe] == nil {
			return refuse(Invalid, "recipe", "there is no recipe %q; there are %v", in.Recipe, f.recipes.Names())
		}
		old := t.s.Environments[of]
		if err := matches("what is said for "+of.String(), match, old.Etag(), true); err != nil {
			return err
		}
		env := old
		set(&env.Account, in.Account)
		set(&env.Group, in.Group)
		set(&env.Mask, in.Mask)
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
			return refuse(Invalid, field, "%v", err)
		}
		if err := t.permitted(of, old, env); err != nil {
			return err
		}
		before, after := environmentText(old), environmentText(env)
		if before != after {
			t.append(farm.EnvironmentSet{Of: of, Env: env, At: t.now},
				farm.Audited{Actor: by.Name, Action: "set environment", Subject: of.String(), From: before, To: after, At: t.now})
		}
		out = environmentView(of, env)
		return nil
	})
	return out, err
}

// permitted refuses what is said for the first time and no administrator has
// allowed on any node.
func (t *turn) permitted(of farm.EnvironmentOf, old, env farm.Environment) error {
	had := old.Wants()
	for p, what := range env.Wants() {
		somewhere := false
		for _, n := range t.s.Nodes {
			somewhere = somewhere || n.RetiredAt.IsZero() && slices.Contains(n.Settings.Permits, p)
		}
		if had[p] != what && !somewhere {
			return refuse(
				Forbidden, "environment",
				"renderers of %s would %s, which no administrator has allowed on any node; as one, allow it with: vexillum nodes set NAME --permit %s",
				of, what, p,
			)
		}
	}
	return nil
}

// environmentText says what an environment says, for the audit record.
func environmentText(e farm.Environment) string {
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

// Environments returns all that is said, in order.
func (f *Floor) Environments(ctx context.Context) ([]wire.Environment, error) {
	out := []wire.Environment{}
	err := f.do(ctx, func(t *turn) error {
		for of, e := range t.s.Environments {
			out = append(out, environmentView(of, e))
		}
		slices.SortFunc(out, func(a, b wire.Environment) int {
			return cmp.Or(cmp.Compare(a.Project, b.Project), cmp.Compare(a.Recipe, b.Recipe))
		})
		return nil
	})
	return out, err
}

func environmentView(of farm.EnvironmentOf, e farm.Environment) wire.Environment {
	v := wire.Environment{
		Project: of.Project, Recipe: of.Recipe, Account: e.Account, Group: e.Group, Mask: e.Mask,
		Variables: map[string]string{}, Etag: e.Etag(),
	}
	maps.Copy(v.Variables, e.Variables)
	return v
}

// LeaseEnvironmentView returns an environment as leases and runs tell it.
func LeaseEnvironmentView(e farm.Environment) wire.LeaseEnvironment {
	return wire.LeaseEnvironment{Account: e.Account, Group: e.Group, Mask: e.Mask, Variables: e.Variables}
}
