package practice

import (
	"image"
	"image/color"
	"math"
)

// painters draw one point of a picture. The point runs from -1 to 1 upwards
// and from -ratio to ratio sideways; t runs from 0 to 1 over 240 frames.
var painters = map[string]func(x, y, t, pixel float64) rgb{
	"salt":   paintSalt,
	"tidal":  paintTidal,
	"gannet": paintGannet,
}

// cycle is the number of frames after which a picture comes back.
const cycle = 240

// Paint draws a frame. The pixels depend on picture, frame and size alone.
func Paint(picture string, frame, width, height int) image.Image {
	img, _ := paint(picture, nil, frame, width, height, image.Rect(0, 0, width, height), 0)
	return img
}

// paint draws a rectangle of a frame and of the named passes, seen from a camera that is
// turned to the right by pan. Only the pixels of the rectangle are computed.
func paint(
	picture string, names []string, frame, width, height int, bounds image.Rectangle, pan float64,
) (image.Image, []image.Image) {
	img := image.NewNRGBA(bounds)
	var beside []settable
	var drawn []image.Image
	for _, name := range names {
		b := passes[name].blank(bounds)
		beside, drawn = append(beside, b), append(drawn, b)
	}
	painter := painters[picture]
	t := float64(((frame%cycle)+cycle)%cycle) / cycle
	half := float64(height) / 2
	look := func(x, y float64) rgb { return painter(x, y, t, 1.2/half) }
	for py := bounds.Min.Y; py < bounds.Max.Y; py++ {
		for px := bounds.Min.X; px < bounds.Max.X; px++ {
			x := (float64(px)+0.5-float64(width)/2)/half + pan
			y := (half - float64(py) - 0.5) / half
			c := look(x, y)
			img.SetNRGBA(px, py, c.nrgba())
			for i, name := range names {
				beside[i].Set(px, py, passes[name].point(spot{x, y, c, 1 / half, look}))
			}
		}
	}
	return img, drawn
}

// rgb is a colour with parts from 0 to 1, as shown.
type rgb struct{ r, g, b float64 }

func hex(v uint32) rgb {
	return rgb{float64(v>>16) / 255, float64(v>>8&255) / 255, float64(v&255) / 255}
}

func (c rgb) mix(d rgb, a float64) rgb {
	a = clamp(a)
	return rgb{c.r + (d.r-c.r)*a, c.g + (d.g-c.g)*a, c.b + (d.b-c.b)*a}
}

func (c rgb) times(k float64) rgb { return rgb{c.r * k, c.g * k, c.b * k} }

func (c rgb) nrgba() color.NRGBA {
	to := func(v float64) uint8 { return uint8(clamp(v)*255 + 0.5) }
	return color.NRGBA{to(c.r), to(c.g), to(c.b), 255}
}

func clamp(v float64) float64 { return min(max(v, 0), 1) }

// fill returns how much of a pixel lies inside a shape whose border is at
// distance d (negative inside).
func fill(d, pixel float64) float64 { return clamp(0.5 - d/pixel) }

// smooth rises from 0 to 1 between a and b.
func smooth(a, b, v float64) float64 {
	u := clamp((v - a) / (b - a))
	return u * u * (3 - 2*u)
}

// noise is a cheap pattern that repeats the same for the same point.
func noise(x, y float64) float64 {
	v := math.Sin(x*127.1+y*311.7) * 43758.5453
	return v - math.Floor(v)
}

