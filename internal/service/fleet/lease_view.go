package fleet

import (
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/paths"
	"vexillum/internal/recipe"
	"vexillum/internal/service/views"
	"vexillum/internal/wire"
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

// Wire returns the lease as a node takes it.
func (l *LeaseView) Wire() wire.Lease {
	spec := l.Spec
	folder, before, ending := spec.FrameFileParts("")
	out := wire.Lease{
		ID: int64(l.ID), Run: int64(l.Run), RunName: spec.Name(), Recipe: spec.Recipe,
		RecipeVersion: l.Version, Frames: l.Frames.String(),
		Share:          views.ShareView(l.Share),
		LaunchSettings: views.LaunchValuesView(l.Env),
		ShotFirst:      spec.ShotRange().First, ShotLast: spec.ShotRange().Last, Scene: spec.Scene,
		SceneRoot: l.Roots.Scenes, SceneText: spec.SceneText, Bundle: spec.Bundle, With: spec.With,
		Output:     spec.Output,
		OutputRoot: l.Roots.Frames, OutputMark: spec.Mark, FilePrefix: prefixed(folder, before), FileEnding: ending,
		Digits: spec.Digits(), Stall: l.Stall, StallHard: spec.Stall > 0,
		Width: spec.Width, Height: spec.Height,
		Values: spec.Values,
	}
	if spec.Tiles != nil {
		out.Tiles = &wire.LeaseTiles{Frame: spec.Tiles.Frame}
		for i := range spec.Tiles.Rects {
			r := spec.Rendered(i + 1)
			out.Tiles.Rects = append(out.Tiles.Rects, [4]int{r.Left, r.Top, r.Right, r.Bottom})
		}
	}
	if l.From != nil {
		out.From = fromView(l)
	}
	if spec.Pin != "" {
		out.Pin = l.Scene
	} else {
		out.SceneSHA = l.Scene
	}
	for _, p := range spec.Passes {
		folder, before, ending := spec.FrameFileParts(p.Name)
		out.Passes = append(
			out.Passes, wire.LeasePass{Name: p.Name, FilePrefix: before, FileEnding: ending, Folder: &folder},
		)
	}
	return out
}

// fromView tells a node where the frames are that a run reads: the picture, or the pass that
// its setting from_pass names.
func fromView(l *LeaseView) *wire.LeaseFrom {
	from := l.From.Spec
	folder, before, ending := from.FrameFileParts(l.Spec.Values["from_pass"])
	return &wire.LeaseFrom{
		Folder: l.FromFolder, FilePrefix: prefixed(folder, before), FileEnding: ending,
		Digits: from.Digits(), Frames: from.Frames.String(),
	}
}

// prefixed puts the folder of files before what their names begin with.
func prefixed(folder, before string) string {
	if folder == "" {
		return before
	}
	return folder + "/" + before
}
