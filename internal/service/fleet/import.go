package fleet

import (
	"context"
	"fmt"
	"strings"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// Listed is a node as a list of nodes names it.
type Listed struct {
	Line     int // in the list, for errors
	Name     string
	Kind     farm.NodeKind
	Settings farm.Settings
}

// Import announces the nodes of a list that are not there yet, and gives those
// that are the settings of the list. All or nothing: an error names the line.
func (d *Desk) Import(ctx context.Context, list []Listed, dryRun bool, by farm.Person) (wire.NodesActed, error) {
	out := wire.NodesActed{DryRun: dryRun, Effects: []wire.NodeEffect{}}
	err := d.do(ctx, func(t *transaction) error {
		var records []farm.Record
		announced, changed := 0, 0
		next := t.State.LastNode
		for _, row := range list {
			for _, p := range row.Settings.Pools {
				if t.State.Pools[p] == nil {
					return refusal.New(
						refusal.Invalid, "pools",
						"line %d, column pools: there is no pool %q; make it with: vexillum pool set %s. Nothing "+
							"was changed",
						row.Line, p, p,
					)
				}
			}
			n := t.State.NodeNamed(row.Name)
			if n != nil && n.Kind != row.Kind {
				return refusal.New(
					refusal.Conflict, "kind",
					"line %d, column kind: %s is a %s node already; retire it first. Nothing was changed", row.Line,
					row.Name, n.Kind,
				)
			}
			known := farm.Settings{}
			id, version := next+1, int64(0)
			if n != nil {
				known, id, version = n.Settings, n.ID, n.Version
			} else {
				next++
				announced++
				records = append(records, farm.NodeAnnounced{Node: id, Name: row.Name, Of: row.Kind, At: t.Now})
			}
			effect := wire.NodeEffect{Node: int64(id), Name: row.Name, Changes: n == nil, Sentence: "stays as it is"}
			if n == nil {
				effect.Sentence = "is announced; it joins when the machine enrols under this name"
			}
			row.Settings.Permits = known.Permits // a list brings none, and takes none away
			if different := farm.Differences(known, row.Settings); len(different) > 0 {
				what := strings.Join(different, "; ")
				records = append(
					records,
					farm.NodeSet{
						Node: id, Version: version + 1, Settings: row.Settings, Actor: by.Name, Reason: what,
						At: t.Now,
					},
				)
				if n != nil {
					changed++
					effect.Sentence = what
				} else {
					effect.Sentence += ": " + what
				}
				effect.Changes = true
			}
			out.Effects = append(out.Effects, effect)
		}
		would := map[bool]string{true: "would be ", false: ""}[dryRun]
		out.Sentence = fmt.Sprintf(
			"%s %sannounced, %d %schanged, %d the same", english.Plural(announced, "node", ""), would, changed, would,
			len(list)-announced-changed,
		)
		if !dryRun && len(records) > 0 {
			t.Append(records...)
			t.Append(farm.Audited{Actor: by.Name, Action: "import nodes", Subject: "farm", To: out.Sentence, At: t.Now})
			t.Append(t.State.DutyChanges(t.Now)...)
		}
		return nil
	})
	return out, err
}

// List returns all nodes as a list names them.
func (d *Desk) List(ctx context.Context) ([]Listed, error) {
	var out []Listed
	err := d.do(ctx, func(*transaction) error {
		for _, n := range d.views.ShownNodes() {
			out = append(out, Listed{Name: n.Name, Kind: n.Kind, Settings: n.Settings})
		}
		return nil
	})
	return out, err
}

// Settings returns the name of a node and what is set about it.
func (d *Desk) Settings(ctx context.Context, id farm.NodeID) (name string, s farm.Settings, err error) {
	err = d.do(ctx, func(t *transaction) error {
		n := t.State.Nodes[id]
		if n == nil || !n.RetiredAt.IsZero() {
			return refusal.New(refusal.NotFound, "node", "there is no node %d", id)
		}
		name, s = n.Name, n.Settings
		return nil
	})
	return name, s, err
}
