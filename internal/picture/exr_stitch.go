package picture

import (
	"bufio"
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"io"
	"slices"
	"time"
)

// forever is further than anybody waits: files of ours are read to their end.
var forever = time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)

// exrCanvas is a picture of all channels, line by line, as chunks hold them.
type exrCanvas struct {
	channels []exrChannel
	starts   []int // of each channel in a line
	width    int
	line     int // bytes
	pix      []byte
}

// stitchEXR puts the tiles of an OpenEXR picture together: samples of all channels as they
// are, other attributes as the first tile has them. Tiles are of one part, without levels,
// and of a compression that is decoded.
func stitchEXR(w io.Writer, width, height int, tiles []Tile) error {
	var canvas *exrCanvas
	var like *exrPart
	for _, t := range tiles {
		part, err := canvas.take(t, width, height, &canvas)
		if err != nil {
			return err
		}
		if like == nil {
			like = part
		}
	}
	if canvas == nil {
		return errors.New("there is no tile")
	}
	return canvas.write(w, like, height)
}

// take draws a tile. The first makes the canvas.
func (c *exrCanvas) take(t Tile, width, height int, made **exrCanvas) (*exrPart, error) {
	file, size, err := openTile(t)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	r, parts, err := exrHeaders(source{file: file, size: size, until: forever, last: forever})
	if err != nil {
		return nil, tileFault(t, err)
	}
	p := parts[0]
	switch {
	case len(parts) > 1 || p.deep || p.levels > 0:
		return nil, tileFault(t, errors.New("only pictures of one part and one level can be put together"))
	case p.compression > exrZIP:
		return nil, tileFault(t, errors.New("its compression is not decoded; use none, RLE, ZIPS or ZIP"))
	case slices.ContainsFunc(p.channels, func(c exrChannel) bool { return c.dx != 1 || c.dy != 1 }):
		return nil, tileFault(t, errors.New("a channel has not a sample for each pixel"))
	}
	if c == nil {
		if c, err = newEXRCanvas(p.channels, width, height); err != nil {
			return nil, err
		}
		*made = c
	}
	if !slices.Equal(c.channels, p.channels) {
		return nil, tileFault(t, errors.New("its channels are others than those of the tile before"))
	}
	// Where the file tells its place in the whole picture, that counts; else it is the tile alone.
	shift := image.Point{}
	if p.display.Size() != image.Pt(width, height) {
		if err := fits(t, p.display.Dx(), p.display.Dy()); err != nil {
			return nil, tileFault(t, err)
		}
		shift = t.Holds.Min.Sub(p.display.Min)
	} else {
		shift = image.Point{}.Sub(p.display.Min)
	}
	if !t.Use.In(p.data.Add(shift)) {
		return nil, tileFault(t, fmt.Errorf("it holds %v, and %v is wanted of it", p.data.Add(shift), t.Use))
	}
	table, err := r.read(8 * p.chunks)
	if err != nil {
		return nil, tileFault(t, err)
	}
	for i := range p.chunks {
		_, err := r.readChunk(
			p,
			0,
			binary.LittleEndian.Uint64(table[8*i:]),
			func(_ *exrPart, area image.Rectangle, data []byte) {
				c.put(area, shift, t.Use, data)
			},
		)
		if err != nil {
			return nil, tileFault(t, err)
		}
	}
	return p, nil
}

func newEXRCanvas(channels []exrChannel, width, height int) (*exrCanvas, error) {
	c := &exrCanvas{channels: channels, width: width}
	for _, ch := range channels {
		c.starts = append(c.starts, c.line)
		c.line += width * ch.bytes()
	}
	if int64(c.line)*int64(height) > mostStitched {
		return nil, fmt.Errorf(
			"a picture of %d×%d with %d channels is more than can be put together",
			width,
			height,
			len(channels),
		)
	}
	c.pix = make([]byte, c.line*height)
	return c, nil
}

