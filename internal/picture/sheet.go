package picture

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"io"
	"math"
	"strconv"

	"golang.org/x/image/draw"
	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gomedium"
	"golang.org/x/image/font/gofont/gomono"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
)

// Sheet composes a contact sheet: thumbnails in rows, each with its frame
// number, below a title.
type Sheet struct {
	title, under string
	cells        []cell
	thumb        image.Point
}

type cell struct {
	frame int
	img   image.Image
}

// MostOnSheet bounds a sheet; of more frames some from all over should be given.
const MostOnSheet = 400

// NewSheet returns an empty sheet.
func NewSheet(title, under string) *Sheet { return &Sheet{title: title, under: under} }

// mostThumb bounds the sides of a thumbnail that is drawn.
const mostThumb = 2 * ThumbWidth

// Add puts the next frame on the sheet, given its thumbnail as JPEG.
func (s *Sheet) Add(frame int, thumbnail []byte) error {
	if len(s.cells) >= MostOnSheet {
		return nil
	}
	// What was kept before there was a bound may be of any size.
	if size, err := jpeg.DecodeConfig(bytes.NewReader(thumbnail)); err == nil &&
		(size.Width > mostThumb || size.Height > mostThumb) {
		s.cells = append(s.cells, cell{frame, image.NewGray(image.Rect(0, 0, ThumbWidth, ThumbWidth*9/16))})
		return nil
	}
	img, err := jpeg.Decode(bytes.NewReader(thumbnail))
	if err != nil {
		return fmt.Errorf("reading the thumbnail of frame %d: %w", frame, err)
	}
	s.thumb.X = max(s.thumb.X, img.Bounds().Dx())
	s.thumb.Y = max(s.thumb.Y, img.Bounds().Dy())
	s.cells = append(s.cells, cell{frame, img})
	return nil
}

var (
	sheetGround = color.RGBA{0x16, 0x17, 0x1a, 0xff}
	sheetInk    = color.RGBA{0xec, 0xe7, 0xdd, 0xff}
	sheetMuted  = color.RGBA{0xa5, 0xa0, 0x97, 0xff}
	sheetHair   = color.RGBA{0x3a, 0x3d, 0x44, 0xff}
)

// WritePNG draws the sheet. It stops when the context ends.
func (s *Sheet) WritePNG(ctx context.Context, w io.Writer) error {
	const margin, gap, label, head = 24, 12, 22, 64
	cells := s.cells
	thumb := s.thumb
	if len(cells) == 0 {
		thumb = image.Pt(ThumbWidth, ThumbWidth*9/16)
	}
	columns := max(1, min(len(cells), int(math.Ceil(math.Sqrt(float64(len(cells))*1.1)))))
	columns = max(columns, min(4, len(cells)))
	rows := (len(cells) + columns - 1) / columns
	sheet := image.NewRGBA(
		image.Rect(0, 0, 2*margin+columns*(thumb.X+gap)-gap, margin+head+rows*(thumb.Y+label+gap)+margin-gap),
	)
	draw.Draw(sheet, sheet.Bounds(), image.NewUniform(sheetGround), image.Point{}, draw.Src)
	big, err := face(gomedium.TTF, 22)
	if err != nil {
		return err
	}
	small, err := face(gomono.TTF, 13)
	if err != nil {
		return err
	}
	write(sheet, big, sheetInk, margin, margin+20, s.title)
	write(sheet, small, sheetMuted, margin, margin+44, s.under)
	for i, c := range cells {
		if err := ctx.Err(); err != nil {
			return err
		}
		at := image.Pt(margin+i%columns*(thumb.X+gap), margin+head+i/columns*(thumb.Y+label+gap))
		frame := image.Rectangle{at, at.Add(c.img.Bounds().Size())}
		draw.Draw(sheet, frame.Inset(-1), image.NewUniform(sheetHair), image.Point{}, draw.Src)
		draw.Draw(sheet, frame, c.img, c.img.Bounds().Min, draw.Src)
		write(sheet, small, sheetMuted, at.X, at.Y+thumb.Y+16, strconv.Itoa(c.frame))
	}
	encoder := png.Encoder{CompressionLevel: png.BestSpeed}
	return encoder.Encode(w, sheet)
}

func face(ttf []byte, size float64) (font.Face, error) {
	f, err := opentype.Parse(ttf)
	if err != nil {
		return nil, fmt.Errorf("reading a built-in font: %w", err)
	}
	return opentype.NewFace(f, &opentype.FaceOptions{Size: size, DPI: 72, Hinting: font.HintingFull})
}

func write(dst draw.Image, f font.Face, c color.Color, x, y int, text string) {
	d := font.Drawer{Dst: dst, Src: image.NewUniform(c), Face: f, Dot: fixed.P(x, y)}
	d.DrawString(text)
}
