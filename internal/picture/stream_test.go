//go:build unix

package picture

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"image"
	"image/color"
	"image/color/palette"
	"image/png"
	"os"
	"path/filepath"
	"runtime"
	"syscall"
	"testing"
	"time"
)

// chunk writes one chunk of a PNG.
func chunk(out *bytes.Buffer, kind string, data []byte) {
	_ = binary.Write(out, binary.BigEndian, uint32(len(data)))
	out.WriteString(kind)
	out.Write(data)
	_ = binary.Write(out, binary.BigEndian, crc32.ChecksumIEEE(append([]byte(kind), data...)))
}

// header returns the beginning of a PNG.
func header(w, h, depth, kind, interlaced int) *bytes.Buffer {
	var out bytes.Buffer
	out.WriteString(pngSignature)
	data := binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, uint32(w)), uint32(h))
	chunk(&out, "IHDR", append(data, byte(depth), byte(kind), 0, 0, byte(interlaced)))
	return &out
}

// interlacedPNG writes a grey picture in seven passes.
func interlacedPNG(img *image.Gray) []byte {
	b := img.Bounds()
	out := header(b.Dx(), b.Dy(), 8, 0, 1)
	var data bytes.Buffer
	z := zlib.NewWriter(&data)
	for _, p := range passes {
		if p[0] >= b.Dx() {
			continue
		}
		for y := p[1]; y < b.Dy(); y += p[3] {
			_, _ = z.Write([]byte{0})
			for x := p[0]; x < b.Dx(); x += p[2] {
				_, _ = z.Write([]byte{img.GrayAt(x, y).Y})
			}
		}
	}
	_ = z.Close()
	half := data.Len() / 2
	chunk(out, "IDAT", data.Bytes()[:half])
	chunk(out, "IDAT", data.Bytes()[half:])
	chunk(out, "IEND", nil)
	return out.Bytes()
}

// TestRowByRowSeesWhatIsThere compares small pictures with those of the decoder
// that reads them whole, and finds every cut and every changed byte.
func TestRowByRowSeesWhatIsThere(t *testing.T) {
	from := drawn(37, 23)
	into := map[string]interface {
		image.Image
		Set(x, y int, c color.Color)
	}{
		"rgba": image.NewNRGBA(from.Bounds()), "rgba of 16 bits": image.NewNRGBA64(from.Bounds()),
		"grey": image.NewGray(from.Bounds()), "grey of 16 bits": image.NewGray16(from.Bounds()),
		"palette":        image.NewPaletted(from.Bounds(), palette.Plan9),
		"palette of two": image.NewPaletted(from.Bounds(), color.Palette{color.Black, color.White}),
		"palette of 16":  image.NewPaletted(from.Bounds(), palette.Plan9[:16]),
	}
	files := map[string][]byte{}
	for name, img := range into {
		for y := range 23 {
			for x := range 37 {
				img.Set(x, y, from.At(x, y))
			}
		}
		files[name] = encoded(t, "png", img)
	}
	grey := image.NewGray(image.Rect(0, 0, 29, 31))
	for i := range grey.Pix {
		grey.Pix[i] = byte(i * 7)
	}
	files["interlaced"] = interlacedPNG(grey)
	for name, data := range files {
		want, err := png.Decode(bytes.NewReader(data))
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		got, isBlank, err := streamPNG(bytes.NewReader(data), sampleSide)
		if err != nil || isBlank || got.Bounds() != want.Bounds() {
			t.Errorf("%s: %v, blank %v, %v", name, got, isBlank, err)
			continue
		}
		for y := range want.Bounds().Dy() {
			for x := range want.Bounds().Dx() {
				r1, g1, b1, _ := got.At(x, y).RGBA()
				r2, g2, b2, _ := want.At(x, y).RGBA()
				if r1>>8 != r2>>8 || g1>>8 != g2>>8 || b1>>8 != b2>>8 {
					t.Fatalf("%s: the pixel at %d,%d is %v, want %v", name, x, y, got.At(x, y), want.At(x, y))
				}
			}
		}
		for n := range data {
			if _, _, err := streamPNG(bytes.NewReader(data[:n]), sampleSide); err == nil {
				t.Fatalf("%s cut off at %d of %d bytes was taken", name, n, len(data))
			}
			bad := bytes.Clone(data)
			bad[n] ^= 0x10
			if _, _, err := streamPNG(bytes.NewReader(bad), sampleSide); err == nil {
				t.Fatalf("%s with a changed byte at %d was taken", name, n)
			}
		}
	}
}

func FuzzStreamPNG(f *testing.F) {
	var buf bytes.Buffer
	_ = png.Encode(&buf, drawn(9, 7))
	f.Add(buf.Bytes())
	f.Fuzz(func(_ *testing.T, data []byte) {
		if h, _, err := readPNGHeader(bytes.NewReader(data)); err != nil || h.width*h.height > 1<<20 {
			return
		}
		_, _, _ = streamPNG(bytes.NewReader(data), sampleSide)
	})
}

// TestAHugePictureTakesLittle looks at a picture of 50,000×50,000 pixels, and at
// files that lie about their size.
func TestAHugePictureTakesLittle(t *testing.T) {
	const side = 50_000
	out := header(side, side, 1, 0, 0)
	var data bytes.Buffer
	z, _ := zlib.NewWriterLevel(&data, zlib.BestSpeed)
	row := make([]byte, 1+(side+7)/8)
	for range side {
		_, _ = z.Write(row)
	}
	_ = z.Close()
	chunk(out, "IDAT", data.Bytes())
	chunk(out, "IEND", nil)
	path := file(t, out.Bytes())

	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	v, err := Verify(path, "png", side, side)
	runtime.ReadMemStats(&after)
	if err != nil || !v.Blank {
		t.Errorf("%+v, %v", v, err)
	}
	if used := (after.TotalAlloc - before.TotalAlloc) >> 20; used > 64 {
		t.Errorf("it took %d MiB", used)
	}
	began := time.Now()
	var fault *FaultError
	if _, err := Verify(path, "png", 64, 36); !errors.As(err, &fault) {
		t.Errorf("of another size: %v", err)
	}
	for _, format := range []string{"jpeg", "tiff"} {
		small := encoded(t, format, drawn(16, 16))
		if _, err := Verify(file(t, small), format, 60_000, 60_000); !errors.As(err, &fault) {
			t.Errorf("%s: %v", format, err)
		}
	}
	if took := time.Since(began); took > 2*time.Second {
		t.Errorf("looking at headers took %v", took)
	}
}

// TestWhatIsNoFileIsRefused puts links and pipes where a frame should be.
func TestWhatIsNoFileIsRefused(t *testing.T) {
	dir := t.TempDir()
	if err := os.Symlink("/dev/zero", filepath.Join(dir, "zero")); err != nil {
		t.Fatal(err)
	}
	if err := syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Mkdir(filepath.Join(dir, "folder"), 0o755); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"zero", "pipe", "folder"} {
		done := make(chan error, 1)
		go func() { _, err := Verify(filepath.Join(dir, name), "png", 8, 8); done <- err }()
		select {
		case err := <-done:
			var fault *FaultError
			if !errors.As(err, &fault) || fault.Missing {
				t.Errorf("%s: %v", name, err)
			}
		case <-time.After(10 * time.Second):
			t.Fatalf("%s: it waits", name)
		}
	}
}
