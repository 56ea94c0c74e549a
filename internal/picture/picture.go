// Package picture looks at frame files: it decodes them whole, verifies and
// measures them, makes thumbnails and composes contact sheets. It knows
// nothing of runs or nodes; it reads what it is given and keeps nothing.
package picture

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"io"
	"io/fs"
	"os"
	"strings"
	"sync/atomic"
	"time"

	"golang.org/x/image/draw"
	"golang.org/x/image/tiff"

	"vexillum/internal/plainfile"
)

// Bounds of what is looked at.
const (
	// mostBytes bounds the size of a frame file.
	mostBytes = 16 << 30
	// mostDecoded bounds the memory that the pixels of a picture may take; larger
	// PNG and TIFF are looked at row by row, other formats are not taken.
	mostDecoded = 192 << 20
	// mostTIFF is the same for TIFF: its decoder takes up to five times that, so that above a
	// third of mostDecoded no picture is given to it.
	mostTIFF = 16 << 20
	// checkTime and checkRate bound the time of one look: a fixed part, and one
	// for the size, in bytes a second.
	checkTime = 2 * time.Minute
	checkRate = 4 << 20
)

// Verified is a frame file that is whole and of the right size.
type Verified struct {
	Image image.Image // of a large picture, a small one; nil of data
	Hash  string      // SHA-256 of the file, in hexadecimal
	Bytes int64
	Blank bool // every pixel has the same colour
	// of OpenEXR; nil of other formats
	Layers []Layer
}

// Layer is a group of channels in one part of an OpenEXR file. The part and the layer
// may have no name.
type Layer struct {
	Part, Name string
	Channels   []string
}

// String names the layer for people.
func (l Layer) String() string {
	text := "channels " + strings.Join(l.Channels, " ")
	if l.Name != "" {
		text = "layer " + l.Name + ": " + text
	}
	if l.Part != "" {
		text = "part " + l.Part + ", " + text
	}
	return text
}

// FaultError says what is wrong with a frame file.
type FaultError struct {
	Missing bool // there is no file
	Reason  string
}

// Error says what is wrong.
func (e *FaultError) Error() string { return e.Reason }

// Verify reads a frame file whole, decodes every pixel of it and compares its
// size in pixels with what was asked for: that first, before anything is decoded.
// Only regular files are opened, and no look takes more memory or time than its
// bounds. A size of 0×0 is any. Of data, which is no picture, only that it is there
// and not empty is looked at. A *FaultError says what is wrong with the picture; any
// other error, why it could not be looked at.
func Verify(path, format string, width, height int) (*Verified, error) {
	file, err := plainfile.Open(path)
	return verify(file, err, format, width, height, nil)
}

// VerifyBelow is Verify for a file in a folder that its renderer may still write to: a link
// that leads out of it is a fault, and what it leads to is not read. What has been read so far is
// added to seen, if it is not nil; a file is read twice.
func VerifyBelow(folder, path, format string, width, height int, seen *atomic.Int64) (*Verified, error) {
	file, err := plainfile.OpenBelow(folder, path)
	return verify(file, err, format, width, height, seen)
}

func verify(
	file *os.File, err error, format string, width, height int, seen *atomic.Int64,
) (*Verified, error) {
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, &FaultError{Missing: true, Reason: "the renderer left no picture"}
	case errors.Is(err, plainfile.ErrNotRegular):
		return nil, &FaultError{Reason: fmt.Sprintf("what the renderer left is not a picture: %v", err)}
	case err != nil:
		return nil, fmt.Errorf("opening the frame: %w", err)
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return nil, fmt.Errorf("looking at the frame: %w", err)
	}
	size := info.Size()
	if size > mostBytes {
		return nil, &FaultError{Reason: fmt.Sprintf("the file has %d bytes, more than can be looked at", size)}
	}
	s := sourceWithin(file, size, checkTime+time.Duration(size/checkRate)*time.Second)
	s.seen = seen
	if format == Data {
		if size == 0 {
			return nil, &FaultError{Reason: "the file is empty"}
		}
		return s.hashed(&Verified{Bytes: size})
	}
	v, err := s.look(format, width, height)
	var fault *FaultError
	switch {
	case errors.As(err, &fault):
		return nil, err
	case errors.Is(err, errSlow):
		return nil, fmt.Errorf("looking at the frame: %w", err)
	case err != nil:
		return nil, &FaultError{Reason: fmt.Sprintf(
			"the file is not a whole %s picture (%d bytes): %v", format, size, err,
		)}
	}
	v.Bytes = size
	return s.hashed(v)
}

