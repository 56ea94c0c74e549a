package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"image"
	"io"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/tile"
	"vexillum/internal/picture"
	"vexillum/internal/publish"
	"vexillum/internal/service/floor"
)

// stitchPause is how often it is looked whether all tiles of a still are in.
const stitchPause = 300 * time.Millisecond

// stitch puts stills together whose tiles are all in, one after the other. A still that
// was not finished when a service ended is put together by the next.
func (s *Service) stitch(ctx context.Context, f *floor.Floor) {
	tick := time.NewTicker(stitchPause)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		stills, err := f.Queue.ToStitch(ctx)
		if err != nil {
			continue // the loop has ended, or does soon
		}
		for _, still := range stills {
			began := time.Now()
			files, err := s.stitched(ctx, f, still.Spec)
			if ctx.Err() != nil {
				return
			}
			if err != nil {
				s.o.Log.Warn("putting a still together", "run", still.Spec.Name(), "error", err)
			}
			if err := f.Queue.Stitched(ctx, still.ID, files, time.Since(began), err); err != nil {
				s.o.Log.Warn("noting a still", "run", still.Spec.Name(), "error", err)
			}
		}
	}
}

// stitched puts the picture of a still and each of its passes together, and returns their
// names in the run's output folder.
func (s *Service) stitched(ctx context.Context, f *floor.Floor, spec farm.Spec) (files []string, err error) {
	roots, err := f.Setup.Roots(ctx, spec.Project, runtime.GOOS)
	if err != nil {
		return nil, err
	}
	if err := publish.Marked(roots.Frames, s.Life()); err != nil {
		return nil, fmt.Errorf("looking at the frame place: %w", err)
	}
	folder := filepath.Join(roots.Frames, filepath.FromSlash(spec.Output))
	for _, pass := range append([]string{""}, spec.PassNames()...) {
		format := spec.Picture
		for _, p := range spec.Passes {
			if p.Name == pass {
				format = p.Picture
			}
		}
		if format == picture.Data { // a file of data for each tile is what there is
			continue
		}
		name := spec.StillFile(pass)
		if err := s.stitchOne(ctx, folder, name, format, pass, spec); err != nil {
			return nil, fmt.Errorf("%s: %w", cmp.Or(pass, "the picture"), err)
		}
		files = append(files, name)
	}
	if spec.Tiles.Drop {
		root, err := os.OpenRoot(folder)
		if err != nil {
			return nil, fmt.Errorf("removing the tiles: %w", err)
		}
		defer root.Close()
		for _, pass := range append(spec.PassNames(), "") { // folders of passes lie in that of pictures
			for n := range spec.Frames.All() {
				_ = root.Remove(filepath.FromSlash(spec.PassFile(pass, n))) // what stays is litter, no harm
			}
			_ = root.Remove(filepath.FromSlash(path.Dir(spec.PassFile(pass, 1))))
		}
	}
	return files, nil
}

// stitchOne puts one picture together beside its place, and then links it there. What
// stands there already is set aside.
func (s *Service) stitchOne(ctx context.Context, folder, name, format, pass string, spec farm.Spec) error {
	var tiles []picture.Tile
	for i, r := range spec.Tiles.Rects {
		tiles = append(tiles, picture.Tile{
			Path:  filepath.Join(folder, filepath.FromSlash(spec.PassFile(pass, i+1))),
			Holds: rectangle(spec.Rendered(i + 1)), Use: rectangle(r),
		})
	}
	part := fmt.Sprintf(".%s.part", path.Base(name))
	into := filepath.Join(folder, filepath.FromSlash(path.Dir(name)))
	if err := os.MkdirAll(into, 0o777); err != nil {
		return fmt.Errorf("making its folder: %w", err)
	}
	part = filepath.Join(into, part)
	_ = os.Remove(part) // of a service that was ended in the middle
	out, err := os.OpenFile(part, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666)
	if err != nil {
		return fmt.Errorf("making the file: %w", err)
	}
	defer os.Remove(part)
	err = picture.Stitch(&untilDone{ctx, out}, format, spec.Width, spec.Height, tiles)
	if err == nil {
		err = out.Sync()
	}
	if err := errors.Join(err, out.Close()); err != nil {
		return err
	}
	if _, err := picture.Verify(part, format, spec.Width, spec.Height); err != nil {
		return fmt.Errorf("looking at it: %w", err)
	}
	return publish.Put(part, filepath.Join(folder, filepath.FromSlash(name)))
}

func rectangle(r tile.Rect) image.Rectangle { return image.Rect(r.Left, r.Top, r.Right, r.Bottom) }

// untilDone writes until a context ends.
type untilDone struct {
	ctx context.Context
	w   io.Writer
}

func (u *untilDone) Write(p []byte) (int, error) {
	if err := u.ctx.Err(); err != nil {
		return 0, err
	}
	return u.w.Write(p)
}
