package floor

import (
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
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
	Roots  Roots // on the node
	Recipe *recipe.Recipe
	Stall  float64 // seconds for which its renderer may give no sign of life
}

func (f *Floor) leaseView(n *farm.Node, l *farm.Lease) *LeaseView {
	run := f.s.Runs[l.Run]
	p := f.s.Projects[run.Spec.Project]
	return &LeaseView{
		Stall: f.dealer.Silent(run, n, l.Share, l.Left), ID: l.ID, Run: run.ID, Spec: run.Spec,
		Frames: l.Left, Share: l.Share, Env: f.s.LaunchSettingsFor(run.Spec.Project, run.Spec.Recipe),
		Recipe: f.recipes[run.Spec.Recipe],
		Roots:  Roots{f.s.Places[p.Scenes].Paths[n.Facts.OS], f.s.Places[p.Frames].Paths[n.Facts.OS], p.Frames},
	}
}
