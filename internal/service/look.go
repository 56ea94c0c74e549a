package service

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/bundle"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/recipe"
	"vexillum/internal/scenefile"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// sceneLook is what a scene that is submitted says and is.
type sceneLook struct {
	sha, pin string // see [farm.Spec]
	shot     farm.SceneShot
	remarks  []string // sentences for who submits
}

// lookAtScene looks at the scene of a submission: at one of a bundle, in its place, or,
// where the service does not see that, lets a node look.
func (s *Service) lookAtScene(
	ctx context.Context, f *floor.Floor, spec *farm.Spec, scenes string, r *recipe.Recipe, dry bool,
) (look sceneLook, err error) {
	if spec.Bundle != "" {
		before, err := f.Queue.BundleBefore(ctx, *spec)
		if err != nil {
			return look, err
		}
		bundled, err := s.bundledScene(ctx, spec, before)
		if err != nil {
			return look, err
		}
		look.sha = spec.SceneSHA
		if look.shot, err = s.readBundled(r, *spec, bundled); err != nil || !r.AsksCommands() {
			return look, wrongScene(err)
		}
		s.askAboutBundle(ctx, f, spec, r, bundled, &look)
		return look, nil
	}
	if info, err := os.Stat(scenes); scenes == "" || err != nil || !info.IsDir() {
		return s.lookFromNode(ctx, f, spec, scenes, r)
	}
	seen, err := s.looker.See(ctx, scenes, spec.Scene, r, spec.With)
	if err != nil {
		return look, wrongScene(err)
	}
	look.sha, look.shot, spec.With = seen.SHA, seen.Shot, seen.With
	look.pinned(seen.Findings)
	if r.AsksCommands() {
		// A recipe's commands are people's own: the service runs none.
		told, err := s.lookFromNode(ctx, f, spec, scenes, r)
		switch {
		case err != nil:
			look.remarks = append(look.remarks, fmt.Sprintf(
				"Nothing was asked by the command of the recipe %s, which only nodes run: %v.", r.Name, err,
			))
		case told.sha != look.sha:
			look.remarks = append(look.remarks, "The node that was asked about the scene sees another content of it.")
		default:
			look = told
		}
	}
	err = s.sendIfUnseen(ctx, f, spec, scenes, r, dry, &look, seen.Bytes)
	return look, err
}

func wrongScene(err error) error {
	if err == nil {
		return nil
	}
	return &refusal.Refusal{Kind: refusal.Invalid, Field: "scene", Reason: err.Error()}
}

// pinned takes in what was found of what the scene needs.
func (l *sceneLook) pinned(found scenefile.Findings) {
	l.pin, l.remarks = found.Pin, append(l.remarks, remarksOn(found)...)
}

// remarksOn says what is odd about the files that a scene needs.
func remarksOn(found scenefile.Findings) (out []string) {
	const most = 3
	say := func(one, several string, files []string) {
		n := len(files)
		if n == 0 {
			return
		}
		named, text := files[:min(n, most)], one
		if n > most {
			named = append(named[:most:most], english.Plural(n-most, "other", ""))
		}
		if n > 1 {
			text = several
		}
		out = append(out, fmt.Sprintf(text, strings.Join(named, "; ")))
	}
	say("Not in the scene place is %s.", "Not in the scene place are %s.", found.Missing)
	say(
		"Outside the scene place, and not watched for changes, is %s.",
		"Outside the scene place, and not watched for changes, are %s.", found.Outside,
	)
	for _, gap := range found.Gaps {
		out = append(out, strings.ToUpper(gap[:1])+gap[1:]+".")
	}
	if found.Pin == "" && found.Why != "" {
		out = append(out, "Only the scene itself is held against later changes: "+found.Why+".")
	}
	return out
}