// put copies what of an area is used.
func (c *exrCanvas) put(area image.Rectangle, shift image.Point, use image.Rectangle, data []byte) {
	for y := area.Min.Y; y < area.Max.Y; y++ {
		line := image.Rect(area.Min.X, y, area.Max.X, y+1).Add(shift)
		wanted := line.Intersect(use)
		for i, ch := range c.channels {
			n := ch.bytes()
			row := data[:area.Dx()*n]
			data = data[area.Dx()*n:]
			if wanted.Empty() {
				continue
			}
			at := wanted.Min.Y*c.line + c.starts[i] + wanted.Min.X*n
			from := (wanted.Min.X - line.Min.X) * n
			copy(c.pix[at:at+wanted.Dx()*n], row[from:])
		}
	}
}

// write writes the picture in scan lines with ZIP compression.
func (c *exrCanvas) write(w io.Writer, like *exrPart, height int) error {
	head := bytes.NewBuffer([]byte{0x76, 0x2f, 0x31, 0x01, 2, 0, 0, 0})
	if slices.ContainsFunc(c.channels, func(ch exrChannel) bool { return len(ch.name) > 31 }) {
		head.Bytes()[5] = 0x04 // long names
	}
	box := func() (v []byte) {
		for _, n := range []int{0, 0, c.width - 1, height - 1} {
			v = binary.LittleEndian.AppendUint32(v, uint32(int32(n)))
		}
		return v
	}
	put := func(a exrAttribute) {
		head.WriteString(a.name + "\x00" + a.kind + "\x00")
		_ = binary.Write(head, binary.LittleEndian, uint32(len(a.value))) // into memory
		head.Write(a.value)
	}
	own := []exrAttribute{
		{
			"compression",
			"compression",
			[]byte{exrZIP},
		}, {"dataWindow", "box2i", box()}, {"displayWindow", "box2i", box()},
		{"lineOrder", "lineOrder", []byte{0}},
	}
	for _, a := range like.attributes {
		of := func(o exrAttribute) bool { return o.name == a.name }
		if slices.ContainsFunc(own, of) || slices.Contains([]string{"tiles", "type", "name", "chunkCount"}, a.name) {
			continue
		}
		put(a)
	}
	for _, a := range own {
		put(a)
	}
	head.WriteByte(0)
	lines := exrLines[exrZIP]
	chunks := (height + lines - 1) / lines
	// The table of offsets comes before the chunks: they are packed first.
	var body bytes.Buffer
	offset := uint64(head.Len() + 8*chunks)
	for i := range chunks {
		_ = binary.Write(head, binary.LittleEndian, offset+uint64(body.Len()))
		packed, err := exrPack(c.pix[i*lines*c.line : min(height, (i+1)*lines)*c.line])
		if err != nil {
			return err
		}
		_ = binary.Write(&body, binary.LittleEndian, []int32{int32(i * lines), int32(len(packed))})
		body.Write(packed)
	}
	out := bufio.NewWriter(w)
	for _, b := range []*bytes.Buffer{head, &body} {
		if _, err := b.WriteTo(out); err != nil {
			return err
		}
	}
	return out.Flush()
}

// exrPack compresses a chunk as ZIP has it: bytes of even places first, each as its
// difference to the one before. One that would not become smaller stays as it is.
func exrPack(data []byte) ([]byte, error) {
	half := (len(data) + 1) / 2
	apart := make([]byte, len(data))
	for i, b := range data {
		apart[i%2*half+i/2] = b
	}
	for i := len(apart) - 1; i > 0; i-- {
		apart[i] -= apart[i-1] - 128
	}
	var packed bytes.Buffer
	z := zlib.NewWriter(&packed)
	if _, err := z.Write(apart); err != nil {
		return nil, err
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	if packed.Len() >= len(data) {
		return data, nil
	}
	return packed.Bytes(), nil
}
