// Package tile divides a picture into rectangles that can be rendered apart: as a grid, by
// size, or so that machines of unlike speed are through together. It knows rectangles and
// costs, neither pictures nor nodes.
package tile

import (
	"cmp"
	"fmt"
	"math"
	"slices"
)

// Rect is a rectangle of a picture in pixels from the upper left corner; right and bottom
// are the first outside.
type Rect struct {
	Left   int `json:"left"`
	Top    int `json:"top"`
	Right  int `json:"right"`
	Bottom int `json:"bottom"`
}

// Width returns how many pixels it is wide.
func (r Rect) Width() int { return r.Right - r.Left }

// Height returns how many pixels it is high.
func (r Rect) Height() int { return r.Bottom - r.Top }

// Pixels returns how many pixels it has.
func (r Rect) Pixels() int { return max(0, r.Width()) * max(0, r.Height()) }

// Grown returns the rectangle with so many pixels more on each side, within a picture.
func (r Rect) Grown(by, width, height int) Rect {
	return Rect{max(0, r.Left-by), max(0, r.Top-by), min(width, r.Right+by), min(height, r.Bottom+by)}
}

// Common returns what two rectangles have in common; without pixels where that is nothing.
func (r Rect) Common(o Rect) Rect {
	return Rect{max(r.Left, o.Left), max(r.Top, o.Top), min(r.Right, o.Right), min(r.Bottom, o.Bottom)}
}

// String writes it as left, top, right, bottom.
func (r Rect) String() string { return fmt.Sprintf("%d,%d,%d,%d", r.Left, r.Top, r.Right, r.Bottom) }

// Most bounds the tiles of a picture.
const Most = 4096

// Align is on which pixels borders of tiles lie where that costs nothing: renderers work in
// blocks, and a border through a block is work done twice.
const Align = 32

// Grid divides a picture into columns and rows of nearly equal size, from the upper left to
// the lower right. The error says why it cannot be.
func Grid(width, height, columns, rows int) ([]Rect, error) {
	switch {
	case columns < 1 || rows < 1:
		return nil, fmt.Errorf("a grid of %d×%d has no tiles", columns, rows)
	case columns > width || rows > height:
		return nil, fmt.Errorf(
			"a grid of %d×%d has more tiles than the picture of %d×%d has pixels on a side",
			columns,
			rows,
			width,
			height,
		)
	case columns > Most || rows > Most || columns*rows > Most:
		return nil, fmt.Errorf("a grid of %d×%d has more than %d tiles", columns, rows, Most)
	}
	across, down := borders(width, columns), borders(height, rows)
	out := make([]Rect, 0, columns*rows)
	for y := range rows {
		for x := range columns {
			out = append(out, Rect{across[x], down[y], across[x+1], down[y+1]})
		}
	}
	return out, nil
}

// BySize divides a picture into tiles of a size, those at the right and the bottom being
// smaller.
func BySize(width, height, tileWidth, tileHeight int) ([]Rect, error) {
	if tileWidth < 1 || tileHeight < 1 {
		return nil, fmt.Errorf("tiles of %d×%d pixels have no pixels", tileWidth, tileHeight)
	}
	columns, rows := (width+tileWidth-1)/tileWidth, (height+tileHeight-1)/tileHeight
	if columns > Most || rows > Most || columns*rows > Most {
		return nil, fmt.Errorf(
			"the picture of %d×%d has more than %d tiles of %d×%d", width, height, Most, tileWidth, tileHeight,
		)
	}
	var out []Rect
	for y := range rows {
		for x := range columns {
			out = append(out, Rect{
				x * tileWidth, y * tileHeight, min(width, (x+1)*tileWidth), min(height, (y+1)*tileHeight),
			})
		}
	}
	return out, nil
}

// borders returns where parts of a side begin and end, on multiples of [Align] where parts
// are large enough for that.
func borders(side, parts int) []int {
	out := make([]int, parts+1)
	for i := range parts {
		at := (i*side + parts/2) / parts
		if side/parts >= 2*Align {
			at = (at + Align/2) / Align * Align
		}
		out[i] = at
	}
	out[parts] = side
	return out
}

// Costs tells what the pixels of a rectangle cost together, in any unit.
type Costs func(Rect) float64

// Even is the cost of pixels of which nothing is known.
func Even(r Rect) float64 { return float64(r.Pixels()) }

// BySpeed divides a picture for machines of the given speeds, so that all can be through
// together: first into one part for each, as large as its speed makes it by the costs, then
// each part into pieces of which the first takes about half of the machine's time, and the
// others ever less. The small ones at the end make good what was not foreseen. The tiles
// come with the costliest for the fastest machine first.
func BySpeed(width, height int, speeds []float64, costs Costs) []Rect {
	speeds = slices.Clone(speeds)
	slices.SortFunc(speeds, func(a, b float64) int { return cmp.Compare(b, a) })
	const pieces = 4
	if most := max(1, min(Most/pieces, width*height/(Align*Align))); len(speeds) > most {
		speeds = speeds[:most]
	}
	if len(speeds) == 0 {
		return []Rect{{0, 0, width, height}}
	}
	var parts []Rect
	divide(Rect{0, 0, width, height}, speeds, costs, func(r Rect, _ []float64) { parts = append(parts, r) })
	share := []float64{0.5, 0.25, 0.15, 0.1}
	var out []Rect
	for _, part := range parts {
		if len(speeds) == 1 { // nobody to share with
			return parts
		}
		divide(part, share, costs, func(r Rect, _ []float64) { out = append(out, r) })
	}
	slices.SortStableFunc(out, func(a, b Rect) int { return cmp.Compare(costs(b), costs(a)) })
	return out
}

// divide cuts a rectangle into one for each weight, whose costs are as the weights, and
// tells of each. A rectangle that cannot be cut any more is told once.
func divide(r Rect, weights []float64, costs Costs, tell func(Rect, []float64)) {
	if len(weights) == 1 || r.Width() < 2 && r.Height() < 2 {
		tell(r, weights)
		return
	}
	// Two halves of the weights that are as alike as can be, those in order staying together.
	total := 0.0
	for _, w := range weights {
		total += w
	}
	at, sum := 1, weights[0]
	for at < len(weights)-1 && math.Abs(sum+weights[at]-total/2) <= math.Abs(sum-total/2) {
		sum += weights[at]
		at++
	}
	a, b, ok := cut(r, sum/total, costs)
	if !ok {
		tell(r, weights)
		return
	}
	divide(a, weights[:at], costs, tell)
	divide(b, weights[at:], costs, tell)
}

// cut cuts a rectangle across its longer side so that the first part has so much of its
// cost.
func cut(r Rect, part float64, costs Costs) (a, b Rect, ok bool) {
	across := r.Width() >= r.Height()
	low, high := r.Left, r.Right
	if !across {
		low, high = r.Top, r.Bottom
	}
	if high-low < 2 {
		return r, Rect{}, false
	}
	parts := func(at int) (Rect, Rect) {
		a, b := r, r
		if across {
			a.Right, b.Left = at, at
		} else {
			a.Bottom, b.Top = at, at
		}
		return a, b
	}
	want := part * costs(r)
	first, last := low+1, high-1
	for first < last {
		middle := (first + last) / 2
		if a, _ := parts(middle); costs(a) < want {
			first = middle + 1
		} else {
			last = middle
		}
	}
	at := first
	if high-low >= 4*Align { // on a block, where that moves it little
		aligned := (at + Align/2) / Align * Align
		if aligned > low && aligned < high {
			at = aligned
		}
	}
	a, b = parts(at)
	return a, b, true
}
