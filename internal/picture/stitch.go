package picture

import (
	"bufio"
	"bytes"
	"cmp"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"image"
	"image/draw"
	"image/jpeg"
	"io"
	"os"
	"slices"

	"golang.org/x/image/tiff"

	"vexillum/internal/plainfile"
)

// Tile is a file that holds a part of a picture.
type Tile struct {
	Path  string
	Holds image.Rectangle // what of the picture the file holds
	Use   image.Rectangle // what of that is used: tiles together cover the picture once
}

// mostStitched bounds the memory that a picture takes which is put together as a whole.
const mostStitched = 512 << 20

// Stitch puts the tiles of a picture together and writes it in their format: png row by row,
// as the files have it, to the bit; tiff and exr to the bit as well; jpeg as well as the
// format can. A *FaultError says what is wrong with a tile.
func Stitch(w io.Writer, format string, width, height int, tiles []Tile) error {
	if err := covered(width, height, tiles); err != nil {
		return err
	}
	switch format {
	case "png":
		return stitchPNG(w, width, height, tiles)
	case "exr":
		return stitchEXR(w, width, height, tiles)
	case "jpeg", "tiff":
	default:
		return fmt.Errorf("pictures of the format %q cannot be put together", format)
	}
	whole, err := stitchWhole(format, width, height, tiles)
	if err != nil {
		return err
	}
	if format == "jpeg" {
		return jpeg.Encode(w, whole, &jpeg.Options{Quality: 98})
	}
	return tiff.Encode(w, whole, &tiff.Options{Compression: tiff.Deflate, Predictor: true})
}

// covered returns an error unless tiles cover a picture, each pixel once.
func covered(width, height int, tiles []Tile) error {
	whole, pixels := image.Rect(0, 0, width, height), 0
	for i, t := range tiles {
		if t.Use.Empty() || !t.Use.In(whole) {
			return fmt.Errorf("the tile %v lies outside the picture of %d×%d", t.Use, width, height)
		}
		for _, o := range tiles[:i] {
			if t.Use.Overlaps(o.Use) {
				return fmt.Errorf("the tiles %v and %v lie over each other", o.Use, t.Use)
			}
		}
		pixels += t.Use.Dx() * t.Use.Dy()
	}
	if pixels != width*height {
		return fmt.Errorf("the picture is not covered by its tiles: %d of %d pixels are", pixels, width*height)
	}
	return nil
}

// stitchWhole decodes tiles into one picture of their kind.
func stitchWhole(format string, width, height int, tiles []Tile) (whole draw.Image, err error) {
	for _, t := range tiles {
		img, err := decodeTile(format, t)
		if err != nil {
			return nil, err
		}
		if whole == nil {
			if whole, err = blankLike(img, width, height); err != nil {
				return nil, err
			}
		}
		from := t.Use.Min.Sub(t.Holds.Min).Add(img.Bounds().Min)
		if !copyPixels(whole, t.Use, img, from) {
			draw.Draw(whole, t.Use, img, from, draw.Src)
		}
	}
	if whole == nil {
		return nil, errors.New("there is no tile")
	}
	return whole, nil
}

func decodeTile(format string, t Tile) (image.Image, error) {
	file, size, err := openTile(t)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	s := source{file: file, size: size, until: forever, last: forever}
	w, h, memory, err := s.header(format)
	if err == nil {
		err = fits(t, w, h)
	}
	if err == nil && memory > mostDecoded {
		err = fmt.Errorf("a tile of %d×%d is more than can be put together in one go", w, h)
	}
	if err != nil {
		return nil, tileFault(t, err)
	}
	img, err := s.decode(format)
	if err != nil {
		return nil, tileFault(t, err)
	}
	return img, nil
}

func openTile(t Tile) (*os.File, int64, error) {
	file, err := plainfile.Open(t.Path)
	if err != nil {
		return nil, 0, &FaultError{Missing: true, Reason: fmt.Sprintf("the tile %v cannot be opened: %v", t.Use, err)}
	}
	info, err := file.Stat()
	if err != nil {
		file.Close()
		return nil, 0, fmt.Errorf("looking at a tile: %w", err)
	}
	return file, info.Size(), nil
}

