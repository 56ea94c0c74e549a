package picture

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"io"
	"runtime"
	"slices"
	"strings"
)

// OpenEXR, as its file layout document has it: headers, a table of offsets, and
// chunks of scan lines or tiles. Chunks without compression, with RLE, ZIPS and ZIP
// are decoded whole; of other compressions each chunk must be there, whole by its
// length.

// Compressions that are decoded.
const (
	exrNone = 0
	exrRLE  = 1
	exrZIPS = 2
	exrZIP  = 3
)

// exrLines is how many scan lines a chunk has, by compression.
var exrLines = map[byte]int{
	exrNone: 1, exrRLE: 1, exrZIPS: 1, exrZIP: 16, 4: 32, 5: 16, 6: 32, 7: 32, 8: 32, 9: 256,
}

// Bounds of what a file may claim.
const (
	exrMostHeader = 4 << 20
	exrMostParts  = 256
	exrMostSide   = 1 << 20
	exrMostChunk  = 64 << 20 // bytes of one chunk, unpacked
	exrMostChunks = 1 << 20
	exrMostSmall  = 2048 // pixels of the longer side of what is kept to be seen
)

// exrChannel is one channel of a part.
type exrChannel struct {
	name   string
	kind   int // 0 whole numbers, 1 halves, 2 floats
	dx, dy int // sampling
}

func (c exrChannel) bytes() int {
	if c.kind == 1 {
		return 2
	}
	return 4
}

// exrPart is one picture of a file.
type exrPart struct {
	name, kind    string
	channels      []exrChannel
	attributes    []exrAttribute
	compression   byte
	data, display image.Rectangle
	tileX, tileY  int
	levels        int // 0 one, 1 mip map, 2 rip map
	roundUp       bool
	tiled, deep   bool
	chunks        int
	offsets       []uint64
}

// exrReader reads a file from its begin on.
type exrReader struct {
	s    source
	at   int64
	many bool // several parts
}

func (r *exrReader) read(n int) ([]byte, error) {
	if n < 0 || int64(n) > r.s.size-r.at {
		return nil, errors.New("it is cut off")
	}
	buf := make([]byte, n)
	if _, err := r.s.ReadAt(buf, r.at); err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	r.at += int64(n)
	return buf, nil
}

func (r *exrReader) text() (string, error) {
	var out []byte
	for len(out) < 256 {
		b, err := r.read(1)
		if err != nil {
			return "", err
		}
		if b[0] == 0 {
			return string(out), nil
		}
		out = append(out, b[0])
	}
	return "", errors.New("a name in its header does not end")
}

// exrHeaders reads the headers of all parts.
func exrHeaders(s source) (*exrReader, []*exrPart, error) {
	r := &exrReader{s: s}
	begin, err := r.read(8)
	if err != nil {
		return nil, nil, err
	}
	if !bytes.Equal(begin[:4], []byte{0x76, 0x2f, 0x31, 0x01}) || begin[4] != 2 {
		return nil, nil, errors.New("it does not begin like one")
	}
	flags := binary.LittleEndian.Uint32(begin[4:])
	r.many = flags&0x1000 != 0
	var parts []*exrPart
	for {
		p, err := r.header(flags&0x200 != 0)
		if err != nil {
			return nil, nil, err
		}
		if p == nil { // an empty header ends those of several parts
			break
		}
		if parts = append(parts, p); !r.many || len(parts) > exrMostParts {
			break
		}
	}
	if len(parts) == 0 || len(parts) > exrMostParts {
		return nil, nil, fmt.Errorf("it has %d parts", len(parts))
	}
	return r, parts, nil
}

// header reads the header of one part, or returns nil for an empty one.
func (r *exrReader) header(tiled bool) (*exrPart, error) {
	p := &exrPart{tiled: tiled, compression: 0xff}
	for count := 0; ; count++ {
		name, err := r.text()
		if err != nil {
			return nil, err
		}
		if name == "" {
			if count == 0 && r.many {
				return nil, nil
			}
			return p, p.check()
		}
		kind, err := r.text()
		if err != nil {
			return nil, err
		}
		length, err := r.read(4)
		if err != nil {
			return nil, err
		}
		n := int(int32(binary.LittleEndian.Uint32(length)))
		if n < 0 || r.at+int64(n) > exrMostHeader {
			return nil, errors.New("its header is longer than any")
		}
		value, err := r.read(n)
		if err != nil {
			return nil, err
		}
		if err := p.take(name, kind, value); err != nil {
			return nil, err
		}
	}
}

// exrAttribute is an entry of a header as it stands there.
type exrAttribute struct {
	name, kind string
	value      []byte
}

