package picture

import (
	"bytes"
	"encoding/binary"
	"image"
	"image/color"
	"image/color/palette"
	"image/draw"
	"image/png"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"testing"
	"time"

	"golang.org/x/image/tiff"
)

// tiffByRows looks at a TIFF row by row, however small it is.
func tiffByRows(t *testing.T, data []byte) (image.Image, bool, error) {
	t.Helper()
	f, err := os.Open(file(t, data))
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	return streamTIFF(sourceWithin(f, int64(len(data)), time.Minute))
}

// sameTop fails unless two pictures have the same upper eight bits.
func sameTop(t *testing.T, name string, got, want image.Image) {
	t.Helper()
	if got.Bounds().Size() != want.Bounds().Size() {
		t.Fatalf("%s: %v, want %v", name, got.Bounds(), want.Bounds())
	}
	b := want.Bounds()
	for y := range b.Dy() {
		for x := range b.Dx() {
			r, g, bl, _ := got.At(x, y).RGBA()
			wr, wg, wb, _ := want.At(b.Min.X+x, b.Min.Y+y).RGBA()
			if r>>8 != wr>>8 || g>>8 != wg>>8 || bl>>8 != wb>>8 {
				t.Fatalf("%s: pixel %d,%d is %v, want %v", name, x, y, got.At(x, y), want.At(x, y))
			}
		}
	}
}

// TestTIFFByRowsIsTheSamePicture compares with the decoder: kinds of pixels, compressions, and
// differences.
func TestTIFFByRowsIsTheSamePicture(t *testing.T) {
	r := image.Rect(0, 0, 61, 47)
	from := drawn(r.Dx(), r.Dy())
	for name, img := range map[string]draw.Image{
		"grey": image.NewGray(r), "deep grey": image.NewGray16(r), "palette": image.NewPaletted(r, palette.Plan9),
		"colour": image.NewRGBA(r), "deep colour": image.NewRGBA64(r), "with alpha": image.NewNRGBA(r),
		"deep with alpha": image.NewNRGBA64(r),
	} {
		draw.Draw(img, r, from, image.Point{}, draw.Src)
		for _, o := range []*tiff.Options{nil, {Compression: tiff.Deflate}, {Compression: tiff.Deflate, Predictor: true}} {
			if _, ok := img.(*image.Paletted); ok && o != nil && o.Predictor {
				continue
			}
			var buf bytes.Buffer
			if err := tiff.Encode(&buf, img, o); err != nil {
				t.Fatal(err)
			}
			got, isBlank, err := tiffByRows(t, buf.Bytes())
			if err != nil || isBlank {
				t.Errorf("%s %v: blank %v, %v", name, o, isBlank, err)
				continue
			}
			want, err := tiff.Decode(bytes.NewReader(buf.Bytes()))
			if err != nil {
				t.Fatal(err)
			}
			sameTop(t, name, got, want)
			for n := 0; n < buf.Len(); n += 101 {
				if _, _, err := tiffByRows(t, buf.Bytes()[:n]); err == nil {
					t.Errorf("%s %v: cut off at %d of %d it passes", name, o, n, buf.Len())
				}
			}
		}
	}
}

// TestTIFFOfAnotherProgramIsTheSamePicture reads what ffmpeg writes: strips of a few rows, in all
// of its compressions.
func TestTIFFOfAnotherProgramIsTheSamePicture(t *testing.T) {
	dir := t.TempDir()
	want := drawn(120, 90)
	var buf bytes.Buffer
	if err := png.Encode(&buf, want); err != nil {
		t.Fatal(err)
	}
	in := filepath.Join(dir, "in.png")
	if err := os.WriteFile(in, buf.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, how := range []string{"packbits", "raw", "lzw", "deflate"} {
		out := filepath.Join(dir, how+".tiff")
		cmd := exec.Command("ffmpeg", "-v", "error", "-y", "-i", in, "-pix_fmt", "rgb24", "-compression_algo", how, out)
		if said, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, said)
		}
		data, err := os.ReadFile(out)
		if err != nil {
			t.Fatal(err)
		}
		got, isBlank, err := tiffByRows(t, data)
		if err != nil || isBlank {
			t.Errorf("%s: blank %v, %v", how, isBlank, err)
			continue
		}
		sameTop(t, how, got, want)
	}
}

// byteOrder both reads and appends.
type byteOrder interface {
	binary.ByteOrder
	binary.AppendByteOrder
}