// fits compares the size of a tile's file with what it should hold.
func fits(t Tile, width, height int) error {
	if width != t.Holds.Dx() || height != t.Holds.Dy() {
		return fmt.Errorf("it is %d×%d and should be %d×%d", width, height, t.Holds.Dx(), t.Holds.Dy())
	}
	if !t.Use.In(t.Holds) {
		return fmt.Errorf("it holds %v, and %v is wanted of it", t.Holds, t.Use)
	}
	return nil
}

func tileFault(t Tile, err error) error {
	return &FaultError{Reason: fmt.Sprintf("the tile %v is not whole: %v", t.Use, err)}
}

// blankLike returns an empty picture of the kind of another.
func blankLike(img image.Image, width, height int) (draw.Image, error) {
	r := image.Rect(0, 0, width, height)
	each := int64(4)
	switch img.(type) {
	case *image.NRGBA64, *image.RGBA64:
		each = 8
	}
	if each*int64(width)*int64(height) > mostStitched {
		return nil, fmt.Errorf(
			"a picture of %d×%d is more than can be put together in one go; render it as PNG", width, height,
		)
	}
	switch img.(type) {
	case *image.Gray:
		return image.NewGray(r), nil
	case *image.Gray16:
		return image.NewGray16(r), nil
	case *image.NRGBA64:
		return image.NewNRGBA64(r), nil
	case *image.RGBA64:
		return image.NewRGBA64(r), nil
	case *image.NRGBA:
		return image.NewNRGBA(r), nil
	}
	return image.NewRGBA(r), nil
}

// copyPixels copies pixels as they are where both pictures are of one kind.
func copyPixels(to draw.Image, into image.Rectangle, from image.Image, at image.Point) bool {
	pix := func(img image.Image) (p []byte, stride, each int, origin image.Point) {
		switch m := img.(type) {
		case *image.Gray:
			return m.Pix, m.Stride, 1, m.Rect.Min
		case *image.Gray16:
			return m.Pix, m.Stride, 2, m.Rect.Min
		case *image.NRGBA:
			return m.Pix, m.Stride, 4, m.Rect.Min
		case *image.RGBA:
			return m.Pix, m.Stride, 4, m.Rect.Min
		case *image.NRGBA64:
			return m.Pix, m.Stride, 8, m.Rect.Min
		case *image.RGBA64:
			return m.Pix, m.Stride, 8, m.Rect.Min
		}
		return nil, 0, 0, image.Point{}
	}
	if fmt.Sprintf("%T", to) != fmt.Sprintf("%T", from) {
		return false
	}
	a, strideA, each, minA := pix(to)
	b, strideB, _, minB := pix(from)
	if a == nil || b == nil {
		return false
	}
	for y := range into.Dy() {
		i := (into.Min.Y-minA.Y+y)*strideA + (into.Min.X-minA.X)*each
		k := (at.Y-minB.Y+y)*strideB + (at.X-minB.X)*each
		copy(a[i:i+into.Dx()*each], b[k:])
	}
	return true
}

// pngRows reads a PNG row by row.
type pngRows struct {
	tile  Tile
	file  *os.File
	h     pngHeader
	z     io.ReadCloser
	row   []byte
	above []byte
	next  int      // of the picture: the row that is read next
	extra [][]byte // chunks that say how its numbers are meant, whole
}

// meaning are chunks that say how the numbers of a PNG are meant.
var meaning = []string{"gAMA", "cHRM", "sRGB", "iCCP", "sBIT", "pHYs"}

func openRows(t Tile) (*pngRows, error) {
	file, _, err := openTile(t)
	if err != nil {
		return nil, err
	}
	return rowsOf(file, t)
}

