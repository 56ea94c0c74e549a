package floor

import (
	"context"
	"slices"
	"strings"
	"vexillum/internal/core/farm"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"

	"github.com/dustin/go-humanize/english"
)

// SetPool makes a pool, or changes which projects may use it.
func (f *Floor) SetPool(ctx context.Context, name string, projects []string, by farm.Person) (wire.Pool, error) {
	var view wire.Pool
	err := f.do(ctx, func(t *transaction) error {
		if err := farm.CheckShortName("pool", name); err != nil {
			return refusal.New(refusal.Invalid, "name", "%v", err)
		}
		for _, p := range projects {
			if t.s.Projects[p] == nil {
				return refusal.New(refusal.Invalid, "projects", "there is no project %q; vexillum project list shows them", p)
			}
		}
		projects = slices.Compact(slices.Sorted(slices.Values(projects)))
		before := ""
		if old := t.s.Pools[name]; old != nil {
			before = open(old.Projects)
		}
		if before != open(projects) {
			t.append(
				farm.PoolSet{Name: name, Projects: orEmpty(projects), At: t.now},
				farm.Audited{
					Actor: by.Name, Action: "set pool", Subject: name, From: before, To: open(projects),
					At: t.now,
				},
			)
		}
		view = f.poolView(t.s.Pools[name])
		return nil
	})
	return view, err
}

// DropPool does away with a pool that has no members. One that is not there is
// gone already.
func (f *Floor) DropPool(ctx context.Context, name string, by farm.Person) error {
	return f.do(ctx, func(t *transaction) error {
		if t.s.Pools[name] == nil {
			return nil
		}
		if members := t.s.Members(name); len(members) > 0 {
			return refusal.New(
				refusal.Conflict, "pool", "the pool %s still has %s, such as %s; take them out first", name,
				english.Plural(len(members), "node", ""), members[0].Name,
			)
		}
		t.append(
			farm.PoolDropped{Name: name, At: t.now},
			farm.Audited{Actor: by.Name, Action: "drop pool", Subject: name, At: t.now},
		)
		return nil
	})
}

// Pools returns all pools with their members, by name.
func (f *Floor) Pools(ctx context.Context) ([]wire.Pool, error) {
	out := []wire.Pool{}
	err := f.do(ctx, func(t *transaction) error {
		for _, p := range t.s.Pools {
			out = append(out, f.poolView(p))
		}
		slices.SortFunc(out, func(a, b wire.Pool) int { return strings.Compare(a.Name, b.Name) })
		return nil
	})
	return out, err
}

func (f *Floor) poolView(p *farm.Pool) wire.Pool {
	v := wire.Pool{Name: p.Name, Projects: orEmpty(p.Projects), Nodes: []string{}}
	for _, n := range f.s.Members(p.Name) {
		v.Nodes = append(v.Nodes, n.Name)
	}
	return v
}