// paintSalt is an hourglass of salt at dusk.
func paintSalt(x, y, t, pixel float64) rgb {
	sky := hex(0x1c2740).mix(hex(0x8c6f70), smooth(0.9, -0.2, y)).mix(hex(0xe2b489), smooth(0.15, -0.45, y))
	sun := math.Hypot(x+0.9-1.8*t, y+0.32-0.25*math.Sin(math.Pi*t))
	c := sky.mix(hex(0xffe3b0), 0.55*math.Exp(-sun*sun*6)).mix(hex(0xfff3d6), fill(sun-0.11, pixel))
	if y < -0.42 {
		ground := hex(0x4a4744).mix(hex(0x22242a), smooth(-0.42, -1, y))
		glint := 0.10 * noise(math.Floor(x*90), math.Floor(y*140))
		c = ground.mix(hex(0xe2b489), glint+0.25*math.Exp(-math.Abs(x+0.9-1.8*t)*5)*smooth(-1, -0.42, y))
	}
	// The glass: two bulbs whose half width is a function of height.
	glass := func(y float64) float64 {
		u := math.Abs(y) / 0.62
		return 0.035 + 0.36*math.Pow(clamp(u), 0.75)*math.Sqrt(clamp(1.12-u*u*0.62))
	}
	if math.Abs(y) < 0.66 {
		d := math.Abs(x) - glass(y)
		inside := fill(d, pixel) * fill(math.Abs(y)-0.62, pixel)
		body := c.mix(hex(0xeef2f2), 0.16)
		top := 0.55 - 0.50*t // level of the salt above
		heap := -0.62 + 0.44*math.Sqrt(t) - 0.5*math.Abs(x)*(1-0.4*t)
		salt := hex(0xf4ede0).times(0.86 + 0.14*noise(math.Floor(x*160), math.Floor((y+t)*160)))
		dip := 0.05 * math.Exp(-x*x*60)
		body = body.mix(salt, fill(y-top+dip, pixel)*fill(-y, pixel))
		body = body.mix(salt, fill(y-heap, pixel)*fill(y, pixel))
		if y < 0 && t < 0.995 {
			body = body.mix(salt, fill(math.Abs(x)-0.007-0.004*noise(y*40, t*77), pixel))
		}
		body = body.mix(hex(0xffffff), 0.35*math.Exp(-math.Pow((x+0.55*glass(y))/0.035, 2)))
		c = c.mix(body, inside)
		c = c.mix(hex(0xf2e8d5), 0.75*fill(math.Abs(d)-0.010, pixel)*fill(math.Abs(y)-0.62, pixel))
	}
	for _, side := range []float64{-1, 1} { // the wooden plates
		plate := math.Max(math.Abs(x)-0.46, math.Abs(y-side*0.665)-0.045)
		wood := hex(0x7c4a2e).mix(hex(0xb98b4e), 0.5+0.5*math.Sin(x*60+3*math.Sin(y*90)))
		c = c.mix(wood.times(0.9), fill(plate, pixel))
	}
	for _, post := range []float64{-0.41, 0.41} {
		d := math.Max(math.Abs(x-post)-0.018, math.Abs(y)-0.64)
		c = c.mix(hex(0x8a5a36).times(0.75+0.4*smooth(post-0.02, post+0.02, x)), fill(d, pixel))
	}
	return c
}

// paintTidal is water under the dome of a museum at night.
func paintTidal(x, y, t, pixel float64) rgb {
	c := hex(0x0b101b)
	radius := math.Hypot(x, y*1.02)
	inside := fill(radius-0.93, pixel)
	star := noise(math.Floor(x*70), math.Floor(y*70))
	dome := hex(0x0f2136).mix(hex(0x1d5a6e), smooth(0.9, -0.4, y))
	if star > 0.985 && y > -0.1 {
		dome = dome.mix(hex(0xe9f4ff), (star-0.985)/0.015*(0.5+0.5*math.Sin(2*math.Pi*(t*6+star*40))))
	}
	moonX, moonY := 0.45*math.Cos(math.Pi*(0.75-0.5*t)), 0.15+0.45*math.Sin(math.Pi*(0.75-0.5*t))
	moon := math.Hypot(x-moonX, y-moonY)
	dome = dome.mix(hex(0xf4e9c8), 0.35*math.Exp(-moon*moon*14)).mix(hex(0xf8efd4), fill(moon-0.10, pixel))
	dome = dome.mix(hex(0xd8cba6), 0.6*fill(math.Hypot(x-moonX+0.03, y-moonY-0.02)-0.025, pixel))
	for i := range 5 { // waves, the nearest last
		k := float64(i)
		level := -0.12 - 0.17*k + (0.05+0.012*k)*math.Sin(
			x*(5.5-0.6*k)+2*math.Pi*t*(1+math.Mod(k, 3))+k*1.7,
		) + 0.02*math.Sin(x*13-2*math.Pi*t*2+k)
		water := hex(0x2f8ba0).mix(hex(0x08222f), k/4.6)
		dome = dome.mix(water, fill(y-level, pixel))
		dome = dome.mix(hex(0x9fe0e4), (0.75-0.12*k)*fill(math.Abs(y-level)-0.006, pixel*1.5))
		glitter := math.Exp(-math.Pow((x-moonX)/0.16, 2)) * noise(math.Floor(x*60+k), math.Floor(y*90+t*240))
		dome = dome.mix(hex(0xf4e9c8), 0.5*glitter*fill(y-level, pixel)*smooth(0.45, 0.9, glitter))
	}
	c = c.mix(dome, inside)
	rib := math.Abs(math.Mod(math.Atan2(x, y+0.93)/math.Pi*16+64, 1) - 0.5)
	if y > -0.05 {
		c = c.mix(hex(0x3d6f86), 0.35*inside*fill(rib-0.02, 0.05))
	}
	c = c.mix(hex(0x6fb9cc), 0.9*fill(math.Abs(radius-0.93)-0.006, pixel))
	floor := fill(y+0.93, pixel)
	return c.mix(hex(0x05070c), floor)
}

