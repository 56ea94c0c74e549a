package fleet

import (
	"context"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/refusal"
	"vexillum/internal/service/views"
	"vexillum/internal/wire"
)

// Errander is a node that can do an errand.
type Errander struct {
	ID       farm.NodeID
	Name, OS string
	Settings wire.LaunchValues // with which a project's renderers are launched by a recipe
}

// ForErrand returns a node that renders something of a project for somebody who waits:
// the one of a name, or the one that suits best. That has the renderer and nothing to
// do, if there is such a one.
func (d *Desk) ForErrand(ctx context.Context, name, project, recipe string) (out Errander, err error) {
	err = d.do(ctx, func(t *transaction) error {
		if t.State.Projects[project] == nil {
			return refusal.New(
				refusal.Invalid, "project", "there is no project %q; vexillum project list shows them", project,
			)
		}
		n, err := t.errander(name, project, recipe)
		if err != nil {
			return err
		}
		out = Errander{
			ID: n.ID, Name: n.Name, OS: n.Facts.OS,
			Settings: views.LaunchValuesView(t.State.LaunchSettingsFor(project, recipe)),
		}
		return nil
	})
	return out, err
}

func (t *transaction) errander(name, project, recipe string) (*farm.Node, error) {
	if name != "" {
		switch n := t.State.NodeNamed(name); {
		case n == nil:
			return nil, refusal.New(refusal.Invalid, "node", "there is no node %q; vexillum nodes shows them", name)
		case n.Reach != farm.Online:
			return nil, refusal.New(refusal.Conflict, "node", "%s is %s; choose a node that is online", name, n.Reach)
		default:
			return n, nil
		}
	}
	var best *farm.Node
	most := -1
	for _, n := range t.State.NodeList() {
		if n.Reach != farm.Online || !n.RetiredAt.IsZero() {
			continue
		}
		points := 0
		if _, fit := n.Facts.Renderer(recipe); fit {
			points += 4
		}
		if t.State.Idle(n.ID) {
			points += 2
		}
		if n.Ready() {
			points++
		}
		if t.State.Blind(n, &farm.Run{Spec: farm.Spec{Project: project}}) == "" {
			points += 8
		}
		if points > most {
			best, most = n, points
		}
	}
	if best == nil {
		return nil, refusal.New(
			refusal.Conflict, "node", "no node is online; join one, or try the recipe by hand: vexillum recipe try",
		)
	}
	return best, nil
}
