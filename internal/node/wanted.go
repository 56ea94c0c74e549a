package node

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"

	"vexillum/internal/core/frames"
	"vexillum/internal/recipe"
	"vexillum/internal/scenefile"
)

// Wanted is what somebody says of a trial; the scene says the rest.
type Wanted struct {
	Recipe *recipe.Recipe
	Scene  string // path of the scene
	Frames frames.Span
	Shot   *frames.Span // nil: as the scene says, else the frames
	Width  int          // pixels; 0: as the scene says, else a small picture
	Height int
	Values map[string]string // settings that are given
	Passes []string
	Run    scenefile.Run // runs the commands by which the recipe looks at the scene; nil: none are run
}

// Size of the picture where neither somebody nor the scene says.
const (
	trialWidth  = 320
	trialHeight = 180
)

// Trial reads the scene and completes what is left out.
func (w Wanted) Trial(ctx context.Context) (t Trial, err error) {
	t = Trial{Recipe: w.Recipe, Frames: w.Frames, Shot: w.Frames, Width: w.Width, Height: w.Height}
	if t.Scene, err = filepath.Abs(w.Scene); err != nil {
		return t, err
	}
	if info, err := os.Stat(t.Scene); err != nil || !info.Mode().IsRegular() {
		return t, fmt.Errorf("there is no scene file %s", w.Scene)
	}
	if err := w.Recipe.CanRead(w.Scene); err != nil {
		return t, err
	}
	if t.Passes, err = w.Recipe.ChoosePasses(w.Passes); err != nil {
		return t, err
	}
	root, err := os.OpenRoot(filepath.Dir(t.Scene))
	if err != nil {
		return t, fmt.Errorf("opening the folder of the scene: %w", err)
	}
	defer root.Close()
	scene := filepath.Base(t.Scene)
	if t.Told, err = w.Recipe.ReadScene(scene, scenefile.Reader(ctx, root, scene, w.Run)); err != nil {
		return t, err
	}
	switch {
	case w.Shot != nil:
		t.Shot = *w.Shot
	case t.Told.Range != nil:
		t.Shot = *t.Told.Range
	}
	if t.Width == 0 || t.Height == 0 {
		t.Width, t.Height = trialWidth, trialHeight
		if t.Told.Width > 0 {
			t.Width, t.Height = t.Told.Width, t.Told.Height
		}
	}
	given := map[string]string{}
	maps.Copy(given, t.Told.Values)
	maps.Copy(given, w.Values)
	t.Values, err = w.Recipe.Complete(given)
	return t, err
}