// take reads one attribute.
func (p *exrPart) take(name, kind string, value []byte) error {
	p.attributes = append(p.attributes, exrAttribute{name, kind, value})
	switch {
	case name == "channels" && kind == "chlist":
		return p.takeChannels(value)
	case name == "compression" && len(value) == 1:
		p.compression = value[0]
	case name == "dataWindow" && len(value) == 16:
		p.data = exrBox(value)
	case name == "displayWindow" && len(value) == 16:
		p.display = exrBox(value)
	case name == "tiles" && len(value) == 9:
		p.tileX, p.tileY = int(binary.LittleEndian.Uint32(value)), int(binary.LittleEndian.Uint32(value[4:]))
		p.levels, p.roundUp = int(value[8]&0xf), value[8]>>4 == 1
	case name == "type" && kind == "string":
		p.kind = string(value)
		p.tiled, p.deep = strings.HasSuffix(p.kind, "tile") || p.kind == "tiledimage", strings.HasPrefix(p.kind, "deep")
	case name == "name" && kind == "string":
		p.name = string(value)
	case name == "chunkCount" && len(value) == 4:
		p.chunks = int(int32(binary.LittleEndian.Uint32(value)))
	}
	return nil
}

func exrBox(v []byte) image.Rectangle {
	n := func(i int) int { return int(int32(binary.LittleEndian.Uint32(v[4*i:]))) }
	return image.Rectangle{Min: image.Pt(n(0), n(1)), Max: image.Pt(n(2)+1, n(3)+1)}
}

func (p *exrPart) takeChannels(v []byte) error {
	for len(v) > 1 {
		end := bytes.IndexByte(v, 0)
		if end < 1 || len(v) < end+17 {
			return errors.New("its list of channels is cut off")
		}
		c := exrChannel{name: string(v[:end])}
		rest := v[end+1:]
		c.kind = int(binary.LittleEndian.Uint32(rest))
		c.dx, c.dy = int(int32(binary.LittleEndian.Uint32(rest[8:]))), int(int32(binary.LittleEndian.Uint32(rest[12:])))
		if c.kind > 2 || c.dx < 1 || c.dy < 1 {
			return fmt.Errorf("the channel %s is of no known kind", c.name)
		}
		p.channels, v = append(p.channels, c), rest[16:]
	}
	return nil
}

// check returns an error for a header with which nothing can be read.
func (p *exrPart) check() error {
	w, h := p.data.Dx(), p.data.Dy()
	_, known := exrLines[p.compression]
	switch {
	case w < 1 || h < 1 || w > exrMostSide || h > exrMostSide:
		return fmt.Errorf("its data window is %d×%d", w, h)
	case p.display.Empty():
		return errors.New("it has no display window")
	case !known:
		return errors.New("its compression is not known")
	case len(p.channels) == 0:
		return errors.New("it has no channels")
	case p.tiled && (p.tileX < 1 || p.tileY < 1 || p.tileX > exrMostSide || p.tileY > exrMostSide || p.levels > 2):
		return errors.New("its tiles have no size")
	}
	count := p.count()
	if count < 1 || count > exrMostChunks {
		return fmt.Errorf("it would have %d chunks", count)
	}
	p.chunks = count
	return nil
}

// count returns how many chunks a part has.
func (p *exrPart) count() int {
	if !p.tiled {
		lines := exrLines[p.compression]
		return (p.data.Dy() + lines - 1) / lines
	}
	n := 0
	for _, l := range p.sizes() {
		n += ((l.X + p.tileX - 1) / p.tileX) * ((l.Y + p.tileY - 1) / p.tileY)
	}
	return n
}

// sizes returns the sizes of the levels of a tiled part.
func (p *exrPart) sizes() (out []image.Point) {
	w, h := p.data.Dx(), p.data.Dy()
	down := func(size, level int) int {
		if p.roundUp {
			return max(1, (size+1<<level-1)>>level)
		}
		return max(1, size>>level)
	}
	levels := func(size int) int {
		n := 1
		for s := 1; s < size; s *= 2 {
			n++
		}
		if !p.roundUp && 1<<(n-1) > size {
			n--
		}
		return n
	}
	switch p.levels {
	case 1:
		for l := range levels(max(w, h)) {
			out = append(out, image.Pt(down(w, l), down(h, l)))
		}
	case 2:
		for y := range levels(h) {
			for x := range levels(w) {
				out = append(out, image.Pt(down(w, x), down(h, y)))
			}
		}
	default:
		out = []image.Point{{X: w, Y: h}}
	}
	return out
}

// exrSize returns the size of the picture that is shown.
func exrSize(s source) (width, height int, err error) {
	_, parts, err := exrHeaders(s)
	if err != nil {
		return 0, 0, err
	}
	return parts[0].display.Dx(), parts[0].display.Dy(), nil
}

