package practice

import (
	"image"
	"image/color"
	"math"
)

// pass is what can be written beside a picture: an empty image, and how a
// point of it follows from the picture's.
type pass struct {
	blank func(r image.Rectangle) settable
	point func(c rgb, y float64) color.Color
}

type settable interface {
	image.Image
	Set(x, y int, c color.Color)
}

var passes = map[string]pass{
	"depth": {
		func(r image.Rectangle) settable { return image.NewGray16(r) },
		func(c rgb, y float64) color.Color {
			far := clamp(0.55 + 0.35*y + 0.10*(c.b-c.r))
			return color.Gray16{Y: uint16(math.Round(65535 * far))}
		},
	},
	"matte": {
		func(r image.Rectangle) settable { return image.NewGray(r) },
		func(c rgb, y float64) color.Color {
			light := 0.3*c.r + 0.59*c.g + 0.11*c.b
			return color.Gray{Y: uint8(math.Round(255 * smooth(0.35, 0.75, light-0.15*y)))}
		},
	},
}