// rowsOf reads a tile from a file, which it closes in the end.
func rowsOf(file *os.File, t Tile) (*pngRows, error) {
	p := &pngRows{tile: t, file: file, next: t.Holds.Min.Y}
	if err := p.begin(); err != nil {
		p.close()
		return nil, tileFault(t, err)
	}
	return p, nil
}

func (p *pngRows) begin() error {
	h, c, err := readPNGHeader(bufio.NewReaderSize(p.file, 1<<15))
	if err != nil {
		return err
	}
	p.h = h
	switch {
	case h.interlaced:
		return errors.New("it is interlaced")
	case h.kind == 3 || h.depth < 8:
		return errors.New("it has a palette, or less than 8 bits")
	}
	if err := fits(p.tile, h.width, h.height); err != nil {
		return err
	}
	for c.kind != "IDAT" {
		if err := c.next(); err != nil {
			return err
		}
		if c.kind == "IDAT" {
			break
		}
		if c.kind == "IEND" {
			return errors.New("it has no pixels")
		}
		if slices.Contains(meaning, c.kind) && c.left < 1<<20 {
			body := make([]byte, 4+c.left)
			copy(body, c.kind)
			if _, err := io.ReadFull(c, body[4:]); err != nil {
				return cutOff(err)
			}
			p.extra = append(p.extra, body)
		}
		if err := c.end(); err != nil {
			return err
		}
	}
	n := h.rowBytes(h.width)
	p.row, p.above = make([]byte, 1+n), make([]byte, 1+n)
	p.z, err = zlib.NewReader(pixels{c})
	return err
}

// read reads the row of the picture that is wanted; rows before it are passed over.
func (p *pngRows) read(y int) error {
	for p.next <= y {
		p.row, p.above = p.above, p.row
		if _, err := io.ReadFull(p.z, p.row); err != nil {
			return tileFault(p.tile, cutOff(err))
		}
		if err := unfilter(p.row, p.above, p.h.samples()*p.h.depth/8); err != nil {
			return tileFault(p.tile, err)
		}
		p.next++
	}
	return nil
}

// drain reads what is left, so that a file which is cut off behind the last row that is
// used is found.
func (p *pngRows) drain() error {
	if _, err := io.Copy(io.Discard, p.z); err != nil {
		return tileFault(p.tile, cutOff(err))
	}
	return nil
}

func (p *pngRows) close() {
	if p.z != nil {
		p.z.Close()
	}
	p.file.Close()
}

// stitchPNG copies rows of tiles into rows of the picture. No more than a row of each tile
// that the row crosses is in memory.
func stitchPNG(w io.Writer, width, height int, tiles []Tile) error {
	tiles = slices.SortedFunc(slices.Values(tiles), func(a, b Tile) int {
		return cmp.Or(cmp.Compare(a.Use.Min.Y, b.Use.Min.Y), cmp.Compare(a.Use.Min.X, b.Use.Min.X))
	})
	var open []*pngRows
	defer func() {
		for _, p := range open {
			p.close()
		}
	}()
	var out *pngWriter
	var row []byte
	each := 0
	for y, next := 0, 0; y < height; y++ {
		for ; next < len(tiles) && tiles[next].Use.Min.Y <= y; next++ {
			p, err := openRows(tiles[next])
			if err != nil {
				return err
			}
			open = append(open, p)
			if out == nil {
				whole := p.h
				whole.width, whole.height = width, height
				each = whole.samples() * whole.depth / 8
				row = make([]byte, whole.rowBytes(width))
				if out, err = newPNGWriter(w, whole, p.extra); err != nil {
					return err
				}
			}
			if p.h.kind != out.h.kind || p.h.depth != out.h.depth {
				return tileFault(p.tile, errors.New("its pixels are of another kind than those of the tile before"))
			}
		}
		for i := 0; i < len(open); i++ {
			p := open[i]
			if y >= p.tile.Use.Max.Y {
				if err := p.drain(); err != nil {
					return err
				}
				p.close()
				open = slices.Delete(open, i, i+1)
				i--
				continue
			}
			if err := p.read(y); err != nil {
				return err
			}
			from := 1 + (p.tile.Use.Min.X-p.tile.Holds.Min.X)*each
			copy(row[p.tile.Use.Min.X*each:p.tile.Use.Max.X*each], p.row[from:])
		}
		if err := out.write(row); err != nil {
			return err
		}
	}
	for _, p := range open {
		if err := p.drain(); err != nil {
			return err
		}
	}
	return out.end()
}

