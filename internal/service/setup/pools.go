package setup

import (
	"context"
	"slices"
	"strings"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// SetPool makes a pool, or changes which projects may use it and whether its nodes
// exchange pieces of bundles with others.
func (d *Desk) SetPool(ctx context.Context, name string, in wire.NewPool, by farm.Person) (wire.Pool, error) {
	var view wire.Pool
	projects := in.Projects
	err := d.do(ctx, func(t *transaction) error {
		if err := farm.CheckShortName("pool", name); err != nil {
			return refusal.New(refusal.Invalid, "name", "%v", err)
		}
		for _, p := range projects {
			if t.State.Projects[p] == nil {
				return refusal.New(
					refusal.Invalid, "projects", "there is no project %q; vexillum project list shows them", p,
				)
			}
		}
		projects = slices.Compact(slices.Sorted(slices.Values(projects)))
		before := ""
		if old := t.State.Pools[name]; old != nil {
			before = poolUse(old.Projects, old.Alone)
		}
		if before != poolUse(projects, in.Alone) {
			t.Append(
				farm.PoolSet{Name: name, Projects: wire.List(projects), Alone: in.Alone, At: t.Now},
				farm.Audited{
					Actor: by.Name, Action: "set pool", Subject: name, From: before, To: poolUse(projects, in.Alone),
					At: t.Now,
				},
			)
		}
		view = d.poolView(t.State.Pools[name])
		return nil
	})
	return view, err
}

// DropPool does away with a pool that has no members. One that is not there is
// gone already.
func (d *Desk) DropPool(ctx context.Context, name string, by farm.Person) error {
	return d.do(ctx, func(t *transaction) error {
		if t.State.Pools[name] == nil {
			return nil
		}
		if members := t.State.Members(name); len(members) > 0 {
			return refusal.New(
				refusal.Conflict, "pool", "the pool %s still has %s, such as %s; take them out first", name,
				english.Plural(len(members), "node", ""), members[0].Name,
			)
		}
		t.Append(
			farm.PoolDropped{Name: name, At: t.Now},
			farm.Audited{Actor: by.Name, Action: "drop pool", Subject: name, At: t.Now},
		)
		return nil
	})
}

// Pools returns all pools with their members, by name.
func (d *Desk) Pools(ctx context.Context) ([]wire.Pool, error) {
	out := []wire.Pool{}
	err := d.do(ctx, func(t *transaction) error {
		for _, p := range t.State.Pools {
			out = append(out, d.poolView(p))
		}
		slices.SortFunc(out, func(a, b wire.Pool) int { return strings.Compare(a.Name, b.Name) })
		return nil
	})
	return out, err
}

func (d *Desk) poolView(p *farm.Pool) wire.Pool {
	v := wire.Pool{Name: p.Name, Projects: wire.List(p.Projects), Alone: p.Alone, Nodes: []string{}}
	for _, n := range d.s.Members(p.Name) {
		v.Nodes = append(v.Nodes, n.Name)
	}
	return v
}

// poolUse says who may use a pool, for the audit record.
func poolUse(projects []string, alone bool) string {
	use := "open to all"
	if len(projects) > 0 {
		use = "for " + strings.Join(projects, ", ")
	}
	if alone {
		use += ", exchanging nothing with other nodes"
	}
	return use
}
