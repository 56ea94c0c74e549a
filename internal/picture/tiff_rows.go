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

	"golang.org/x/image/tiff/lzw"
)

// Large TIFF pictures are looked at row by row, as TIFF 6.0 has them (sections 3 to 9, 13 to 15),
// and never more of one than a row, or a row of tiles.

// errNotByRows says that a TIFF is of a kind that only the decoder reads.
var errNotByRows = errors.New("it is not read by rows")

// Fields of a directory.
const (
	fieldWidth, fieldHeight, fieldBits          = 256, 257, 258
	fieldCompression, fieldMeaning, fieldFill   = 259, 262, 266
	fieldStrips, fieldSamples, fieldStripRows   = 273, 277, 278
	fieldStripBytes, fieldPlanes, fieldPredict  = 279, 284, 317
	fieldPalette, fieldTileWidth, fieldTileRows = 320, 322, 323
	fieldTiles, fieldTileBytes                  = 324, 325
	fieldSampleKind                             = 339
)

// fieldsUsed are those that are read: others can be many and large.
var fieldsUsed = []int{
	fieldWidth, fieldHeight, fieldBits, fieldCompression, fieldMeaning, fieldFill, fieldStrips, fieldSamples,
	fieldStripRows, fieldStripBytes, fieldPlanes, fieldPredict, fieldPalette, fieldTileWidth, fieldTileRows,
	fieldTiles, fieldTileBytes, fieldSampleKind,
}

// Compressions.
const (
	plain, packed, deflated, deflatedOld, dictionary = 1, 32773, 8, 32946, 5
)

// mostParts bounds the strips or tiles of a picture.
const mostParts = 1 << 20

// tiffRows reads a TIFF row by row.
type tiffRows struct {
	s               source
	order           binary.ByteOrder
	h               pngHeader // the same in the terms of a PNG
	white           bool      // 0 is white
	compression     int
	differences     bool    // samples are differences to those before
	across, down    int     // pixels of a strip or tile
	starts, lengths []int64 // of the strips or tiles in the file
	palette         []byte
}

// streamTIFF looks at a whole TIFF row by row and returns a small picture of it. The error is
// errNotByRows for what it does not know.
func streamTIFF(s source) (small image.Image, blank bool, err error) {
	if err := tiffWhole(s, s.size); err != nil {
		return nil, false, err
	}
	t, err := tiffLayout(s)
	if err != nil {
		return nil, false, err
	}
	sample := newSampler(t.h, t.palette, s.side)
	if err := t.rows(func(y int, row []byte) { sample.take(row, y, 0, 1, t.h.width) }); err != nil {
		return nil, false, err
	}
	return sample.small, !sample.varied, nil
}

// tiffLayout reads the first directory.
func tiffLayout(s source) (*tiffRows, error) {
	fields, order, err := tiffFields(s)
	if err != nil {
		return nil, err
	}
	one := func(field, otherwise int) int {
		if v := fields[field]; len(v) > 0 {
			return int(v[0])
		}
		return otherwise
	}
	t := &tiffRows{
		s: s, order: order, compression: one(fieldCompression, plain), differences: one(fieldPredict, 1) == 2,
		h: pngHeader{width: one(fieldWidth, 0), height: one(fieldHeight, 0), depth: one(fieldBits, 1)},
	}
	samples := one(fieldSamples, 1)
	known := len(fields[fieldBits]) <= samples && one(fieldPlanes, 1) == 1 && one(fieldFill, 1) == 1 &&
		one(fieldPredict, 1) <= 2 && (!t.differences || t.h.depth >= 8)
	for _, depth := range fields[fieldBits] {
		known = known && int(depth) == t.h.depth
	}
	for _, kind := range fields[fieldSampleKind] {
		known = known && kind == 1
	}
	switch t.compression {
	case plain, packed, deflated, deflatedOld, dictionary:
	default:
		known = false
	}
	switch meaning := one(fieldMeaning, -1); {
	case meaning <= 1 && meaning >= 0 && samples == 1:
		t.white = meaning == 0
	case meaning == 2 && samples == 3:
		t.h.kind = 2
	case meaning == 2 && samples == 4:
		t.h.kind = 6
	case meaning == 3 && samples == 1 && len(fields[fieldPalette]) == 3<<t.h.depth:
		t.h.kind, t.palette = 3, paletteOf(fields[fieldPalette])
	default:
		known = false
	}
	if !known || t.h.check() != nil {
		return nil, errNotByRows
	}
	return t, t.parts(fields, one)
}

