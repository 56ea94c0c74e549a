package practice

import (
	"image"
	"image/color"
	"math"
)

// passes draw one point of what can be written beside a picture.
var passes = map[string]func(c rgb, y float64) color.Color{
	"depth": func(c rgb, y float64) color.Color {
		far := clamp(0.55 + 0.35*y + 0.10*(c.b-c.r))
		return color.Gray16{Y: uint16(math.Round(65535 * far))}
	},
	"matte": func(c rgb, y float64) color.Color {
		light := 0.3*c.r + 0.59*c.g + 0.11*c.b
		return color.Gray{Y: uint8(math.Round(255 * smooth(0.35, 0.75, light-0.15*y)))}
	},
}

// PaintPass draws a pass of a frame. Like the picture, it depends on picture,
// frame and size alone.
func PaintPass(picture, pass string, frame, width, height int) image.Image {
	var img interface {
		image.Image
		Set(x, y int, c color.Color)
	} = image.NewGray(image.Rect(0, 0, width, height))
	if pass == "depth" {
		img = image.NewGray16(image.Rect(0, 0, width, height))
	}
	point := passes[pass]
	each(picture, frame, width, height, func(px, py int, c rgb, y float64) { img.Set(px, py, point(c, y)) })
	return img
}
