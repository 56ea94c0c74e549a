package picture

import (
	"bufio"
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"image"
	"image/color"
	"io"
)

// Large PNG pictures are looked at row by row: every chunk's checksum, every row
// of pixels and the end of the data, as section 5 to 10 of the PNG specification
// (second edition) have them, but never more than two rows at a time. What is kept
// of the pixels is a small picture.

const pngSignature = "\x89PNG\r\n\x1a\n"

// Bounds of what is looked at row by row.
const (
	// sampleSide is how many pixels the small picture of a frame has along a side, at most;
	// shownSide the same for a picture that somebody looks at.
	sampleSide, shownSide = 960, 3840
	// mostRow bounds the bytes of a row of pixels.
	mostRow = 64 << 20
)

var errWide = errors.New("a row of it is more than can be looked at")

// pngHeader is what the header of a PNG says.
type pngHeader struct {
	width, height int
	depth, kind   int // bits a sample; colour type
	interlaced    bool
}

// samples returns how many samples a pixel has.
func (h pngHeader) samples() int { return map[int]int{0: 1, 2: 3, 3: 1, 4: 2, 6: 4}[h.kind] }

// rowBytes returns the bytes of a row of pixels, without its filter.
func (h pngHeader) rowBytes(width int) int { return (width*h.samples()*h.depth + 7) / 8 }

var pngDepths = map[int][]int{0: {1, 2, 4, 8, 16}, 2: {8, 16}, 3: {1, 2, 4, 8}, 4: {8, 16}, 6: {8, 16}}

func (h pngHeader) check() error {
	for _, d := range pngDepths[h.kind] {
		if d == h.depth && h.width > 0 && h.height > 0 {
			return nil
		}
	}
	return errors.New("its header is damaged")
}

// bounded reports whether two rows of pixels fit into memory.
func (h pngHeader) bounded() bool { return h.width <= 8*mostRow && h.rowBytes(h.width) <= mostRow }

// chunks reads the chunks of a PNG and checks them.
type chunks struct {
	r    io.Reader
	kind string
	left int // bytes of the chunk that were not read yet
	sum  uint32
}

// next reads the header of the next chunk; the one before must be read to its
// end.
func (c *chunks) next() error {
	var head [8]byte
	if _, err := io.ReadFull(c.r, head[:]); err != nil {
		return cutOff(err)
	}
	length := binary.BigEndian.Uint32(head[:])
	if length > 1<<31-1 {
		return errors.New("a chunk has an impossible length")
	}
	c.kind, c.left, c.sum = string(head[4:]), int(length), crc32.ChecksumIEEE(head[4:])
	return nil
}

func (c *chunks) Read(p []byte) (int, error) {
	if c.left == 0 {
		return 0, io.EOF
	}
	n, err := c.r.Read(p[:min(len(p), c.left)])
	c.left -= n
	c.sum = crc32.Update(c.sum, crc32.IEEETable, p[:n])
	if err != nil && (n == 0 || !errors.Is(err, io.EOF)) {
		return n, cutOff(err)
	}
	return n, nil
}

// end reads the chunk to its end and its checksum.
func (c *chunks) end() error {
	if _, err := io.Copy(io.Discard, c); err != nil {
		return err
	}
	var sum [4]byte
	if _, err := io.ReadFull(c.r, sum[:]); err != nil {
		return cutOff(err)
	}
	if binary.BigEndian.Uint32(sum[:]) != c.sum {
		return fmt.Errorf("the checksum of its chunk %s is wrong", c.kind)
	}
	return nil
}

// pixels reads the data of all IDAT chunks as one.
type pixels struct{ *chunks }

func (p pixels) Read(b []byte) (int, error) {
	for p.left == 0 {
		if err := p.end(); err != nil {
			return 0, err
		}
		if err := p.next(); err != nil {
			return 0, err
		}
		if p.kind != "IDAT" {
			return 0, io.EOF
		}
	}
	return p.chunks.Read(b)
}

func cutOff(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return errCutOff
	}
	return err
}

