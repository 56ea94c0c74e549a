package practice

import (
	"image"
	"image/color"
	"math"
)

// spot is a point of a picture, from which passes follow.
type spot struct {
	x, y  float64 // in halves of the height, from the middle
	c     rgb
	pixel float64                    // width of a pixel
	look  func(x, y float64) (c rgb) // colour of another point
}

// pass is what can be written beside a picture: an empty image, and how a
// point of it follows from the picture's.
type pass struct {
	blank func(r image.Rectangle) settable
	point func(s spot) color.Color
}

type settable interface {
	image.Image
	Set(x, y int, c color.Color)
}

// far is how far away from the camera a point is taken to lie, from 0 to 1.
func far(c rgb, y float64) float64 { return clamp(0.55 + 0.35*y + 0.10*(c.b-c.r)) }

// steep is how much a normal leans where the distance changes.
const steep = 2.0

// wide returns a part from 0 to 1 with 16 bits.
func wide(part float64) uint16 { return uint16(math.Round(65535 * clamp(part))) }

var passes = map[string]pass{
	"depth": {
		func(r image.Rectangle) settable { return image.NewGray16(r) },
		func(s spot) color.Color { return color.Gray16{Y: wide(far(s.c, s.y))} },
	},
	"matte": {
		func(r image.Rectangle) settable { return image.NewGray(r) },
		func(s spot) color.Color {
			light := 0.3*s.c.r + 0.59*s.c.g + 0.11*s.c.b
			return color.Gray{Y: uint8(math.Round(255 * smooth(0.35, 0.75, light-0.15*s.y)))}
		},
	},
	// The direction in which a surface looks, each of its three parts from -1 to 1 as a colour
	// from 0 to 1: across the slope of the distance.
	"normal": {
		func(r image.Rectangle) settable { return image.NewNRGBA64(r) },
		func(s spot) color.Color {
			here := far(s.c, s.y)
			across := (far(s.look(s.x+s.pixel, s.y), s.y) - here) / s.pixel
			up := (far(s.look(s.x, s.y+s.pixel), s.y+s.pixel) - here) / s.pixel
			x, y := steep*across, steep*up
			length := math.Sqrt(x*x + y*y + 1)
			return color.NRGBA64{
				wide(0.5 + 0.5*x/length), wide(0.5 + 0.5*y/length), wide(0.5 + 0.5/length), 0xffff,
			}
		},
	},
}
