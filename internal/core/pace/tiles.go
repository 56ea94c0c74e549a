package pace

import (
	"math"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/tile"
)

// region is what a part of a picture has cost: in parts of its width and height.
type region struct {
	left, top, right, bottom float64
	density                  float64 // reference seconds for all of a picture that costs so everywhere
}

// tileShape returns what tiles of a still should cost: as earlier tiles of the job have it
// region by region, else by their pixels; all together what the frame has cost before.
func (m *Model) tileShape(run *farm.Run) *shape {
	spec := run.Spec
	costs := m.TileCosts(spec)
	s := &shape{First: 1, Last: len(spec.Tiles.Rects), Logs: make([]float64, len(spec.Tiles.Rects)), doubt: 0.5}
	if len(s.Logs) > mostBins { // they are dealt by what they show
		return nil
	}
	level, known := m.levelOf(spec)
	if !known {
		return nil
	}
	total := costs(tile.Rect{Right: spec.Width, Bottom: spec.Height})
	for i := range s.Logs {
		s.Logs[i] = math.Log(level * costs(spec.Rendered(i+1)) / total)
	}
	return s
}

// levelOf returns what the whole frame of a still should cost, in reference seconds.
func (m *Model) levelOf(spec farm.Spec) (float64, bool) {
	if list := m.regions[tilesOf(spec)]; len(list) > 0 {
		sum := 0.0
		for _, r := range list {
			sum += r.density * (r.right - r.left) * (r.bottom - r.top)
		}
		return sum * pixels(spec), true
	}
	if s := m.jobs[keyOfJob(spec)]; s != nil && s.First <= spec.Tiles.Frame && spec.Tiles.Frame <= s.Last {
		return math.Exp(m.scaled(s, spec).log(spec.Tiles.Frame)), true
	}
	if t := m.typical[spec.Recipe]; t != nil {
		return math.Exp(t.logMean) * pixels(spec), true
	}
	return 0, false
}

// TileCosts tells what parts of a still cost beside one another: as earlier tiles of its
// job have shown, else as many pixels as they have.
func (m *Model) TileCosts(spec farm.Spec) tile.Costs {
	list := m.regions[tilesOf(spec)]
	if len(list) == 0 {
		return tile.Even
	}
	w, h := float64(spec.Width), float64(spec.Height)
	return func(r tile.Rect) float64 {
		sum := 0.0
		for _, of := range list {
			width := min(of.right, float64(r.Right)/w) - max(of.left, float64(r.Left)/w)
			height := min(of.bottom, float64(r.Bottom)/h) - max(of.top, float64(r.Top)/h)
			if width > 0 && height > 0 {
				sum += of.density * width * height
			}
		}
		return sum
	}
}

// keepTiles keeps what the tiles of a still have cost for the next one of its job.
func (m *Model) keepTiles(run *farm.Run, c *Curve) {
	spec := run.Spec
	if c.knots == nil || c.count < len(spec.Tiles.Rects)/2 {
		return
	}
	each := map[int]float64{}
	for _, k := range c.kept {
		each[int(k.frame)] = math.Exp(float64(k.y) + c.nodes[k.node].off + c.shapeAt(int(k.frame)))
	}
	var out []region
	w, h := float64(spec.Width), float64(spec.Height)
	for i, r := range spec.Tiles.Rects {
		cost, seen := each[i+1]
		if !seen {
			cost = c.Cost(i + 1)
		}
		part := float64(spec.Rendered(i+1).Pixels()) / (w * h)
		out = append(out, region{
			float64(
				r.Left,
			) / w, float64(r.Top) / h, float64(r.Right) / w, float64(r.Bottom) / h, cost / part / pixels(spec),
		})
	}
	m.regions[tilesOf(spec)] = out
}

// tilesKey is a job that is rendered by one recipe.
type tilesKey struct {
	job    jobKey
	recipe string
}

func tilesOf(spec farm.Spec) tilesKey { return tilesKey{keyOfJob(spec), spec.Recipe} }