// tiled writes a TIFF of tiles, uncompressed and in the order of bytes given.
func tiled(img image.Image, side int, order byteOrder, white bool) []byte {
	b := img.Bounds()
	mark := []byte("II*\x00")
	if order.String() == "BigEndian" {
		mark = []byte("MM\x00*")
	}
	out := append(mark, 0, 0, 0, 0)
	var starts, lengths []uint32
	for y := 0; y < b.Dy(); y += side {
		for x := 0; x < b.Dx(); x += side {
			starts, lengths = append(starts, uint32(len(out))), append(lengths, uint32(2*side*side))
			for j := range side {
				for i := range side {
					v := color.Gray16Model.Convert(img.At(min(x+i, b.Dx()-1), min(y+j, b.Dy()-1))).(color.Gray16).Y
					if white {
						v = ^v
					}
					out = order.AppendUint16(out, v)
				}
			}
		}
	}
	list := func(values []uint32) uint32 {
		at := uint32(len(out))
		for _, v := range values {
			out = order.AppendUint32(out, v)
		}
		return at
	}
	meaning := uint32(1)
	if white {
		meaning = 0
	}
	startsAt, lengthsAt := list(starts), list(lengths)
	order.PutUint32(out[4:], uint32(len(out)))
	fields := [][3]uint32{ // field, count, value; all of 32 bits
		{fieldWidth, 1, uint32(b.Dx())}, {fieldHeight, 1, uint32(b.Dy())}, {fieldBits, 1, 16}, {fieldCompression, 1, 1},
		{fieldMeaning, 1, meaning}, {fieldSamples, 1, 1}, {fieldTileWidth, 1, uint32(side)}, {fieldTileRows, 1, uint32(side)},
		{fieldTiles, uint32(len(starts)), startsAt}, {fieldTileBytes, uint32(len(lengths)), lengthsAt},
	}
	out = order.AppendUint16(out, uint16(len(fields)))
	for _, f := range fields {
		out = order.AppendUint16(out, uint16(f[0]))
		out = order.AppendUint16(out, 4)
		out = order.AppendUint32(out, f[1])
		out = order.AppendUint32(out, f[2])
	}
	return append(out, 0, 0, 0, 0)
}

// TestTIFFOfTilesIsTheSamePicture reads tiles that reach over the edges, in both orders of bytes.
func TestTIFFOfTilesIsTheSamePicture(t *testing.T) {
	img := drawn(75, 50)
	want := image.NewGray16(img.Bounds())
	draw.Draw(want, want.Bounds(), img, image.Point{}, draw.Src)
	for _, order := range []byteOrder{binary.LittleEndian, binary.BigEndian} {
		for _, white := range []bool{false, true} {
			data := tiled(img, 32, order, white)
			got, isBlank, err := tiffByRows(t, data)
			if err != nil || isBlank {
				t.Fatalf("%v: blank %v, %v", order, isBlank, err)
			}
			sameTop(t, order.String(), got, want)
		}
	}
}

// TestDamagedTIFFNeitherPanicsNorHangs changes bytes at random.
func TestDamagedTIFFNeitherPanicsNorHangs(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	var buf bytes.Buffer
	if err := tiff.Encode(&buf, drawn(40, 30), &tiff.Options{Compression: tiff.Deflate, Predictor: true}); err != nil {
		t.Fatal(err)
	}
	for _, whole := range [][]byte{buf.Bytes(), tiled(drawn(40, 30), 16, binary.BigEndian, false)} {
		for range 1000 {
			data := slices.Clone(whole)
			for range 1 + random.IntN(4) {
				at := random.IntN(len(data))
				if random.IntN(2) == 0 { // the directory is at the end
					at = len(data) - 1 - random.IntN(min(len(data), 260))
				}
				data[at] = byte(random.IntN(256))
			}
			_, _, _ = tiffByRows(t, data)
		}
	}
}

// TestALargeTIFFTakesLittleMemory looks at 4,000² pixels of 16 bits in one strip.
func TestALargeTIFFTakesLittleMemory(t *testing.T) {
	const side = 4000
	for name, o := range map[string]*tiff.Options{
		"plain": {Compression: tiff.Uncompressed}, "deflated": {Compression: tiff.Deflate, Predictor: true},
	} {
		img := image.NewNRGBA64(image.Rect(0, 0, side, side))
		img.Set(side-1, side-1, color.White)
		var buf bytes.Buffer
		if err := tiff.Encode(&buf, img, o); err != nil {
			t.Fatal(err)
		}
		path := file(t, buf.Bytes())
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		v, err := Verify(path, "tiff", side, side)
		runtime.ReadMemStats(&after)
		if err != nil || v.Blank {
			t.Fatalf("%s: %+v, %v", name, v, err)
		}
		used := (after.TotalAlloc - before.TotalAlloc) >> 20
		if t.Logf("%s: %d MiB", name, used); used > 16 {
			t.Errorf("%s: it took %d MiB", name, used)
		}
	}
}
