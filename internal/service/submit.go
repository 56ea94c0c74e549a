package service

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"runtime"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/paths"
	"vexillum/internal/plainfile"
	"vexillum/internal/publish"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/queue"
	"vexillum/internal/service/refusal"
)

// Submitted is what a submit gives.
type Submitted struct {
	queue.Submitted
	Output string   // whole path of the output folder here
	Passed []string // folders that would have been its own, and hold files already
	// Remarks are what was seen of the scene that who submits should know, in sentences.
	Remarks []string
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
		return Submitted{before, paths.Spell(runtime.GOOS, roots.Frames, before.Run.Output), nil, nil}, err
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
	r := f.Recipes.At(sub.Spec.Recipe, sub.Spec.RecipeVersion)
	look, err := s.lookAtScene(ctx, f, &sub.Spec, roots.Scenes, r, sub.Dry)
	if err != nil {
		return Submitted{}, err
	}
	sub.Spec.SceneSHA, sub.Spec.Pin, sub.Scene = look.sha, look.pin, look.shot
	if err := s.framePlaceOf(ctx, sub.Spec.Project, roots); err != nil {
		return Submitted{}, err
	}
	sub.Spec.Mark = publish.Mark(s.Life())
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
	done, err := s.submitInto(ctx, f, sub, roots.Frames)
	done.Remarks = look.remarks
	return done, err
}

// framePlaceOf returns why frames of a project cannot be delivered where the service
// looks for them.
func (s *Service) framePlaceOf(ctx context.Context, project string, roots farm.Roots) error {
	if roots.Frames == "" {
		return &refusal.Refusal{
			Kind: refusal.Invalid, Field: "project",
			Reason: fmt.Sprintf(
				"the frame place of project %s has no path on %s, where the service runs; add one with: vexillum "+
					"place set", project, runtime.GOOS,
			),
		}
	}
	if info, err := os.Stat(roots.Frames); err != nil || !info.IsDir() {
		return &refusal.Refusal{
			Kind: refusal.Invalid, Field: "output",
			Reason: fmt.Sprintf("the frame place %s is not there; mount it or correct the place", roots.Frames),
		}
	}
	if err := within(ctx, func() error { return publish.Marked(roots.Frames, s.Life()) }); err != nil {
		return &refusal.Refusal{
			Kind: refusal.Invalid, Field: "output",
			Reason: fmt.Sprintf(
				"the folder %s does not hold the mark of this farm's frame places: most likely it is the mount point "+
					"of a storage that is away. Mount it; or, if this is the right folder, a wrangler says so with: "+
					"vexillum place mark %s",
				roots.Frames, roots.FramesName,
			),
		}
	}
	return nil
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
		return Submitted{done, paths.Spell(runtime.GOOS, place, done.Run.Output), passed, nil}, nil
	}
	return Submitted{}, &refusal.Refusal{
		Kind: refusal.Conflict, Field: "output",
		Reason: fmt.Sprintf(
			"%d folders from %s on hold files already; choose another with --output", len(passed), passed[0],
		),
	}
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
