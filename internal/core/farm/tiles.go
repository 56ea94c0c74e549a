package farm

import (
	"path"
	"time"

	"vexillum/internal/core/frames"
	"vexillum/internal/core/tile"
)

// Tiles are the parts of a still that nodes render apart. The frames of its run are the
// numbers of the tiles, from 1.
type Tiles struct {
	Frame   int         `json:"frame"` // of the animation
	Rects   []tile.Rect `json:"rects"` // that together are the picture
	Overlap int         `json:"overlap,omitempty"`
	Drop    bool        `json:"drop,omitempty"` // their files go once the picture is put together
}

// Rendered returns what of the picture a tile holds: its rectangle with the overlap.
func (s Spec) Rendered(number int) tile.Rect {
	return s.Tiles.Rects[number-1].Grown(s.Tiles.Overlap, s.Width, s.Height)
}

// tilesFolder is where the tiles of a still stand, inside the run's output folder.
const tilesFolder = "tiles"

// StillFile returns where the picture of a tiled still stands in the run's output folder
// once it is put together, or a pass of it.
func (s Spec) StillFile(pass string) string {
	of := s
	of.Tiles, of.Frames = nil, frames.One(s.Tiles.Frame)
	return of.PassFile(pass, s.Tiles.Frame)
}

// Stitches reports whether all tiles of a still are there and its picture is still to be
// put together.
func (r *Run) Stitches() bool {
	return r.Spec.Tiles != nil && !r.Stitched && !r.State.Closed() && r.State != RunHeld && r.ToDo.Empty() &&
		r.Later.Empty() && r.Parked.Empty() && len(r.Delivering) == 0 && r.dealt == 0
}

// HeldStitch says that the picture of a still cannot be put together.
const HeldStitch HeldFor = "stitch"

// RunStitched tells that the picture of a still was put together from its tiles.
type RunStitched struct {
	Run    RunID     `json:"run"`
	Files  []string  `json:"files"` // in the run's output folder
	Reason string    `json:"reason"`
	At     time.Time `json:"at"`
}

// Kind implements [Record].
func (RunStitched) Kind() Kind { return "run stitched" }

// About implements [Record].
func (r RunStitched) About() About { return About{Run: r.Run, At: r.At, Reason: r.Reason} }

// Wakes implements [Record].
func (RunStitched) Wakes() Wakes { return 0 }

func (r RunStitched) apply(s *State) error {
	run, err := s.run(r.Run)
	if err != nil {
		return err
	}
	run.Stitched = true
	return nil
}

// inTiles puts the folder of tiles before another.
func inTiles(folder string) string { return path.Join(tilesFolder, folder) }
