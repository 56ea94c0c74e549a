package fleet

import (
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/paths"
	"vexillum/internal/recipe"
)

// LeaseView is a lease with all that a node needs to work on it.
type LeaseView struct {
	ID     farm.LeaseID
	Run    farm.RunID
	Spec   farm.Spec
	Frames frames.Set
	Share  farm.Share
	Env    farm.LaunchSettings
	Roots  farm.Roots // on the node
	Recipe *recipe.Recipe
	// of the recipe
	Version int
	Scene   string    // SHA-256 of the scene
	From    *farm.Run // whose frames it reads; nil: none
	// its output folder, whole, on the node
	FromFolder string
	Stall      float64 // seconds for which its renderer may give no sign of life
}

func (d *Desk) leaseView(n *farm.Node, l *farm.Lease) *LeaseView {
	run := d.s.Runs[l.Run]
	r, version := d.recipes.Of(run.Spec)
	p := d.s.Projects[run.Spec.Project]
	view := &LeaseView{
		Stall: d.dealer.Silent(run, n, l.Share, l.Left), ID: l.ID, Run: run.ID, Spec: run.Spec,
		Frames: l.Left, Share: l.Share, Env: d.s.LaunchSettingsFor(run.Spec.Project, run.Spec.Recipe),
		Roots: d.s.Roots(p, n.Facts.OS), Recipe: r, Version: version, Scene: run.Scene(),
	}
	if from := d.s.Runs[run.Spec.From]; from != nil {
		root := d.s.Roots(d.s.Projects[from.Spec.Project], n.Facts.OS).Frames
		view.From, view.FromFolder = from, paths.Spell(n.Facts.OS, root, from.Spec.Output)
	}
	return view
}