// readPNGHeader reads the signature and the header.
func readPNGHeader(r io.Reader) (h pngHeader, c *chunks, err error) {
	var signature [len(pngSignature)]byte
	if _, err := io.ReadFull(r, signature[:]); err != nil {
		return h, nil, cutOff(err)
	}
	if string(signature[:]) != pngSignature {
		return h, nil, errors.New("it is not a PNG")
	}
	c = &chunks{r: r}
	if err := c.next(); err != nil {
		return h, nil, err
	}
	if c.kind != "IHDR" || c.left != 13 {
		return h, nil, errors.New("it does not begin with its header")
	}
	var b [13]byte
	if _, err := io.ReadFull(c, b[:]); err != nil {
		return h, nil, cutOff(err)
	}
	if err := c.end(); err != nil {
		return h, nil, err
	}
	h = pngHeader{
		width: int(binary.BigEndian.Uint32(b[:])), height: int(binary.BigEndian.Uint32(b[4:])), depth: int(b[8]),
		kind: int(b[9]), interlaced: b[12] == 1,
	}
	return h, c, h.check()
}

// streamPNG looks at a whole PNG row by row and returns a small picture of it,
// of at most side pixels along a side.
func streamPNG(r io.Reader, side int) (small image.Image, blank bool, err error) {
	h, c, err := readPNGHeader(bufio.NewReaderSize(r, 1<<16))
	if err != nil {
		return nil, false, err
	}
	if !h.bounded() {
		return nil, false, errWide
	}
	var palette []byte
	for c.kind != "IDAT" {
		if err := c.next(); err != nil {
			return nil, false, err
		}
		switch c.kind {
		case "IDAT":
			continue
		case "IEND":
			return nil, false, errors.New("it has no pixels")
		case "PLTE":
			if c.left > 3*256 {
				return nil, false, errors.New("its palette is too large")
			}
			palette = make([]byte, c.left)
			if _, err := io.ReadFull(c, palette); err != nil {
				return nil, false, cutOff(err)
			}
		}
		if err := c.end(); err != nil {
			return nil, false, err
		}
	}
	s := newSampler(h, palette, side)
	if err := s.read(pixels{c}); err != nil {
		return nil, false, err
	}
	for c.kind != "IEND" {
		if err := c.end(); err != nil {
			return nil, false, err
		}
		if err := c.next(); err != nil {
			return nil, false, err
		}
	}
	return s.small, !s.varied, c.end()
}

// sampler takes every nth pixel of a picture.
type sampler struct {
	h       pngHeader
	palette []byte
	step    int
	small   *image.RGBA
	first   []byte // the first pixel of all
	varied  bool
}

func newSampler(h pngHeader, palette []byte, side int) *sampler {
	step := max(1, (max(h.width, h.height)+side-1)/side)
	return &sampler{
		h: h, palette: palette, step: step,
		small: image.NewRGBA(image.Rect(0, 0, (h.width+step-1)/step, (h.height+step-1)/step)),
	}
}

// passes are the seven passes of an interlaced picture: first pixel and distance.
var passes = [7][4]int{{0, 0, 8, 8}, {4, 0, 8, 8}, {0, 4, 4, 8}, {2, 0, 4, 4}, {0, 2, 2, 4}, {1, 0, 2, 2}, {0, 1, 1, 2}}

func (s *sampler) read(from pixels) error {
	z, err := zlib.NewReader(bufio.NewReaderSize(from, 1<<16))
	if err != nil {
		return cutOff(err)
	}
	defer z.Close()
	if !s.h.interlaced {
		if err := s.pass(z, 0, 0, 1, 1); err != nil {
			return err
		}
	} else {
		for _, p := range passes {
			if err := s.pass(z, p[0], p[1], p[2], p[3]); err != nil {
				return err
			}
		}
	}
	var more [1]byte
	switch n, err := z.Read(more[:]); {
	case n > 0:
		return errors.New("it has more pixels than its header says")
	case !errors.Is(err, io.EOF):
		return cutOff(err)
	}
	return nil
}

// pass reads the rows of one pass.
func (s *sampler) pass(z io.Reader, x0, y0, dx, dy int) error {
	width, height := (s.h.width-x0+dx-1)/dx, (s.h.height-y0+dy-1)/dy
	if width <= 0 || height <= 0 {
		return nil
	}
	size := s.h.rowBytes(width)
	row, above := make([]byte, 1+size), make([]byte, 1+size)
	back := max(1, s.h.samples()*s.h.depth/8) // bytes to the pixel before
	for j := range height {
		if _, err := io.ReadFull(z, row); err != nil {
			return cutOff(err)
		}
		if err := unfilter(row, above, back); err != nil {
			return err
		}
		s.take(row[1:], y0+j*dy, x0, dx, width)
		row, above = above, row
	}
	return nil
}