// verifyEXR reads every chunk of a file, and returns a small picture of its first
// part.
func verifyEXR(s source) (*Verified, error) {
	r, parts, err := exrHeaders(s)
	if err != nil {
		return nil, err
	}
	for _, p := range parts {
		table, err := r.read(8 * p.chunks)
		if err != nil {
			return nil, fmt.Errorf("its table of offsets: %w", err)
		}
		for i := range p.chunks {
			p.offsets = append(p.offsets, binary.LittleEndian.Uint64(table[8*i:]))
		}
	}
	view := newEXRView(parts[0])
	for i, p := range parts {
		var show exrPut
		if i == 0 {
			show = view.put
		}
		if err := r.chunks(p, i, show); err != nil {
			return nil, err
		}
	}
	return &Verified{Image: view.img, Blank: view.decoded && view.same, Layers: exrLayers(parts)}, nil
}

// exrAtOnce is how many chunks are unpacked side by side.
const exrAtOnce = 4

// exrUnpacked is a chunk that was unpacked.
type exrUnpacked struct {
	place [4]int
	area  image.Rectangle
	data  []byte // nil: it is not one to be seen
	err   error
}

// chunks reads all chunks of a part, some side by side, and shows them in order.
func (r *exrReader) chunks(p *exrPart, part int, show exrPut) error {
	ahead := make(chan chan exrUnpacked, min(exrAtOnce, runtime.GOMAXPROCS(0)))
	stop := make(chan struct{})
	defer close(stop)
	go func() {
		defer close(ahead)
		for _, at := range p.offsets {
			one := make(chan exrUnpacked, 1)
			select {
			case ahead <- one:
			case <-stop:
				return
			}
			go func() { one <- r.chunk(p, part, at) }()
		}
	}()
	seen := map[[4]int]bool{}
	for one := range ahead {
		got := <-one
		if got.err != nil {
			return got.err
		}
		if seen[got.place] {
			return errors.New("two of its chunks are for the same place")
		}
		seen[got.place] = true
		if show != nil && got.data != nil {
			show(p, got.area, got.data)
		}
	}
	return nil
}

// exrLayers names the layers of all parts: of a channel named sky.R the layer is sky,
// in the part that it is of.
func exrLayers(parts []*exrPart) (out []Layer) {
	for _, p := range parts {
		for _, c := range p.channels {
			layer, channel := "", c.name
			if dot := strings.LastIndexByte(c.name, '.'); dot >= 0 {
				layer, channel = c.name[:dot], c.name[dot+1:]
			}
			i := slices.IndexFunc(out, func(l Layer) bool { return l.Part == p.name && l.Name == layer })
			if i < 0 {
				i, out = len(out), append(out, Layer{Part: p.name, Name: layer})
			}
			out[i].Channels = append(out[i].Channels, channel)
		}
	}
	return out
}

// exrPut takes the pixels of an area: line by line, of each channel the samples that it has
// there.
type exrPut func(p *exrPart, area image.Rectangle, data []byte)

// chunk reads one chunk.
func (r *exrReader) chunk(p *exrPart, part int, offset uint64) (out exrUnpacked) {
	out.place, out.err = r.readChunk(p, part, offset, func(_ *exrPart, area image.Rectangle, data []byte) {
		out.area, out.data = area, data
	})
	return out
}

// readChunk reads one chunk. It returns which one it is, and shows one of the largest level.
func (r *exrReader) readChunk(p *exrPart, part int, offset uint64, show exrPut) (place [4]int, err error) {
	if offset < uint64(r.at) && offset < 8 || offset > uint64(r.s.size) {
		return place, fmt.Errorf("a chunk would begin at byte %d of %d", offset, r.s.size)
	}
	c := &exrReader{s: r.s, at: int64(offset)}
	number := func() int {
		var b []byte
		if err == nil {
			b, err = c.read(4)
		}
		if err != nil {
			return 0
		}
		return int(int32(binary.LittleEndian.Uint32(b)))
	}
	if r.many {
		if got := number(); err == nil && got != part {
			return place, fmt.Errorf("a chunk of part %d says that it is of part %d", part, got)
		}
	}
	if p.tiled {
		place = [4]int{number(), number(), number(), number()}
	} else {
		place[1] = number()
	}
	area := p.area(place)
	if err == nil && area.Empty() {
		return place, fmt.Errorf("a chunk is for a place %v outside the picture", place)
	}
	if p.deep { // sizes of the table of samples and of the samples, packed, and unpacked
		sizes, err := c.read(24)
		if err != nil {
			return place, err
		}
		packed := binary.LittleEndian.Uint64(sizes) + binary.LittleEndian.Uint64(sizes[8:])
		if packed > uint64(r.s.size-c.at) {
			return place, errors.New("a chunk is cut off")
		}
		return place, nil
	}
	length := number()
	if err != nil {
		return place, fmt.Errorf("a chunk: %w", err)
	}
	packed, err := c.read(length)
	if err != nil {
		return place, fmt.Errorf("the chunk of place %v: %w", place, err)
	}
	if p.compression > exrZIP {
		if length == 0 {
			return place, fmt.Errorf("the chunk of place %v is empty", place)
		}
		return place, nil
	}
	want := p.unpacked(area)
	if want > exrMostChunk {
		return place, fmt.Errorf("a chunk would have %d bytes", want)
	}
	data, err := exrUnpack(packed, p.compression, want)
	if err != nil {
		return place, fmt.Errorf("the chunk of place %v: %w", place, err)
	}
	if show != nil && place[2] == 0 && place[3] == 0 {
		show(p, area, data)
	}
	return place, nil
}