// paletteOf turns a colour map, all reds first and of 16 bits, into triples of eight bits.
func paletteOf(colours []int64) []byte {
	n := len(colours) / 3
	out := make([]byte, 0, 3*n)
	for i := range n {
		out = append(out, byte(colours[i]>>8), byte(colours[n+i]>>8), byte(colours[2*n+i]>>8))
	}
	return out
}

// parts reads where the strips or tiles are.
func (t *tiffRows) parts(fields map[int][]int64, one func(int, int) int) error {
	t.starts, t.lengths = fields[fieldStrips], fields[fieldStripBytes]
	t.across, t.down = t.h.width, min(one(fieldStripRows, t.h.height), t.h.height)
	if len(fields[fieldTiles]) > 0 {
		t.starts, t.lengths = fields[fieldTiles], fields[fieldTileBytes]
		t.across, t.down = one(fieldTileWidth, 0), one(fieldTileRows, 0)
	}
	if t.across < 1 || t.down < 1 || t.across > t.h.width+1<<16 || t.down > t.h.height+1<<16 {
		return errors.New("its strips have an impossible size")
	}
	if !t.h.bounded() || t.h.rowBytes(t.across) > mostRow ||
		t.perRow() > 1 && t.h.rowBytes(t.perRow()*t.across) > mostRow/t.down {
		return errWide
	}
	if n := t.perRow() * ((t.h.height + t.down - 1) / t.down); len(t.starts) < n || len(t.lengths) < n {
		return errCutOff
	}
	for i, start := range t.starts {
		if i < len(t.lengths) && (start > t.s.size || t.lengths[i] > t.s.size-start) {
			return errCutOff
		}
	}
	return nil
}

// perRow returns how many strips or tiles stand side by side.
func (t *tiffRows) perRow() int { return (t.h.width + t.across - 1) / t.across }

// rows calls do with each row of pixels, the samples in the order of a PNG.
func (t *tiffRows) rows(do func(y int, row []byte)) error {
	row, perRow := make([]byte, t.h.rowBytes(t.across)), t.perRow()
	var band []byte
	wide := perRow * len(row)
	if perRow > 1 {
		band = make([]byte, wide*t.down)
	}
	for part := 0; part*t.down < t.h.height; part++ {
		top := part * t.down
		count := min(t.down, t.h.height-top)
		for column := range perRow {
			i := part*perRow + column
			err := t.part(t.starts[i], t.lengths[i], row, count, func(j int) {
				if perRow == 1 {
					do(top+j, row)
					return
				}
				copy(band[j*wide+column*len(row):], row)
			})
			if err != nil {
				return err
			}
		}
		for j := 0; perRow > 1 && j < count; j++ {
			do(top+j, band[j*wide:(j+1)*wide])
		}
	}
	return nil
}

// part reads the first rows of a strip or tile, and looks that the rest is as it should be.
func (t *tiffRows) part(start, length int64, row []byte, count int, do func(j int)) error {
	var r io.Reader = bufio.NewReaderSize(io.NewSectionReader(t.s, start, length), 1<<16)
	switch t.compression {
	case packed:
		r = &unpacker{r: r.(*bufio.Reader)}
	case dictionary:
		z := lzw.NewReader(r, lzw.MSB, 8)
		defer z.Close()
		r = z
	case deflated, deflatedOld:
		z, err := zlib.NewReader(r)
		if err != nil {
			return cutOff(err)
		}
		defer z.Close()
		r = z
	}
	for j := range count {
		if _, err := io.ReadFull(r, row); err != nil {
			return cutOff(err)
		}
		t.normal(row)
		do(j)
	}
	// The rows of a tile below the picture, and the checksum.
	if n, err := io.CopyN(io.Discard, r, int64(t.down)*int64(len(row))+1<<16); err == nil {
		return fmt.Errorf("a strip of it has %d bytes too many", n)
	} else if !errors.Is(err, io.EOF) {
		return cutOff(err)
	}
	return nil
}