// Crop writes a rectangle of a PNG as a PNG of its own, pixel by pixel as it is. It closes the
// file that it reads.
func Crop(w io.Writer, from *os.File, whole, rect image.Rectangle) error {
	p, err := rowsOf(from, Tile{Path: from.Name(), Holds: whole, Use: rect})
	if err != nil {
		return err
	}
	defer p.close()
	h := p.h
	h.width, h.height = rect.Dx(), rect.Dy()
	out, err := newPNGWriter(w, h, p.extra)
	if err != nil {
		return err
	}
	each := h.samples() * h.depth / 8
	for y := rect.Min.Y; y < rect.Max.Y; y++ {
		if err := p.read(y); err != nil {
			return err
		}
		at := 1 + (rect.Min.X-whole.Min.X)*each
		if err := out.write(p.row[at : at+rect.Dx()*each]); err != nil {
			return err
		}
	}
	return out.end()
}

// pngWriter writes a PNG row by row.
type pngWriter struct {
	h      pngHeader
	w      *bufio.Writer
	z      *zlib.Writer
	data   *idat
	above  []byte
	filter []byte
}

// idat writes what is compressed as chunks.
type idat struct {
	w   io.Writer
	buf bytes.Buffer
}

const chunkBytes = 1 << 16

func (d *idat) Write(p []byte) (int, error) {
	d.buf.Write(p)
	for d.buf.Len() >= chunkBytes {
		if err := writeChunk(d.w, append([]byte("IDAT"), d.buf.Next(chunkBytes)...)); err != nil {
			return 0, err
		}
	}
	return len(p), nil
}

func writeChunk(w io.Writer, body []byte) error {
	var head, sum [4]byte
	binary.BigEndian.PutUint32(head[:], uint32(len(body)-4))
	binary.BigEndian.PutUint32(sum[:], crc32.ChecksumIEEE(body))
	for _, part := range [][]byte{head[:], body, sum[:]} {
		if _, err := w.Write(part); err != nil {
			return err
		}
	}
	return nil
}

func newPNGWriter(w io.Writer, h pngHeader, extra [][]byte) (*pngWriter, error) {
	p := &pngWriter{h: h, w: bufio.NewWriterSize(w, 1<<16), above: make([]byte, h.rowBytes(h.width))}
	p.filter = make([]byte, 1+len(p.above))
	if _, err := p.w.WriteString(pngSignature); err != nil {
		return nil, err
	}
	header := binary.BigEndian.AppendUint32([]byte("IHDR"), uint32(h.width))
	header = binary.BigEndian.AppendUint32(header, uint32(h.height))
	header = append(header, byte(h.depth), byte(h.kind), 0, 0, 0)
	for _, body := range append([][]byte{header}, extra...) {
		if err := writeChunk(p.w, body); err != nil {
			return nil, err
		}
	}
	p.data = &idat{w: p.w}
	p.z = zlib.NewWriter(p.data)
	return p, nil
}

// write writes a row. Filters of the type Up suit most pictures, and cost little.
func (p *pngWriter) write(row []byte) error {
	p.filter[0] = 2
	for i, b := range row {
		p.filter[1+i] = b - p.above[i]
	}
	copy(p.above, row)
	_, err := p.z.Write(p.filter)
	return err
}

func (p *pngWriter) end() error {
	if err := p.z.Close(); err != nil {
		return err
	}
	if p.data.buf.Len() > 0 {
		if err := writeChunk(p.w, append([]byte("IDAT"), p.data.buf.Bytes()...)); err != nil {
			return err
		}
	}
	if err := writeChunk(p.w, []byte("IEND")); err != nil {
		return err
	}
	return p.w.Flush()
}
