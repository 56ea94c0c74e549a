package node

import (
	"fmt"
	"time"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/triage"
	"vexillum/internal/recipe"
	"vexillum/internal/wire"
)

// changedScene is a scene that is not the one any more that the run was submitted with,
// or a file that it needs.
type changedScene struct {
	name, node string
	files      []string // of the scene's that have changed; nil: the scene itself, or it is not known which
	hash       string   // of what there is now
	at         time.Time
}

// mostNamed bounds the changed files that are named.
const mostNamed = 3

// Error says what has changed, and since when.
func (c *changedScene) Error() string {
	what := "the scene " + c.name + " has"
	if n := len(c.files); n > 0 && (n > 1 || c.files[0] != c.name) {
		named := c.files[:min(n, mostNamed)]
		if n > mostNamed {
			named = append(named[:mostNamed:mostNamed], english.Plural(n-mostNamed, "other file", ""))
		}
		have := "have"
		if n == 1 {
			have = "has"
		}
		what = fmt.Sprintf("%s of the scene %s %s", english.WordSeries(named, "and"), c.name, have)
	}
	return fmt.Sprintf(
		"%s changed since the run was submitted, at %s as %s sees it", what, farm.Moment(c.at), c.node,
	)
}

// stillTheScene returns a *changedScene where the scene in its place, or a file that it
// needs, is another than the run is rendered from. What cannot be read is for the
// renderer to tell.
func (w *work) stillTheScene() error {
	pin, by := w.lease.Pin, &w.lease.Recipe
	if pin == "" { // the scene alone counts
		pin, by = w.lease.SceneSHA, (*recipe.Recipe)(nil)
	}
	if pin == "" || w.lease.Bundle != "" || w.lease.SceneText != "" || w.host.pinned == nil {
		return nil
	}
	now, err := w.host.pinned.Pin(w.stops.ctx, w.lease.SceneRoot, w.lease.Scene, by, w.lease.With)
	if err != nil || now.Hash == pin {
		return nil
	}
	changed := now.Changed
	if len(changed) == 0 && now.Newest != w.lease.Scene {
		changed = []string{now.Newest} // it was written last, so most likely it is the one
	}
	return &changedScene{w.lease.Scene, w.host.node, changed, now.Hash, now.At}
}

// sceneGone reports that a frame is not begun, as its scene has changed.
func (w *work) sceneGone(launch, frame int, c *changedScene) {
	w.log.Warn("the scene has changed", "run", w.lease.RunName, "scene", c.name)
	w.report(wire.ReportItem{
		Outcome: wire.OutcomeFailed, Lease: w.lease.ID, Launch: launch, Frame: frame, Cause: triage.CauseChanged,
		Message: c.Error(), Scene: c.hash,
	})
}
