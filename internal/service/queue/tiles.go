package queue

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/tile"
	"vexillum/internal/service/refusal"
)

// Tiling says into which tiles a still is divided. The zero Tiling is none.
type Tiling struct {
	Columns, Rows int // a grid
	Width, Height int // or tiles of a size
	BySpeed       bool
	Overlap       int // pixels that a tile is rendered beyond its own
	Drop          bool
}

// None reports whether nothing is divided.
func (t Tiling) None() bool { return t.Columns == 0 && t.Width == 0 && !t.BySpeed }

// mostOverlap bounds what tiles are rendered beyond their own, in pixels.
const mostOverlap = 1024

// ParseTiling reads a grid such as 4x3, a size such as 512x512px, or by-speed.
func ParseTiling(text string, overlap int, drop bool) (Tiling, error) {
	t := Tiling{Overlap: overlap, Drop: drop}
	if text == "" {
		if overlap != 0 || drop {
			return t, refusal.New(
				refusal.Invalid,
				"tiles",
				"an overlap and what becomes of the parts is about tiles; say which",
			)
		}
		return t, nil
	}
	if overlap < 0 || overlap > mostOverlap {
		return t, refusal.New(
			refusal.Invalid,
			"overlap",
			"tiles may overlap by 0 to %d pixels, not %d",
			mostOverlap,
			overlap,
		)
	}
	if text == "by-speed" {
		t.BySpeed = true
		return t, nil
	}
	plain, sized := strings.CutSuffix(strings.ReplaceAll(text, "×", "x"), "px")
	a, b, ok := strings.Cut(plain, "x")
	x, err1 := strconv.Atoi(a)
	y, err2 := strconv.Atoi(b)
	if !ok || err1 != nil || err2 != nil || x < 1 || y < 1 {
		return t, refusal.New(
			refusal.Invalid, "tiles", "%.40q is no way to divide a picture: write a grid such as 4x3, a size such as "+
				"512x512px, or by-speed", text,
		)
	}
	if sized {
		t.Width, t.Height = x, y
	} else {
		t.Columns, t.Rows = x, y
	}
	return t, nil
}

// divide divides the still of a submission into tiles.
func (t *transaction) divide(spec *farm.Spec, sub Submission) error {
	if sub.Tiles.None() {
		return nil
	}
	r := t.d.recipes.At(spec.Recipe, spec.RecipeVersion)
	switch {
	case r == nil || r.Tiles == "":
		return refusal.New(refusal.Invalid, "tiles", "the recipe %s renders whole pictures alone", spec.Recipe)
	case spec.Frames.Len() != 1:
		return refusal.New(
			refusal.Invalid,
			"tiles",
			"tiles are of one frame, and %s are asked for; name one with --frames, let them come one after the other with "+
				"--one-by-one, or render whole pictures",
			english.Plural(spec.Frames.Len(), "frame", ""),
		)
	}
	still := &farm.Tiles{Frame: spec.Frames.First(), Overlap: sub.Tiles.Overlap, Drop: sub.Tiles.Drop}
	var err error
	switch want := sub.Tiles; {
	case want.BySpeed:
		still.Rects = tile.BySpeed(spec.Width, spec.Height, t.speeds(spec), t.d.m.TileCosts(*spec))
	case want.Width > 0:
		still.Rects, err = tile.BySize(spec.Width, spec.Height, want.Width, want.Height)
	default:
		still.Rects, err = tile.Grid(spec.Width, spec.Height, want.Columns, want.Rows)
	}
	if err != nil {
		return refusal.New(refusal.Invalid, "tiles", "%v", err)
	}
	spec.Tiles, spec.Mode, spec.Chunk = still, farm.ModeSingle, 0
	spec.Frames = frames.Of(frames.Span{First: 1, Last: len(still.Rects)})
	return nil
}

// speeds returns how fast the nodes are that could take a run, one for each lease that fits.
func (t *transaction) speeds(spec *farm.Spec) (out []float64) {
	run := farm.RunSubmitted{Spec: *spec}.Opened()
	for _, n := range t.State.NodeList() {
		if n.Reach != farm.Online || !n.RetiredAt.IsZero() || !capacity.Fits(t.State, n, run) {
			continue
		}
		for range max(1, capacity.Slots(n, run)) {
			out = append(out, capacity.Speed(t.d.m, n, run))
		}
	}
	return out
}

// Still is a run whose picture is to be put together.
type Still struct {
	ID   farm.RunID
	Spec farm.Spec
}

// ToStitch returns the stills of which all tiles are in.
func (d *Desk) ToStitch(ctx context.Context) (out []Still, err error) {
	err = d.do(ctx, func(t *transaction) error {
		for _, run := range t.State.Queue() {
			if run.Stitches() {
				out = append(out, Still{run.ID, run.Spec})
			}
		}
		return nil
	})
	return out, err
}

// Stitched notes that the picture of a still is put together, or why it cannot be: then the
// run is held.
func (d *Desk) Stitched(ctx context.Context, id farm.RunID, files []string, took time.Duration, why error) error {
	return d.do(ctx, func(t *transaction) error {
		run := t.State.Runs[id]
		if run == nil || !run.Stitches() {
			return nil
		}
		if why != nil {
			t.Append(farm.RunMoved{
				Run: id, State: farm.RunHeld, Held: farm.HeldStitch, At: t.Now,
				Reason: fmt.Sprintf("its tiles cannot be put together: %v", why),
			})
			return nil
		}
		t.Append(farm.RunStitched{
			Run: id, Files: files, At: t.Now,
			Reason: fmt.Sprintf(
				"%s put together in %s", english.Plural(len(run.Spec.Tiles.Rects), "tile is", "tiles are"),
				took.Round(10*time.Millisecond),
			),
		})
		return nil
	})
}
