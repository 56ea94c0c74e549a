package scenefile

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/plainfile"
	"vexillum/internal/recipe"
)

// Seen is what a scene in its place is and says.
type Seen struct {
	SHA  string         // SHA-256 of the scene alone
	Shot farm.SceneShot // what it says
	With []string       // files that it needs besides those found in it: as who asks says, and as it says itself
	Findings
}

// Findings are what was found of the files that a scene needs.
type Findings struct {
	Pin     string   // of the scene with all of them; empty where it is not known
	Why     string   // why it is not
	Bytes   int64    // of the scene and all of them
	Missing []string // names of files that are not there, each with who names it
	Outside []string // names of files that lie outside the place, in the same way
	Gaps    []string // simulation caches that are there in part, as sentences
}

// Bounds of a look.
const (
	mostScene = 1 << 30          // bytes of a scene
	pinTime   = 30 * time.Second // for all that it needs
)

// Check says in a sentence why a scene below a folder cannot be read, if it cannot. Links
// that lead out of the folder are not followed.
func Check(place, scene string) error {
	root, err := os.OpenRoot(place)
	if err != nil {
		return fmt.Errorf("the scene place %s is not there; mount it or correct the place", place)
	}
	defer root.Close()
	file, err := plainfile.OpenIn(root, filepath.FromSlash(scene))
	switch {
	case errors.Is(err, plainfile.ErrNotRegular):
		return fmt.Errorf("the scene %s in %s is not a regular file", scene, place)
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("there is no scene %s in %s", scene, place)
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("the scene %s in %s may not be read; give it read permission", scene, place)
	case err != nil:
		return fmt.Errorf("the scene %s in %s cannot be read: %w", scene, place, err)
	}
	defer file.Close()
	if info, err := file.Stat(); err == nil && info.Size() > mostScene {
		return fmt.Errorf("the scene %s has more than %d bytes, the most that is read", scene, mostScene)
	}
	return nil
}

// See looks at a scene in its place, and for a while at what it needs: where that takes
// longer the scene alone counts. with names files that it needs besides.
func (l *Looker) See(
	ctx context.Context, place, scene string, r *recipe.Recipe, with []string,
) (seen Seen, err error) {
	if err := Check(place, scene); err != nil {
		return seen, err
	}
	alone, err := l.Pin(ctx, place, scene, nil, nil)
	if err != nil {
		return seen, fmt.Errorf("the scene %s in %s cannot be read: %w", scene, place, err)
	}
	root, err := os.OpenRoot(place)
	if err != nil {
		return seen, fmt.Errorf("opening the scene place: %w", err)
	}
	defer root.Close()
	seen.SHA = alone.Hash
	if seen.Shot, err = r.ReadScene(scene, Reader(ctx, root, scene, l.run)); err != nil {
		return seen, err
	}
	seen.With = slices.Clone(with)
	for _, name := range seen.Shot.Inputs { // of a scene that was looked at before they are there
		if !slices.Contains(seen.With, name) {
			seen.With = append(seen.With, name)
		}
	}
	seen.Findings = l.needs(ctx, place, scene, r, seen.With, pinTime)
	return seen, nil
}

// needs looks at what a scene needs for a while at most. What cannot be looked at is no
// error.
func (l *Looker) needs(
	ctx context.Context, place, scene string, r *recipe.Recipe, with []string, within time.Duration,
) Findings {
	ctx, cancel := context.WithTimeoutCause(
		ctx, within, fmt.Errorf("what it needs could not be looked at within %v: %w", within, os.ErrDeadlineExceeded),
	)
	defer cancel()
	pin, err := l.Pin(ctx, place, scene, r, with)
	if err != nil && ctx.Err() != nil {
		err = context.Cause(ctx)
	}
	if err != nil {
		return Findings{Why: err.Error()}
	}
	return Findings{Pin: pin.Hash, Bytes: pin.Bytes, Missing: pin.Missing, Outside: pin.Outside, Gaps: pin.Gaps}
}
