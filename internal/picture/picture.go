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
	"io/fs"
	"os"

	"golang.org/x/image/draw"
	"golang.org/x/image/tiff"
)

// mostBytes bounds the size of a frame file that is looked at.
const mostBytes = 1 << 30

// Verified is a frame file that is whole and of the right size.
type Verified struct {
	Image image.Image
	Hash  string // SHA-256 of the file, in hexadecimal
	Bytes int64
	Blank bool // every pixel has the same colour
}

// FaultError says what is wrong with a frame file.
type FaultError struct {
	Missing bool // there is no file
	Reason  string
}

// Error says what is wrong.
func (e *FaultError) Error() string { return e.Reason }

// Verify reads a frame file whole, decodes every pixel of it and compares its
// size in pixels with what was asked for. A *FaultError says what is wrong
// with the picture; any other error, why it could not be looked at.
func Verify(path, format string, width, height int) (*Verified, error) {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, &FaultError{Missing: true, Reason: "the renderer left no picture"}
	}
	if err != nil {
		return nil, fmt.Errorf("looking at the frame: %w", err)
	}
	if info.Size() > mostBytes {
		return nil, &FaultError{Reason: fmt.Sprintf("the file has %d bytes, more than can be looked at", info.Size())}
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("reading the frame: %w", err)
	}
	img, err := decode(data, format)
	if err != nil {
		return nil, &FaultError{Reason: fmt.Sprintf("the file is not a whole %s picture (%d bytes): %v", format, len(data), err)}
	}
	if b := img.Bounds(); b.Dx() != width || b.Dy() != height {
		return nil, &FaultError{Reason: fmt.Sprintf("the picture is %d×%d, asked for was %d×%d", b.Dx(), b.Dy(), width, height)}
	}
	sum := sha256.Sum256(data)
	return &Verified{Image: img, Hash: hex.EncodeToString(sum[:]), Bytes: int64(len(data)), Blank: blank(img)}, nil
}

// decode reads a picture of exactly the given format.
func decode(data []byte, format string) (image.Image, error) {
	r := bytes.NewReader(data)
	switch format {
	case "png":
		return png.Decode(r)
	case "jpeg":
		if !bytes.HasSuffix(data, []byte{0xff, 0xd9}) { // the decoder forgives a missing end
			return nil, errors.New("it has no end marker")
		}
		return jpeg.Decode(r)
	case "tiff":
		if err := tiffWhole(data); err != nil {
			return nil, err
		}
		return tiff.Decode(r)
	}
	return nil, fmt.Errorf("no reader for pictures in the format %q", format)
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

// ThumbWidth is the width of a thumbnail in pixels.
const ThumbWidth = 240

// Thumbnail returns the picture as a small JPEG.
func Thumbnail(img image.Image) ([]byte, error) {
	b := img.Bounds()
	width := min(ThumbWidth, b.Dx())
	height := max(1, width*b.Dy()/max(1, b.Dx()))
	small := image.NewRGBA(image.Rect(0, 0, width, height))
	draw.CatmullRom.Scale(small, small.Bounds(), img, b, draw.Src, nil)
	var out bytes.Buffer
	if err := jpeg.Encode(&out, small, &jpeg.Options{Quality: 82}); err != nil {
		return nil, fmt.Errorf("making a thumbnail: %w", err)
	}
	return out.Bytes(), nil
}