// paintGannet is a sea bird over paper cliffs.
func paintGannet(x, y, t, pixel float64) rgb {
	grain := 0.03 * (noise(math.Floor(x*300), math.Floor(y*300)) - 0.5)
	c := hex(0xe9e2d2).mix(hex(0xbccad0), smooth(-0.5, 1, y))
	c = rgb{c.r + grain, c.g + grain, c.b + grain}
	for i := range 3 { // the sea
		k := float64(i)
		level := -0.45 - 0.16*k + 0.02*math.Sin(x*(7+k*2)+2*math.Pi*t*(2+k)+k)
		c = c.mix(hex(0x7f9aa6).mix(hex(0x2c4a5c), k/2), fill(y-level, pixel))
	}
	cliff := -1.05 + 0.22*math.Sin(x*2.1+1) + 0.10*math.Sin(x*7.3) + 0.04*math.Sin(x*19) + 0.5*smooth(0.7, 1.5, x)
	c = c.mix(hex(0x3b3633).mix(hex(0x6d625a), 0.5+0.5*math.Sin(y*50+x*9)), fill(y-cliff, pixel))
	// The bird glides across and beats its wings.
	cx, cy := -1.5+3*t, 0.22+0.12*math.Sin(2*math.Pi*t*2)
	bx, by := x-cx, y-cy
	beat := math.Sin(2 * math.Pi * t * 9)
	c = wing(c, bx, by, pixel, 0.72+0.10*beat, 0.42*beat+0.18, hex(0xd9d5cb))
	body := math.Hypot(bx/0.34, (by+0.03*bx)/0.075) - 1
	c = c.mix(hex(0xfbfaf6).mix(hex(0xc9c4b8), smooth(0.02, -0.08, by)), fill(body*0.075, pixel))
	head := math.Hypot(bx-0.31, by-0.015) - 0.068
	c = c.mix(hex(0xecc98a), fill(head, pixel))
	beak := math.Max(math.Abs(by-0.005)-0.032*clamp((0.53-bx)/0.18), -(bx - 0.35))
	c = c.mix(hex(0x8896a0), fill(beak, pixel)*fill(bx-0.53, pixel))
	c = c.mix(hex(0x20242a), fill(math.Hypot(bx-0.335, by-0.03)-0.012, pixel))
	tail := math.Max(math.Abs(by+0.01)-0.03*clamp((bx+0.55)/0.25), bx+0.28)
	c = c.mix(hex(0xf1efe8), fill(tail, pixel)*fill(-bx-0.55, pixel))
	return wing(c, bx+0.04, by-0.02, pixel, 0.8, 0.45*beat+0.25, hex(0xfbfaf6))
}

// wing draws one wing from the shoulder, of the given length and lift, with a
// dark tip.
func wing(c rgb, x, y, pixel, length, lift float64, colour rgb) rgb {
	u := y / (lift + math.Copysign(1e-6, lift))
	if u < 0 || u > 1 {
		return c
	}
	centre := -0.02 - 0.30*length*u*u
	width := 0.14*length*(1-u*u*0.85) + 0.004
	d := math.Abs(x-centre) - width
	tip := smooth(0.66, 0.74, u)
	return c.mix(colour.mix(hex(0x2a2a2c), tip), fill(d, pixel)*fill((u-1)*math.Abs(lift), pixel))
}
