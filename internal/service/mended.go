package service

import (
	"context"
	"runtime"

	"vexillum/internal/core/farm"
	"vexillum/internal/recipe"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/queue"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// Mended lets a run go on with its scene as it is now, once somebody has said that it was
// mended. A *refusal.Refusal says why it cannot.
func (s *Service) Mended(
	ctx context.Context, id farm.RunID, in wire.Mending, by farm.Person,
) (out wire.Mended, err error) {
	f, err := s.Floor()
	if err != nil {
		return out, err
	}
	spec, was, err := f.Queue.ToMend(ctx, id, by)
	if err != nil {
		return out, err
	}
	now, files, err := s.sceneNow(ctx, f, spec, was)
	if err != nil {
		return out, err
	}
	return f.Queue.Mend(ctx, id, queue.Mend{Scene: now, Files: files, Redo: in.Redo, Dry: in.DryRun}, by)
}

// sceneNow looks in which state the scene of a run is, and which of its files are not as they
// were in another state.
func (s *Service) sceneNow(
	ctx context.Context, f *floor.Floor, spec farm.Spec, was string,
) (now string, files []string, err error) {
	r := f.Recipes.At(spec.Recipe, spec.RecipeVersion)
	if r == nil {
		return "", nil, refusal.New(refusal.Conflict, "recipe", "the recipe %s is not there any more", spec.Recipe)
	}
	roots, err := f.Setup.Roots(ctx, spec.Project, runtime.GOOS)
	if err != nil {
		return "", nil, err
	}
	look, err := s.lookAtScene(ctx, f, &spec, roots.Scenes, r, true)
	if err != nil {
		return "", nil, err
	}
	by := (*recipe.Recipe)(nil)
	if now = look.sha; spec.Pin != "" {
		now, by = look.pin, r
	}
	if now == "" {
		return "", nil, refusal.New(
			refusal.Conflict, "scene", "what the scene %s needs cannot be looked at; submit it again", spec.Scene,
		)
	}
	if now != was && roots.Scenes != "" {
		files = s.looker.Unlike(was, roots.Scenes, spec.Scene, by, spec.With)
	}
	return now, files, nil
}

// Release releases a run. One that is held as its scene has changed goes on with that as it is
// now, not as it was found then.
func (s *Service) Release(ctx context.Context, id farm.RunID, how queue.How, by farm.Person) (wire.Run, error) {
	f, err := s.Floor()
	if err != nil {
		return wire.Run{}, err
	}
	if spec, was, found := f.Queue.HeldAsChanged(ctx, id); found {
		if now, _, err := s.sceneNow(ctx, f, spec, was); err == nil {
			how.Scene = now
		}
	}
	return f.Queue.Steer(ctx, id, queue.Release, how, by)
}
