package fleet

import (
	"context"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
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

// Looker returns a node that looks at a scene of a project for somebody who waits: one that has
// the renderer and can read the scene place, if there is such a one.
func (d *Desk) Looker(ctx context.Context, project, recipe string) (Errander, error) {
	return d.errander(ctx, project, "", func(t *transaction, _ farm.LaunchSettings) (*farm.Node, error) {
		best := t.best(func(n *farm.Node) int {
			if t.State.Admits(n, project) != nil {
				return -1
			}
			points := 0
			if t.sees(n, project) {
				points += 4
			}
			if _, fit := n.Facts.Renderer(recipe); fit {
				points += 2
			}
			if n.Ready() {
				points++
			}
			return points
		})
		if best == nil {
			return nil, refusal.New(refusal.Conflict, "node", "no node that the project may use is online")
		}
		return best, nil
	})
}

// Trier returns a node that renders something of a project by a recipe that is only tried:
// the one of a name, or of those that may have work the one that suits best. That has the
// renderer and nothing to do, if there is such a one.
func (d *Desk) Trier(ctx context.Context, name, project, recipe string) (Errander, error) {
	return d.errander(ctx, project, recipe, func(t *transaction, env farm.LaunchSettings) (*farm.Node, error) {
		if name != "" {
			return t.trierNamed(name, project, env)
		}
		best := t.best(func(n *farm.Node) int {
			if !n.Ready() || n.CanRunAs(env) != nil || t.State.Admits(n, project) != nil {
				return -1
			}
			points := 0
			if t.sees(n, project) {
				points += 4
			}
			if _, fit := n.Facts.Renderer(recipe); fit {
				points += 2
			}
			if t.State.Idle(n.ID) {
				points++
			}
			return points
		})
		if best == nil {
			return nil, refusal.New(
				refusal.Conflict, "node", "no node is ready; name one that is held, or try the recipe by hand",
			)
		}
		return best, nil
	})
}

// ByHand returns the node at which a frame of a run is rendered by hand, and what it is
// told: the node of a name, or the one where the frame failed last.
func (d *Desk) ByHand(
	ctx context.Context, id farm.RunID, frame int, name string,
) (at Errander, task wire.RenderTask, err error) {
	err = d.do(ctx, func(t *transaction) error {
		run := t.State.Runs[id]
		if run == nil {
			return refusal.New(refusal.NotFound, "run", "there is no run %d", id)
		}
		if !run.Spec.Frames.Has(frame) {
			return refusal.New(
				refusal.Invalid,
				"frame",
				"%s has no frame %d; its frames are %v",
				run.Spec.Name(),
				frame,
				run.Spec.Frames,
			)
		}
		if name == "" {
			last := run.Trouble[frame].Last(0)
			if last == nil {
				return refusal.New(
					refusal.Invalid,
					"node",
					"no failed try of frame %d of %s is known; name a node",
					frame,
					run.Spec.Name(),
				)
			}
			name = t.State.NodeName(last.Node)
		}
		env := t.State.LaunchSettingsFor(run.Spec.Project, run.Spec.Recipe)
		n, err := t.trierNamed(name, run.Spec.Project, env)
		if err != nil {
			return err
		}
		lease := &farm.Lease{Run: id, Node: n.ID, Left: frames.One(frame)}
		if last := run.Trouble[frame].Last(n.ID); last != nil && run.Leases[last.Lease] != nil {
			lease.Share = run.Leases[last.Lease].Share // as then
		}
		view := d.leaseView(n, lease)
		if view.Recipe.Mode == farm.ModeWhole {
			return refusal.New(
				refusal.Conflict,
				"frame",
				"%s is rendered by %s in one launch; no frame of it can be rendered by itself",
				run.Spec.Name(),
				run.Spec.Recipe,
			)
		}
		if run.Spec.Bundle != "" {
			if len(d.lent) >= mostLent {
				clear(d.lent)
			}
			d.lent[loan{n.ID, run.Spec.Bundle}] = run.Spec.Project
		}
		at = Errander{ID: n.ID, Name: n.Name, OS: n.Facts.OS}
		task = wire.RenderTask{Recipe: view.Recipe.Text(), Lease: view.Wire()}
		return nil
	})
	return at, task, err
}

// trierNamed returns the node of a name. A machine that its owner has now is left alone.
func (t *transaction) trierNamed(name, project string, env farm.LaunchSettings) (*farm.Node, error) {
	n := t.State.NodeNamed(name)
	switch {
	case n == nil:
		return nil, refusal.New(refusal.Invalid, "node", "there is no node %q; vexillum nodes shows them", name)
	case n.Reach != farm.Online:
		return nil, refusal.New(refusal.Conflict, "node", "%s is %s; choose a node that is online", name, n.Reach)
	case n.Duty == farm.OffDuty:
		return nil, refusal.New(refusal.Conflict, "node", "%s is off duty: %s; choose another", name, n.DutyReason)
	}
	if err := t.State.Admits(n, project); err != nil {
		return nil, refusal.New(refusal.Conflict, "node", "%s: %v", name, err)
	}
	if err := n.CanRunAs(env); err != nil {
		return nil, refusal.New(refusal.Conflict, "node", "%v", err)
	}
	return n, nil
}

func (d *Desk) errander(
	ctx context.Context, project, recipe string,
	choose func(t *transaction, env farm.LaunchSettings) (*farm.Node, error),
) (out Errander, err error) {
	err = d.do(ctx, func(t *transaction) error {
		if t.State.Projects[project] == nil {
			return refusal.New(
				refusal.Invalid, "project", "there is no project %q; vexillum project list shows them", project,
			)
		}
		env := t.State.LaunchSettingsFor(project, recipe)
		n, err := choose(t, env)
		if err == nil {
			out = Errander{ID: n.ID, Name: n.Name, OS: n.Facts.OS, Settings: views.LaunchValuesView(env)}
		}
		return err
	})
	return out, err
}

// best returns the node that is online and has the most points, or nil where none has any.
func (t *transaction) best(pointsOf func(n *farm.Node) int) (best *farm.Node) {
	most := -1
	for _, n := range t.State.NodeList() {
		if n.Reach != farm.Online || !n.RetiredAt.IsZero() {
			continue
		}
		if points := pointsOf(n); points > most {
			best, most = n, points
		}
	}
	return best
}

// sees reports whether nothing is known that keeps a node from reading the scenes of a
// project.
func (t *transaction) sees(n *farm.Node, project string) bool {
	return t.State.Blind(n, &farm.Run{Spec: farm.Spec{Project: project}}) == ""
}

// BundleOf returns the project of a run that a node may render and that comes with a bundle. A
// node learns nothing of other bundles, not even that they exist.
func (d *Desk) BundleOf(ctx context.Context, node farm.NodeID, bundle string) (project string, err error) {
	err = d.do(ctx, func(t *transaction) error {
		n := t.State.Nodes[node]
		for _, run := range t.State.Queue() {
			if n != nil && run.Spec.Bundle == bundle && t.State.Admits(n, run.Spec.Project) == nil {
				project = run.Spec.Project
				return nil
			}
		}
		if project = d.lent[loan{node, bundle}]; project != "" {
			return nil
		}
		return refusal.New(refusal.NotFound, "bundle", "there is no bundle %.12s", bundle)
	})
	return project, err
}