// take looks at a row of a picture: pixels of row y, the first in column x0 and the others dx apart.
func (s *sampler) take(row []byte, y, x0, dx, width int) {
	if !s.varied {
		s.compare(row, width)
	}
	if y%s.step != 0 {
		return
	}
	for i := range width {
		if x := x0 + i*dx; x%s.step == 0 {
			s.small.SetRGBA(x/s.step, y/s.step, s.colour(row, i))
		}
	}
}

// compare notes whether a row has other pixels than the first.
func (s *sampler) compare(row []byte, width int) {
	bits := s.h.samples() * s.h.depth
	if bits < 8 {
		if s.first != nil { // whole bytes of the same pixels first
			same := byte(0)
			for at := 0; at < 8; at += bits {
				same = same<<bits | s.first[0]
			}
			whole := width * bits / 8
			if bytes.Count(row[:whole], []byte{same}) != whole {
				s.varied = true
				return
			}
			row, width = row[whole:], width-whole*8/bits
		}
		for i := range width {
			if v := byte(bitsAt(row, i, bits)); s.first == nil {
				s.first = []byte{v}
			} else if v != s.first[0] {
				s.varied = true
				return
			}
		}
		return
	}
	n := bits / 8
	if s.first == nil {
		s.first = append([]byte(nil), row[:n]...)
	}
	for i := 0; i+n <= width*n; i += n {
		if string(row[i:i+n]) != string(s.first) {
			s.varied = true
			return
		}
	}
}

func bitsAt(row []byte, i, bits int) int {
	at := i * bits
	return int(row[at/8]>>(8-bits-at%8)) & (1<<bits - 1)
}

// colour returns pixel i of a row; of 16 bits the upper eight.
func (s *sampler) colour(row []byte, i int) color.RGBA {
	sample := func(k int) uint8 {
		switch at := i*s.h.samples() + k; s.h.depth {
		case 8:
			return row[at]
		case 16:
			return row[2*at]
		default:
			v := bitsAt(row, at, s.h.depth)
			if s.h.kind == 3 {
				return uint8(v)
			}
			return uint8(v * 255 / (1<<s.h.depth - 1))
		}
	}
	switch s.h.kind {
	case 0, 4:
		return color.RGBA{sample(0), sample(0), sample(0), 255}
	case 3:
		if at := 3 * int(sample(0)); at+2 < len(s.palette) {
			return color.RGBA{s.palette[at], s.palette[at+1], s.palette[at+2], 255}
		}
		return color.RGBA{A: 255}
	}
	return color.RGBA{sample(0), sample(1), sample(2), 255}
}

// unfilter turns a filtered row into pixels, in place (PNG specification, section
// 9). Its first byte names the filter.
func unfilter(row, above []byte, back int) error {
	filter, row, above := row[0], row[1:], above[1:]
	switch filter {
	case 0:
	case 1:
		for i := back; i < len(row); i++ {
			row[i] += row[i-back]
		}
	case 2:
		for i := range row {
			row[i] += above[i]
		}
	case 3:
		for i := range row {
			left := 0
			if i >= back {
				left = int(row[i-back])
			}
			row[i] += byte((left + int(above[i])) / 2)
		}
	case 4:
		for i := range row {
			left, corner := 0, 0
			if i >= back {
				left, corner = int(row[i-back]), int(above[i-back])
			}
			row[i] += paeth(left, int(above[i]), corner)
		}
	default:
		return fmt.Errorf("a row has the filter %d, which does not exist", filter)
	}
	return nil
}

func paeth(a, b, c int) byte {
	p := a + b - c
	pa, pb, pc := abs(p-a), abs(p-b), abs(p-c)
	switch {
	case pa <= pb && pa <= pc:
		return byte(a)
	case pb <= pc:
		return byte(b)
	}
	return byte(c)
}

func abs(n int) int { return max(n, -n) }