// normal undoes differences, the order of bytes, and that 0 is white.
func (t *tiffRows) normal(row []byte) {
	n := t.h.samples()
	switch {
	case t.h.depth == 16:
		for i := 0; i+1 < len(row); i += 2 {
			v := t.order.Uint16(row[i:])
			if t.differences && i >= 2*n {
				v += binary.BigEndian.Uint16(row[i-2*n:])
			}
			binary.BigEndian.PutUint16(row[i:], v)
		}
	case t.differences:
		for i := n; i < len(row); i++ {
			row[i] += row[i-n]
		}
	}
	for i := 0; t.white && i < len(row); i++ {
		row[i] = ^row[i]
	}
}

// tiffFields returns the numbers of the first directory's fields.
func tiffFields(s source) (map[int][]int64, binary.ByteOrder, error) {
	read := func(at int64, n int) ([]byte, error) {
		out := make([]byte, n)
		if _, err := s.ReadAt(out, at); err != nil {
			return nil, cutOff(err)
		}
		return out, nil
	}
	head, err := read(0, 8)
	if err != nil {
		return nil, nil, err
	}
	var order binary.ByteOrder = binary.LittleEndian
	if bytes.HasPrefix(head, []byte("MM")) {
		order = binary.BigEndian
	}
	at := int64(order.Uint32(head[4:]))
	number, err := read(at, 2)
	if err != nil {
		return nil, nil, err
	}
	entries, err := read(at+2, 12*int(order.Uint16(number)))
	if err != nil {
		return nil, nil, err
	}
	fields := map[int][]int64{}
	for ; len(entries) > 0; entries = entries[12:] {
		field, kind, count := int(order.Uint16(entries)), order.Uint16(entries[2:]), int(order.Uint32(entries[4:]))
		each := map[uint16]int{1: 1, 3: 2, 4: 4}[kind]
		if !slices.Contains(fieldsUsed, field) || fields[field] != nil || each == 0 || count == 0 {
			continue
		}
		if count > mostParts {
			return nil, nil, errors.New("it has more strips than can be looked at")
		}
		data := entries[8:12]
		if count*each > 4 {
			if data, err = read(int64(order.Uint32(data)), count*each); err != nil {
				return nil, nil, err
			}
		}
		values := make([]int64, count)
		for i := range values {
			switch each {
			case 1:
				values[i] = int64(data[i])
			case 2:
				values[i] = int64(order.Uint16(data[2*i:]))
			default:
				values[i] = int64(order.Uint32(data[4*i:]))
			}
		}
		fields[field] = values
	}
	return fields, order, nil
}

// unpacker reads PackBits (TIFF 6.0, section 9).
type unpacker struct {
	r     *bufio.Reader
	left  int  // bytes of what is being unpacked
	again bool // they are all the same
	value byte
}

func (u *unpacker) Read(p []byte) (n int, err error) {
	for n < len(p) {
		if u.left == 0 {
			code, err := u.r.ReadByte()
			if err != nil {
				return n, err
			}
			switch c := int(int8(code)); {
			case c >= 0:
				u.left, u.again = c+1, false
			case c > -128:
				u.left, u.again = 1-c, true
				if u.value, err = u.r.ReadByte(); err != nil {
					return n, io.ErrUnexpectedEOF
				}
			}
			continue
		}
		if p[n] = u.value; !u.again {
			if p[n], err = u.r.ReadByte(); err != nil {
				return n, io.ErrUnexpectedEOF
			}
		}
		n, u.left = n+1, u.left-1
	}
	return n, nil
}
