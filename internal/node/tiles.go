package node

import (
	"crypto/rand"
	"errors"
	"fmt"
	"image"
	"os"
	"path/filepath"
	"strconv"

	"vexillum/internal/picture"
	"vexillum/internal/plainfile"
	"vexillum/internal/recipe"
)

// realFrame returns the frame of the animation that a frame of the lease is: of a still in
// tiles, where frames are the numbers of tiles, always the same.
func (w *work) realFrame(frame int) int {
	if t := w.lease.Tiles; t != nil {
		return t.Frame
	}
	return frame
}

// tileOf returns what of the picture a frame of the lease is: all of it, but for tiles.
func (w *work) tileOf(frame int) image.Rectangle {
	if t := w.lease.Tiles; t != nil && frame >= 1 && frame <= len(t.Rects) {
		r := t.Rects[frame-1]
		return image.Rect(r[0], r[1], r[2], r[3])
	}
	return image.Rect(0, 0, w.lease.Width, w.lease.Height)
}

// offsetOf returns by how much the renderer's own number of a frame is more than the frame
// in a launch that begins with one.
func (w *work) offsetOf(first int) int {
	frame := w.realFrame(first)
	return w.lease.Recipe.Offset(w.lease.ShotFirst, frame) + frame - first
}

// rectangle fills in the rectangle that a launch renders: in pixels from the upper left
// corner, right and bottom being the first that are outside, and as parts of the width and
// height of the picture. {tile} is set of tiles alone.
func (w *work) rectangle(with map[string]string, frame int) {
	r := w.tileOf(frame)
	for name, pixels := range map[string]int{
		"left": r.Min.X, "top": r.Min.Y, "right": r.Max.X, "bottom": r.Max.Y, "width": r.Dx(), "height": r.Dy(),
	} {
		with["tile_"+name] = strconv.Itoa(pixels)
	}
	part := func(n, of int) string { return strconv.FormatFloat(float64(n)/float64(max(1, of)), 'g', -1, 64) }
	with["tile_left_part"], with["tile_right_part"] = part(r.Min.X, w.lease.Width), part(r.Max.X, w.lease.Width)
	with["tile_top_part"], with["tile_bottom_part"] = part(r.Min.Y, w.lease.Height), part(r.Max.Y, w.lease.Height)
	if w.lease.Tiles != nil {
		with["tile"] = fmt.Sprintf("%d,%d,%d,%d", r.Min.X, r.Min.Y, r.Max.X, r.Max.Y)
	}
}

// cropped cuts the tile out of a picture that the renderer has written whole. What was cut
// already, before a restart, is left.
func (w *work) cropped(folder, file string, frame int, of recipe.Output) error {
	if w.lease.Tiles == nil || w.lease.Recipe.Tiles != recipe.WritesWhole || of.Picture != "png" {
		return nil
	}
	whole, rect := image.Rect(0, 0, w.lease.Width, w.lease.Height), w.tileOf(frame)
	if rect == whole {
		return nil
	}
	if _, err := picture.VerifyBelow(folder, file, of.Picture, w.lease.Width, w.lease.Height, nil); err != nil {
		var fault *picture.FaultError
		if errors.As(err, &fault) {
			if _, cut := picture.VerifyBelow(folder, file, of.Picture, rect.Dx(), rect.Dy(), nil); cut == nil {
				return nil
			}
		}
		return err
	}
	// The renderer may put links into its folder: nothing is written through them.
	root, err := os.OpenRoot(folder)
	if err != nil {
		return fmt.Errorf("cutting out a tile: %w", err)
	}
	defer root.Close()
	name, err := filepath.Rel(folder, file)
	if err != nil {
		return fmt.Errorf("cutting out a tile: %w", err)
	}
	in, err := plainfile.OpenIn(root, name)
	if err != nil {
		return fmt.Errorf("cutting out a tile: %w", err)
	}
	part := name + ".tile-" + rand.Text()
	out, err := root.OpenFile(part, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		_ = in.Close()
		return fmt.Errorf("cutting out a tile: %w", err)
	}
	err = picture.Crop(out, in, whole, rect)
	if err := errors.Join(err, out.Close()); err != nil {
		_ = root.Remove(part)
		return err
	}
	if err := root.Rename(part, name); err != nil {
		return fmt.Errorf("cutting out a tile: %w", err)
	}
	return nil
}