// hashed adds the hash of the whole file.
func (s source) hashed(v *Verified) (*Verified, error) {
	sum := sha256.New()
	if n, err := io.Copy(sum, s.reader()); err != nil || n != s.size {
		return nil, fmt.Errorf(
			"reading the frame: it changed while it was looked at (%d bytes, then %d): %w", s.size, n, err,
		)
	}
	v.Hash = hex.EncodeToString(sum.Sum(nil))
	return v, nil
}

// Data is the format of files of which nothing can be seen.
const Data = "data"

// look decodes a picture of exactly the given format and size.
func (s source) look(format string, width, height int) (*Verified, error) {
	w, h, memory, err := s.header(format)
	if err != nil {
		return nil, err
	}
	if width > 0 && (w != width || h != height) {
		return nil, &FaultError{Reason: fmt.Sprintf(
			"the picture is %d×%d, and %d×%d was asked for", w, h, width, height,
		)}
	}
	if format == "exr" {
		return verifyEXR(s)
	}
	if format == "tiff" && memory > mostTIFF {
		img, isBlank, err := streamTIFF(s)
		if !errors.Is(err, errNotByRows) {
			return &Verified{Image: img, Blank: isBlank}, err
		}
	}
	if memory > mostDecoded || format == "tiff" && memory > mostDecoded/3 {
		if format == "png" {
			img, isBlank, err := streamPNG(s.reader(), s.side)
			return &Verified{Image: img, Blank: isBlank}, err
		}
		return nil, &FaultError{Reason: fmt.Sprintf(
			"a %s picture of %d×%d is more than can be looked at; render it as PNG, or smaller", format, w, h,
		)}
	}
	img, err := s.decode(format)
	if err != nil {
		return nil, err
	}
	return &Verified{Image: img, Blank: blank(img)}, nil
}

// Shown returns a picture as a screen can show it, of no more pixels than
// Verify looks at. It takes no more memory or time than a look.
func Shown(file *os.File, format string) (image.Image, error) {
	info, err := file.Stat()
	if err != nil {
		return nil, fmt.Errorf("looking at the frame: %w", err)
	}
	s := sourceWithin(file, info.Size(), checkTime)
	s.side = shownSide
	width, height, _, err := s.header(format)
	if err != nil {
		return nil, err
	}
	v, err := s.look(format, width, height)
	if err != nil {
		return nil, err
	}
	return v.Image, nil
}

// Viewable reports whether browsers show pictures of a format.
func Viewable(format string) bool { return format == "png" || format == "jpeg" }

// decode reads all pixels. The header was looked at before.
func (s source) decode(format string) (image.Image, error) {
	switch format {
	case "png":
		return png.Decode(s.reader())
	case "jpeg":
		var end [2]byte // the decoder forgives a missing end
		if _, err := s.ReadAt(end[:], max(0, s.size-2)); err != nil || end != [2]byte{0xff, 0xd9} {
			return nil, errors.New("it has no end marker")
		}
		return jpeg.Decode(s.reader())
	}
	if err := tiffWhole(s, s.size); err != nil {
		return nil, err
	}
	return tiff.Decode(io.NewSectionReader(s, 0, s.size))
}

func blank(img image.Image) bool {
	b := img.Bounds()
	first := color.RGBA64Model.Convert(img.At(b.Min.X, b.Min.Y))
	for y := b.Min.Y; y < b.Max.Y; y++ {
		for x := b.Min.X; x < b.Max.X; x++ {
			if color.RGBA64Model.Convert(img.At(x, y)) != first {
				return false
			}
		}
	}
	return true
}

// ThumbWidth is the longer side of a thumbnail in pixels, at most.
const ThumbWidth = 240

// Thumbnail returns the picture as a small JPEG.
func Thumbnail(img image.Image) ([]byte, error) {
	b := img.Bounds()
	width, height := min(ThumbWidth, b.Dx()), min(ThumbWidth, b.Dy())
	if b.Dx() >= b.Dy() {
		height = max(1, width*b.Dy()/max(1, b.Dx()))
	} else {
		width = max(1, height*b.Dx()/b.Dy())
	}
	small := image.NewRGBA(image.Rect(0, 0, width, height))
	draw.CatmullRom.Scale(small, small.Bounds(), img, b, draw.Src, nil)
	var out bytes.Buffer
	if err := jpeg.Encode(&out, small, &jpeg.Options{Quality: 82}); err != nil {
		return nil, fmt.Errorf("making a thumbnail: %w", err)
	}
	return out.Bytes(), nil
}