// lookFromNode lets a node look at a scene whose place the service does not see.
func (s *Service) lookFromNode(
	ctx context.Context, f *floor.Floor, spec *farm.Spec, scenes string, r *recipe.Recipe,
) (look sceneLook, err error) {
	unseen := fmt.Sprintf(
		"the scene place of project %s has no path on %s, where the service runs", spec.Project, runtime.GOOS,
	)
	switch {
	case r.AsksCommands():
		unseen = fmt.Sprintf("the recipe %s asks a command about the scene, which only nodes run", r.Name)
	case scenes != "":
		unseen = fmt.Sprintf("the scene place %s is not there where the service runs", scenes)
	}
	node, err := f.Fleet.Looker(ctx, spec.Project, r.Name)
	if err != nil {
		return look, refusal.New(
			refusal.Invalid, "scene", "%s, and %v; submit with --bundle, or mount the place", unseen, err,
		)
	}
	roots, err := f.Setup.Roots(ctx, spec.Project, node.OS)
	if err != nil {
		return look, err
	}
	if roots.Scenes == "" {
		return look, refusal.New(
			refusal.Invalid, "scene", "%s, and none on %s, which %s runs; add one with: vexillum place set", unseen,
			node.OS,
			node.Name,
		)
	}
	told, err := s.errand(ctx, node.ID, node.Name, wire.Errand{Look: &wire.LookTask{
		Recipe: r.Text(), SceneRoot: roots.Scenes, Scene: spec.Scene, With: spec.With,
	}}, nil)
	switch {
	case err != nil:
		return look, refusal.New(refusal.Conflict, "scene", "%s, and %v", unseen, err)
	case told.Error != "" || told.Looked == nil:
		return look, refusal.New(refusal.Invalid, "scene", "%s, and %s says: %s", unseen, node.Name, told.Error)
	}
	in := told.Looked
	look.sha = in.Scene
	if look.shot, err = shotTold(in); err != nil {
		return look, refusal.New(refusal.Conflict, "scene", "%s says of the scene: %v", node.Name, err)
	}
	spec.With = slices.Concat(spec.With, look.shot.Inputs)
	look.pinned(scenefile.Findings{Pin: in.Pin, Why: in.Why, Missing: in.Missing, Outside: in.Outside, Gaps: in.Gaps})
	why := "as the service does not see it"
	if r.AsksCommands() {
		why = "by the command of the recipe"
	}
	look.remarks = append(look.remarks, fmt.Sprintf("%s has looked at the scene, %s.", node.Name, why))
	return look, nil
}

// lookLent is how long a node that looks at the scene of a bundle may get it.
const lookLent = 10 * time.Minute

// askAboutBundle lets a node ask the commands of a recipe about the scene of a bundle. Where none
// can, the remarks say so.
func (s *Service) askAboutBundle(
	ctx context.Context, f *floor.Floor, spec *farm.Spec, r *recipe.Recipe, bundled *bundle.Manifest, look *sceneLook,
) {
	remark := func(text string, args ...any) { look.remarks = append(look.remarks, fmt.Sprintf(text, args...)) }
	node, err := f.Fleet.Looker(ctx, spec.Project, r.Name)
	if err != nil {
		remark("Nothing was asked by the command of the recipe %s, which only nodes run: %v.", r.Name, err)
		return
	}
	s.bundles.lend(node.ID, spec.Bundle, spec.Project, s.o.Now(), lookLent)
	told, err := s.errand(ctx, node.ID, node.Name, wire.Errand{Look: &wire.LookTask{
		Recipe: r.Text(), Scene: spec.Scene, With: spec.With, Bundle: spec.Bundle,
	}}, nil)
	if err == nil && (told.Error != "" || told.Looked == nil) {
		err = fmt.Errorf("%s says: %s", node.Name, told.Error)
	}
	if err != nil {
		remark("Nothing was asked by the command of the recipe %s: %v.", r.Name, err)
		return
	}
	shot, err := shotTold(told.Looked)
	if err != nil {
		remark("What %s says of the scene is of no use: %v.", node.Name, err)
		return
	}
	look.shot = shot
	var lacking []string
	for _, name := range shot.Inputs {
		if _, there := bundled.Find(path.Join(path.Dir(spec.Scene), filepath.ToSlash(name))); !there {
			if _, there = bundled.Find(filepath.ToSlash(name)); !there {
				lacking = append(lacking, name)
			}
		}
	}
	if len(lacking) > 0 {
		remark(
			"Not in the bundle, though the scene says that it needs it: %s. Send it along with --with.",
			english.WordSeries(lacking[:min(len(lacking), mostNeeds)], "and"),
		)
	}
	remark("%s has looked at the scene, by the command of the recipe.", node.Name)
}

// mostNeeds bounds the files that a remark names.
const mostNeeds = 10

// shotTold reads what a node says that a scene says.
func shotTold(in *wire.Looked) (farm.SceneShot, error) {
	out := farm.SceneShot{
		File: in.File, Values: in.Values, Width: in.Width, Height: in.Height, Cameras: in.Cameras, Layers: in.Layers,
		Inputs: in.Inputs,
	}
	if in.Range != "" {
		span, err := frames.ParseSpan(in.Range)
		if err != nil {
			return out, err
		}
		out.Range = &span
	}
	return out, nil
}

// readBundled reads what a scene of a bundle says. Nothing but its files is asked.
func (s *Service) readBundled(r *recipe.Recipe, spec farm.Spec, bundled *bundle.Manifest) (farm.SceneShot, error) {
	return r.ReadScene(spec.Scene, recipe.SceneReader{Read: func(name string) ([]byte, error) {
		data, there, err := s.bundles.lookedAt(bundled, name, scenefile.MostLookedAt)
		if !there {
			return nil, fs.ErrNotExist
		}
		return data, err
	}})
}
