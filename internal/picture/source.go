package picture

import (
	"errors"
	"fmt"
	"image/color"
	"image/jpeg"
	"io"
	"os"
	"sync/atomic"
	"time"

	"golang.org/x/image/tiff"
)

// source is a frame file that is read within a time. The time is that of the processor: on a busy
// machine a look takes longer, and a good frame must not fail for that.
type source struct {
	file  *os.File
	size  int64
	seen  *atomic.Int64 // bytes that were read; may be nil
	side  int           // pixels along a side of what is kept of a large picture, at most
	until time.Time     // before which nothing is too long
	spent time.Duration // processor time of this process before which nothing is
	last  time.Time     // from which on everything is
}

// patience is how much longer than its processor time a look may take.
const patience = 10

// sourceWithin returns a file that may be looked at for a time.
func sourceWithin(file *os.File, size int64, limit time.Duration) source {
	now := time.Now()
	return source{file, size, nil, sampleSide, now.Add(limit), spent() + limit, now.Add(patience * limit)}
}

var errSlow = errors.New("it takes too long")

// ReadAt implements io.ReaderAt.
func (s source) ReadAt(p []byte, at int64) (int, error) {
	if now := time.Now(); now.After(s.until) && (spent() > s.spent || now.After(s.last)) {
		return 0, errSlow
	}
	n, err := s.file.ReadAt(p, at)
	if s.seen != nil {
		s.seen.Add(int64(n))
	}
	return n, err
}

// reader returns all of the file.
func (s source) reader() io.Reader { return io.NewSectionReader(s, 0, s.size) }

// header returns the size of a picture in pixels, as its header says, and how much
// memory its pixels take at most.
func (s source) header(format string) (width, height int, memory int64, err error) {
	each := int64(0) // bytes a pixel
	switch format {
	case "png":
		h, _, err := readPNGHeader(s.reader())
		if err != nil {
			return 0, 0, 0, err
		}
		width, height, each = h.width, h.height, 4
		if h.depth == 16 {
			each = 8
		}
	case "jpeg":
		c, err := jpeg.DecodeConfig(s.reader())
		if err != nil {
			return 0, 0, 0, err
		}
		// A progressive one keeps all coefficients, too.
		width, height, each = c.Width, c.Height, 4
		if s.progressive() {
			each = 4 + 16
		}
	case "tiff":
		c, err := tiff.DecodeConfig(io.NewSectionReader(s, 0, s.size))
		if err != nil {
			return 0, 0, 0, err
		}
		width, height, each = c.Width, c.Height, 4
		if c.ColorModel == color.RGBA64Model || c.ColorModel == color.NRGBA64Model {
			each = 8
		}
	case "exr": // it is read chunk by chunk
		if width, height, err = exrSize(s); err != nil {
			return 0, 0, 0, err
		}
	default:
		return 0, 0, 0, fmt.Errorf("no reader for pictures in the format %q", format)
	}
	if width < 1 || height < 1 {
		return 0, 0, 0, errors.New("it has no pixels")
	}
	return width, height, int64(width) * int64(height) * each, nil
}

// progressive reports whether a JPEG may be one: any marker for it among its
// first segments (ITU T.81, annex B).
func (s source) progressive() bool {
	at := int64(2)
	var b [4]byte
	for range 1000 {
		if _, err := s.ReadAt(b[:], at); err != nil || b[0] != 0xff {
			return true
		}
		switch m := b[1]; {
		case m == 0xff:
			at++
			continue
		case m == 0xc0 || m == 0xc1:
			return false
		case m >= 0xc2 && m <= 0xcf && m != 0xc4 && m != 0xc8 && m != 0xcc:
			return true
		}
		at += 2 + int64(b[2])<<8 + int64(b[3])
	}
	return true
}