// area returns which pixels a chunk is for; it is empty for one that cannot be.
func (p *exrPart) area(place [4]int) image.Rectangle {
	if !p.tiled {
		lines := exrLines[p.compression]
		y := place[1]
		if y < p.data.Min.Y || (y-p.data.Min.Y)%lines != 0 {
			return image.Rectangle{}
		}
		return image.Rect(p.data.Min.X, y, p.data.Max.X, y+lines).Intersect(p.data)
	}
	level, sizes := place[2], p.sizes()
	switch {
	case p.levels == 1 && place[2] != place[3]:
		return image.Rectangle{}
	case p.levels == 2:
		across := 1
		for across < len(sizes) && sizes[across].Y == sizes[0].Y {
			across++
		}
		if level = place[3]*across + place[2]; place[2] >= across {
			return image.Rectangle{}
		}
	}
	if level < 0 || level >= len(sizes) || place[0] < 0 || place[1] < 0 ||
		place[0] > exrMostSide || place[1] > exrMostSide {
		return image.Rectangle{}
	}
	whole := image.Rectangle{Min: p.data.Min, Max: p.data.Min.Add(sizes[level])}
	at := p.data.Min.Add(image.Pt(place[0]*p.tileX, place[1]*p.tileY))
	return image.Rectangle{Min: at, Max: at.Add(image.Pt(p.tileX, p.tileY))}.Intersect(whole)
}

// samples returns how many samples a channel has between two coordinates.
func samples(from, to, step int) int { return floorDiv(to-1, step) - floorDiv(from-1, step) }

func floorDiv(a, b int) int {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}

// unpacked returns how many bytes the pixels of an area take.
func (p *exrPart) unpacked(area image.Rectangle) (n int) {
	for _, c := range p.channels {
		n += samples(area.Min.X, area.Max.X, c.dx) * samples(area.Min.Y, area.Max.Y, c.dy) * c.bytes()
	}
	return n
}

// exrUnpack undoes a compression. A chunk that would not have become smaller is
// kept as it is.
func exrUnpack(packed []byte, compression byte, want int) ([]byte, error) {
	if compression == exrNone || len(packed) == want {
		if len(packed) != want {
			return nil, fmt.Errorf("it has %d bytes, and %d are wanted", len(packed), want)
		}
		return packed, nil
	}
	var data []byte
	var err error
	if compression == exrRLE {
		data, err = exrRuns(packed, want)
	} else {
		var z io.ReadCloser
		if z, err = zlib.NewReader(bytes.NewReader(packed)); err == nil {
			data, err = io.ReadAll(io.LimitReader(z, int64(want)+1))
		}
	}
	if err != nil {
		return nil, err
	}
	if len(data) != want {
		return nil, fmt.Errorf("it unpacks to %d bytes, and %d are wanted", len(data), want)
	}
	for i := 1; i < len(data); i++ { // each byte was kept as its difference to the one before
		data[i] += data[i-1] - 128
	}
	out := make([]byte, want) // and those of even places came first
	half := (want + 1) / 2
	for i := range out {
		out[i] = data[i%2*half+i/2]
	}
	return out, nil
}

func exrRuns(packed []byte, want int) ([]byte, error) {
	out := make([]byte, 0, want)
	for len(packed) > 0 && len(out) <= want {
		n := int(int8(packed[0]))
		packed = packed[1:]
		switch {
		case n < 0 && -n <= len(packed):
			out, packed = append(out, packed[:-n]...), packed[-n:]
		case n >= 0 && len(packed) > 0:
			out, packed = append(out, bytes.Repeat(packed[:1], n+1)...), packed[1:]
		default:
			return nil, errors.New("its runs are cut off")
		}
	}
	return out, nil
}
