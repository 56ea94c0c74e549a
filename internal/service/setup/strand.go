package setup

import (
	"fmt"
	"runtime"
	"slices"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/refusal"
)

// mostStranded bounds the runs that a refusal names.
const mostStranded = 8

// strands refuses a change that takes away from open runs what they read or write, unless
// somebody has said that it shall be made all the same. what says what would change.
func (t *transaction) strands(what string, all bool, uses func(farm.Spec) bool) error {
	if all {
		return nil
	}
	var names []string
	for _, run := range t.State.Queue() {
		if uses(run.Spec) {
			names = append(names, run.Spec.Name())
		}
	}
	n := len(names)
	if n == 0 {
		return nil
	}
	if n > mostStranded {
		names = append(names[:mostStranded], english.Plural(n-mostStranded, "other", ""))
	}
	use := "open runs use"
	if n == 1 {
		use = "open run uses"
	}
	return refusal.New(
		refusal.Conflict, "strand", "%s, and %d %s that: %s. What they have delivered stays where it is; to do it all the "+
			"same, say so with --yes", what, n, use, english.WordSeries(names, "and"),
	)
}

// readsScene reports whether a run reads its scene in its project's place.
func readsScene(spec farm.Spec) bool {
	return spec.Scene != "" && spec.Bundle == "" && spec.SceneText == ""
}

// placeStrands is strands for new paths of a place.
func (t *transaction) placeStrands(before, after farm.Place, all bool) error {
	systems := []string{runtime.GOOS}
	for _, n := range t.State.NodeList() {
		if n.RetiredAt.IsZero() && !slices.Contains(systems, n.Facts.OS) {
			systems = append(systems, n.Facts.OS)
		}
	}
	for _, system := range systems {
		was, is := before.Paths[system], after.Paths[system]
		if was == "" || was == is {
			continue
		}
		what := fmt.Sprintf("the place %s would no longer be %s on %s but %s", before.Name, was, system, is)
		if is == "" {
			what = fmt.Sprintf("the place %s would have no path on %s any more", before.Name, system)
		}
		return t.strands(what, all, func(spec farm.Spec) bool {
			p := t.State.Projects[spec.Project]
			return p != nil && (p.Frames == before.Name || p.Scenes == before.Name && readsScene(spec))
		})
	}
	return nil
}

// projectStrands is strands for other places of a project.
func (t *transaction) projectStrands(before, after farm.Project, all bool) error {
	frames, scenes := before.Frames != after.Frames, before.Scenes != after.Scenes
	what := fmt.Sprintf("frames of the project %s would go to %s instead of %s", before.Name, after.Frames, before.Frames)
	switch {
	case !frames && !scenes:
		return nil
	case !frames:
		what = fmt.Sprintf(
			"scenes of the project %s would be read in %s instead of %s", before.Name, after.Scenes, before.Scenes,
		)
	}
	return t.strands(what, all, func(spec farm.Spec) bool {
		return spec.Project == before.Name && (frames || readsScene(spec))
	})
}
