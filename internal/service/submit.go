package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"

	"vexillum/internal/core/farm"
	"vexillum/internal/publish"
	"vexillum/internal/service/floor"
	"vexillum/internal/wire"
)

// maxScene bounds the size of a scene file that is hashed at a submit.
const maxScene = 1 << 30

// Submitted is what a submit gives.
type Submitted struct {
	Run    wire.Run
	Output string // whole path of the output folder here
	Again  bool   // the same submit was made before
}

// Submit checks a submission whole, scene and places included, and only then
// puts it into the queue.
func (s *Service) Submit(ctx context.Context, sub floor.Submission) (Submitted, error) {
	f, err := s.Floor()
	if err != nil {
		return Submitted{}, err
	}
	sub, err = f.CheckSubmission(sub)
	if err != nil {
		return Submitted{}, err
	}
	roots, err := f.Roots(ctx, sub.Spec.Project, runtime.GOOS)
	if err != nil {
		return Submitted{}, err
	}
	if roots.Scenes == "" || roots.Frames == "" {
		return Submitted{}, &floor.Refusal{Kind: floor.Invalid, Field: "project", Reason: fmt.Sprintf("a place of project %s has no path on %s, where the service runs; add one with: vexillum place set", sub.Spec.Project, runtime.GOOS)}
	}
	if sub.Spec.SceneSHA, err = hashScene(roots.Scenes, sub.Spec.Scene); err != nil {
		return Submitted{}, err
	}
	if info, err := os.Stat(roots.Frames); err != nil || !info.IsDir() {
		return Submitted{}, &floor.Refusal{Kind: floor.Invalid, Field: "output", Reason: fmt.Sprintf("the frame place %s is not there; mount it or correct the place", roots.Frames)}
	}
	if sub.Spec.Mark, err = publish.MarkPlace(roots.Frames, s.Life()); err != nil {
		s.o.Log.Warn("a frame place cannot be marked; nodes take any folder for it", "place", roots.Frames, "error", err)
	}
	run, again, err := f.Submit(ctx, sub)
	if err != nil {
		return Submitted{}, err
	}
	return Submitted{Run: run, Again: again, Output: filepath.Join(roots.Frames, filepath.FromSlash(run.Output))}, nil
}

// hashScene reads a scene inside its place; links that lead out are refused.
func hashScene(place, scene string) (string, error) {
	no := func(reason string, args ...any) (string, error) {
		return "", &floor.Refusal{Kind: floor.Invalid, Field: "scene", Reason: fmt.Sprintf(reason, args...)}
	}
	root, err := os.OpenRoot(place)
	if err != nil {
		return no("the scene place %s is not there; mount it or correct the place", place)
	}
	defer root.Close()
	file, err := root.Open(filepath.FromSlash(scene))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return no("there is no scene %s in %s", scene, place)
	case errors.Is(err, fs.ErrPermission):
		return no("the scene %s in %s may not be read by the service; give it read permission", scene, place)
	case err != nil:
		return no("the scene %s in %s cannot be read: %v", scene, place, err)
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil || !info.Mode().IsRegular() {
		return no("the scene %s in %s is no file", scene, place)
	}
	if info.Size() > maxScene {
		return no("the scene %s has %d bytes, more than the %d that are read", scene, info.Size(), maxScene)
	}
	sum := sha256.New()
	if _, err := io.Copy(sum, file); err != nil {
		return no("the scene %s in %s cannot be read: %v", scene, place, err)
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
	roots, err := f.Roots(ctx, spec.Project, runtime.GOOS)
	if err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(roots.Frames)
	if err != nil {
		return nil, fmt.Errorf("opening the frame place: %w", err)
	}
	defer root.Close()
	return root.Open(filepath.Join(filepath.FromSlash(spec.Output), filepath.FromSlash(spec.PassFile(pass, frame))))
}
