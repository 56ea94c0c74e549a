package service

import (
	"context"
	"fmt"
	"os"

	"vexillum/internal/core/farm"
	"vexillum/internal/recipe"
	"vexillum/internal/scenefile"
)

// readScene reads what the scene, files beside it, or a command say of the
// animation.
func readScene(ctx context.Context, r *recipe.Recipe, place string, spec farm.Spec) (farm.SceneShot, error) {
	if len(r.Shot) == 0 || spec.SceneText != "" {
		return farm.SceneShot{}, nil
	}
	root, err := os.OpenRoot(place)
	if err != nil {
		return farm.SceneShot{}, fmt.Errorf("the scene place %s is not there; mount it or correct the place", place)
	}
	defer root.Close()
	return r.ReadScene(spec.Scene, scenefile.Reader(ctx, root, spec.Scene))
}
