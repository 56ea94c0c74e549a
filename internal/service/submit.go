package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"runtime"

	"vexillum/internal/bundle"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/paths"
	"vexillum/internal/plainfile"
	"vexillum/internal/publish"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/queue"
	"vexillum/internal/service/refusal"
)

// maxScene bounds the size of a scene file that is hashed at a submit.
const maxScene = 1 << 30

// Submitted is what a submit gives.
type Submitted struct {
	queue.Submitted
	Output string   // whole path of the output folder here
	Passed []string // folders that would have been its own, and hold files already
}

// Submit checks a submission whole, scene and places included, and only then
// puts it into the queue.
func (s *Service) Submit(ctx context.Context, sub queue.Submission) (Submitted, error) {
	f, err := s.Floor()
	if err != nil {
		return Submitted{}, err
	}
	if before, known, err := f.Queue.Submitted(ctx, sub.Key, sub.Digest); err != nil {
		return Submitted{}, err
	} else if known { // even if the scene is gone by now
		roots, err := f.Setup.Roots(ctx, before.Run.Project, runtime.GOOS)
		return Submitted{before, paths.Spell(runtime.GOOS, roots.Frames, before.Run.Output), nil}, err
	}
	given, sized := sub.Spec.Values, sub.Spec.Width != 0 || sub.Spec.Height != 0
	sub, err = f.Queue.CheckSubmission(sub)
	if err != nil {
		return Submitted{}, err
	}
	roots, err := f.Setup.Roots(ctx, sub.Spec.Project, runtime.GOOS)
	if err != nil {
		return Submitted{}, err
	}
	if roots.Scenes == "" && sub.Spec.Bundle == "" || roots.Frames == "" {
		return Submitted{}, &refusal.Refusal{
			Kind: refusal.Invalid, Field: "project",
			Reason: fmt.Sprintf(
				"a place of project %s has no path on %s, where the service runs; add one with: vexillum place set",
				sub.Spec.Project, runtime.GOOS,
			),
		}
	}
	var bundled *bundle.Manifest
	if sub.Spec.Bundle != "" {
		var before string
		if before, err = f.Queue.BundleBefore(ctx, sub.Spec.Project, sub.Spec.Job); err != nil {
			return Submitted{}, err
		}
		bundled, err = s.bundledScene(&sub.Spec, before)
	} else {
		sub.Spec.SceneSHA, err = hashScene(roots.Scenes, sub.Spec.Scene)
	}
	if err != nil {
		return Submitted{}, err
	}
	if info, err := os.Stat(roots.Frames); err != nil || !info.IsDir() {
		return Submitted{}, &refusal.Refusal{
			Kind: refusal.Invalid, Field: "output",
			Reason: fmt.Sprintf("the frame place %s is not there; mount it or correct the place", roots.Frames),
		}
	}
	if err := within(ctx, func() error { return publish.Marked(roots.Frames, s.Life()) }); err != nil {
		return Submitted{}, &refusal.Refusal{
			Kind: refusal.Invalid, Field: "output",
			Reason: fmt.Sprintf(
				"the folder %s does not hold the mark of this farm's frame places: most likely it is the mount point "+
					"of a storage that is away. Mount it; or, if this is the right folder, a wrangler says so with: "+
					"vexillum place mark %s",
				roots.Frames, roots.FramesName,
			),
		}
	}
	sub.Spec.Mark = publish.Mark(s.Life())
	r := f.Recipes.At(sub.Spec.Recipe, sub.Spec.RecipeVersion)
	if sub.Scene, err = s.readScene(ctx, r, roots.Scenes, sub.Spec, bundled); err != nil {
		return Submitted{}, &refusal.Refusal{Kind: refusal.Invalid, Field: "scene", Reason: err.Error()}
	}
	if !sized && sub.Scene.Width > 0 {
		sub.Spec.Width, sub.Spec.Height = sub.Scene.Width, sub.Scene.Height
		if err := queue.CheckSize(sub.Spec); err != nil {
			return Submitted{}, err
		}
	}
	values := maps.Clone(sub.Scene.Values)
	if values == nil {
		values = map[string]string{}
	}
	maps.Copy(values, given)
	if sub.Spec.Values, err = r.Complete(values); err != nil {
		return Submitted{}, &refusal.Refusal{Kind: refusal.Invalid, Field: "values", Reason: err.Error()}
	}
	if err := r.CheckChoice(sub.Spec.Values, sub.Scene); err != nil {
		return Submitted{}, &refusal.Refusal{Kind: refusal.Invalid, Field: "values", Reason: err.Error()}
	}
	return s.submitInto(ctx, f, sub, roots.Frames)
}

