package service

import (
	"context"
	"fmt"
	"io/fs"
	"os"

	"vexillum/internal/bundle"
	"vexillum/internal/core/farm"
	"vexillum/internal/recipe"
	"vexillum/internal/scenefile"
)

// readScene reads what the scene, files beside it, or a command say of the
// animation. Of a bundle nothing but its files is asked.
func (s *Service) readScene(
	ctx context.Context, r *recipe.Recipe, place string, spec farm.Spec, bundled *bundle.Manifest,
) (farm.SceneShot, error) {
	if len(r.Shot) == 0 || spec.SceneText != "" {
		return farm.SceneShot{}, nil
	}
	if bundled != nil {
		return r.ReadScene(spec.Scene, recipe.SceneReader{Read: func(name string) ([]byte, error) {
			data, there, err := s.bundles.lookedAt(bundled, name, scenefile.MostLookedAt)
			if !there {
				return nil, fs.ErrNotExist
			}
			return data, err
		}})
	}
	root, err := os.OpenRoot(place)
	if err != nil {
		return farm.SceneShot{}, fmt.Errorf("the scene place %s is not there; mount it or correct the place", place)
	}
	defer root.Close()
	return r.ReadScene(spec.Scene, scenefile.Reader(ctx, root, spec.Scene))
}
