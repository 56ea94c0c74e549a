package picture

import (
	"encoding/binary"
	"image"
	"image/color"
	"math"
	"strings"
)

// exrView is a small picture of a part, as it comes.
type exrView struct {
	img     *image.RGBA
	part    *exrPart
	step    int
	rgb     [3]int // index of the channels to be seen; -1: none
	decoded bool
	same    bool // all pixels so far are alike
	first   *[3]float32
}

func newEXRView(p *exrPart) *exrView {
	v := &exrView{part: p, same: true, step: max(1, (max(p.display.Dx(), p.display.Dy())+exrMostSmall-1)/exrMostSmall)}
	v.img = image.NewRGBA(image.Rect(0, 0, (p.display.Dx()+v.step-1)/v.step, (p.display.Dy()+v.step-1)/v.step))
	for i := 3; i < len(v.img.Pix); i += 4 {
		v.img.Pix[i] = 0xff
	}
	if p.compression > exrZIP || p.deep { // it is not decoded: nothing is known of its colours
		for i := range v.img.Pix {
			if i%4 != 3 {
				v.img.Pix[i] = 0x60
			}
		}
	}
	v.rgb = [3]int{-1, -1, -1}
	for i, c := range p.channels {
		for k, name := range []string{"R", "G", "B"} {
			if c.name == name || v.rgb[k] < 0 && strings.HasSuffix(c.name, "."+name) { // of a layer
				v.rgb[k] = i
			}
		}
	}
	for i := range v.rgb { // grey, or the first channel of any name
		if v.rgb[0] < 0 {
			v.rgb[0] = max(0, indexOfChannel(p.channels, "Y"))
		}
		if v.rgb[i] < 0 {
			v.rgb[i] = v.rgb[0]
		}
	}
	return v
}

func indexOfChannel(all []exrChannel, name string) int {
	for i, c := range all {
		if c.name == name {
			return i
		}
	}
	return -1
}

// put draws the pixels of an area.
func (v *exrView) put(p *exrPart, area image.Rectangle, data []byte) {
	v.decoded = true
	for y := area.Min.Y; y < area.Max.Y; y++ {
		rows := make([][]byte, len(p.channels)) // of this line
		for i, c := range p.channels {
			if floorDiv(y, c.dy)*c.dy != y {
				continue
			}
			n := samples(area.Min.X, area.Max.X, c.dx) * c.bytes()
			rows[i], data = data[:n], data[n:]
		}
		line := y - p.display.Min.Y
		shown := line >= 0 && line%v.step == 0
		if !shown && !v.same { // nothing of it is wanted
			continue
		}
		for x := area.Min.X; x < area.Max.X; x++ {
			if !v.same && (x-p.display.Min.X)%v.step != 0 {
				continue
			}
			var pixel [3]float32
			for k, i := range v.rgb {
				c := p.channels[i]
				switch {
				case rows[i] == nil:
				case c.dx == 1:
					pixel[k] = c.value(rows[i], x-area.Min.X)
				default:
					pixel[k] = c.value(rows[i], min(samples(area.Min.X, x+1, c.dx), len(rows[i])/c.bytes())-1)
				}
			}
			if v.first == nil {
				v.first = &pixel
			}
			v.same = v.same && pixel == *v.first
			at := image.Pt(x, y).Sub(p.display.Min)
			if at.X%v.step == 0 && at.Y%v.step == 0 && at.X >= 0 && at.Y >= 0 {
				v.img.SetRGBA(
					at.X/v.step,
					at.Y/v.step,
					color.RGBA{seen(pixel[0]), seen(pixel[1]), seen(pixel[2]), 0xff},
				)
			}
		}
	}
}

// value returns one sample of a row.
func (c exrChannel) value(row []byte, i int) float32 {
	if i < 0 || (i+1)*c.bytes() > len(row) {
		return 0
	}
	switch c.kind {
	case 0:
		return float32(binary.LittleEndian.Uint32(row[4*i:])) / math.MaxUint32
	case 1:
		return half(binary.LittleEndian.Uint16(row[2*i:]))
	}
	return math.Float32frombits(binary.LittleEndian.Uint32(row[4*i:]))
}

// half reads a number of 16 bits as IEEE 754 has it.
func half(h uint16) float32 {
	sign, exponent, fraction := uint32(h>>15)<<31, int(h>>10&0x1f), uint32(h&0x3ff)
	switch exponent {
	case 0:
		f := float32(fraction) / (1 << 24)
		if sign != 0 {
			return -f
		}
		return f
	case 0x1f:
		return math.Float32frombits(sign | 0x7f800000 | fraction<<13)
	}
	return math.Float32frombits(sign | uint32(exponent+112)<<23 | fraction<<13)
}

// seen writes light as a screen shows it: by the curve of sRGB, where what is
// brighter than 0.8 is pressed together below white.
func seen(light float32) uint8 {
	x := float64(light)
	switch {
	case math.IsNaN(x) || x <= 0:
		return 0
	case x > 0.8:
		x = 1 - 0.2*math.Exp((0.8-x)/0.2)
	}
	if x <= 0.0031308 {
		x *= 12.92
	} else {
		x = 1.055*math.Pow(x, 1/2.4) - 0.055
	}
	return uint8(math.Round(255 * min(1, x)))
}