// mostTaken bounds the folders that a submit looks into for one that is empty.
const mostTaken = 1000

// submitInto submits under the first number whose folder is empty: what stands
// in others is not the run's.
func (s *Service) submitInto(
	ctx context.Context, f *floor.Floor, sub queue.Submission, place string,
) (Submitted, error) {
	var passed []string
	number := 0
	for range mostTaken {
		var folder string
		var err error
		if number, folder, err = f.Queue.NextNumber(ctx, sub.Spec, number); err != nil {
			return Submitted{}, err
		}
		vacant, err := publish.Vacant(place, folder)
		if err != nil {
			return Submitted{}, &refusal.Refusal{
				Kind: refusal.Invalid, Field: "output",
				Reason: fmt.Sprintf(
					"the output folder %s cannot be used: %v; choose another with --output",
					paths.Spell(runtime.GOOS, place, folder), err,
				),
			}
		}
		if !vacant {
			passed = append(passed, folder)
			number++
			continue
		}
		sub.Number = number
		done, err := f.Queue.Submit(ctx, sub)
		var taken *queue.TakenError
		if errors.As(err, &taken) { // somebody was faster
			number = taken.Next
			continue
		}
		if err != nil {
			return Submitted{}, err
		}
		return Submitted{done, paths.Spell(runtime.GOOS, place, done.Run.Output), passed}, nil
	}
	return Submitted{}, &refusal.Refusal{
		Kind: refusal.Conflict, Field: "output",
		Reason: fmt.Sprintf(
			"%d folders from %s on hold files already; choose another with --output", len(passed), passed[0],
		),
	}
}

// hashScene reads a scene inside its place; links that lead out are refused.
func hashScene(place, scene string) (string, error) {
	no := func(reason string, args ...any) (string, error) {
		return "", &refusal.Refusal{Kind: refusal.Invalid, Field: "scene", Reason: fmt.Sprintf(reason, args...)}
	}
	root, err := os.OpenRoot(place)
	if err != nil {
		return no("the scene place %s is not there; mount it or correct the place", place)
	}
	defer root.Close()
	file, err := plainfile.OpenIn(root, filepath.FromSlash(scene))
	switch {
	case errors.Is(err, plainfile.ErrNotRegular):
		return no("the scene %s in %s is not a regular file", scene, place)
	case errors.Is(err, fs.ErrNotExist):
		return no("there is no scene %s in %s", scene, place)
	case errors.Is(err, fs.ErrPermission):
		return no("the scene %s in %s may not be read by the service; give it read permission", scene, place)
	case err != nil:
		return no("the scene %s in %s cannot be read: %v", scene, place, err)
	}
	defer file.Close()
	sum := sha256.New()
	size, err := io.Copy(sum, io.LimitReader(file, maxScene+1))
	switch {
	case err != nil:
		return no("the scene %s in %s cannot be read: %v", scene, place, err)
	case size > maxScene:
		return no("the scene %s has more than %d bytes, the most that is read", scene, maxScene)
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// OpenFrame opens a file of a done frame where the service can see it: the
// picture itself, or a pass. The caller closes it.
func (s *Service) OpenFrame(ctx context.Context, spec farm.Spec, pass string, frame int) (*os.File, error) {
	f, err := s.Floor()
	if err != nil {
		return nil, err
	}
	roots, err := f.Setup.Roots(ctx, spec.Project, runtime.GOOS)
	if err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(roots.Frames)
	if err != nil {
		return nil, fmt.Errorf("opening the frame place: %w", err)
	}
	defer root.Close()
	return plainfile.OpenIn(
		root, filepath.Join(filepath.FromSlash(spec.Output), filepath.FromSlash(spec.PassFile(pass, frame))),
	)
}
