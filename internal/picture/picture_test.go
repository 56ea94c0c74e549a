package picture

import (
	"bytes"
	"errors"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"os"
	"path/filepath"
	"testing"

	"golang.org/x/image/tiff"
)

func drawn(w, h int) image.Image {
	img := image.NewRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			img.Set(x, y, color.RGBA{uint8(x * 7), uint8(y * 5), uint8(x ^ y), 255})
		}
	}
	return img
}

func encoded(t *testing.T, format string, img image.Image) []byte {
	t.Helper()
	var buf bytes.Buffer
	err := map[string]func() error{
		"png":  func() error { return png.Encode(&buf, img) },
		"jpeg": func() error { return jpeg.Encode(&buf, img, nil) },
		"tiff": func() error { return tiff.Encode(&buf, img, nil) },
	}[format]()
	if err != nil {
		t.Fatal(err)
	}
	return buf.Bytes()
}

func file(t *testing.T, data []byte) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "frame")
	if err := os.WriteFile(path, data, 0o644); err != nil {
		t.Fatal(err)
	}
	return path
}

func TestWholePicturesPass(t *testing.T) {
	for _, format := range []string{"png", "jpeg", "tiff"} {
		v, err := Verify(file(t, encoded(t, format, drawn(64, 36))), format, 64, 36)
		if err != nil {
			t.Errorf("%s: %v", format, err)
			continue
		}
		if v.Blank || len(v.Hash) != 64 || v.Bytes == 0 {
			t.Errorf("%s: %+v", format, v)
		}
	}
}

// TestEveryCutIsFound cuts pictures off at every length.
func TestEveryCutIsFound(t *testing.T) {
	for _, format := range []string{"png", "jpeg", "tiff"} {
		whole := encoded(t, format, drawn(12, 8))
		path := file(t, nil)
		for n := range whole {
			if err := os.WriteFile(path, whole[:n], 0o644); err != nil {
				t.Fatal(err)
			}
			_, err := Verify(path, format, 12, 8)
			var fault *FaultError
			if !errors.As(err, &fault) || fault.Missing {
				t.Fatalf("%s cut off at %d of %d bytes: %v", format, n, len(whole), err)
			}
		}
	}
}

func TestWrongPicturesAreFaults(t *testing.T) {
	good := encoded(t, "png", drawn(64, 36))
	for name, c := range map[string]struct {
		path, format string
		missing      bool
	}{
		"another size":   {file(t, encoded(t, "png", drawn(63, 36))), "png", false},
		"another format": {file(t, encoded(t, "jpeg", drawn(64, 36))), "png", false},
		"nothing":        {file(t, nil), "png", false},
		"text":           {file(t, []byte("rendering failed")), "png", false},
		"no reader":      {file(t, good), "exotic", false},
		"no file":        {filepath.Join(t.TempDir(), "gone"), "png", true},
	} {
		_, err := Verify(c.path, c.format, 64, 36)
		var fault *FaultError
		if !errors.As(err, &fault) || fault.Missing != c.missing {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestBlankIsSeen(t *testing.T) {
	img := image.NewGray(image.Rect(0, 0, 8, 8))
	v, err := Verify(file(t, encoded(t, "png", img)), "png", 8, 8)
	if err != nil || !v.Blank {
		t.Errorf("%+v, %v", v, err)
	}
}

func TestThumbnailAndSheet(t *testing.T) {
	for _, size := range []image.Point{{480, 270}, {100, 100}, {1, 1}, {2000, 3}} {
		small, err := Thumbnail(drawn(size.X, size.Y))
		if err != nil {
			t.Fatal(err)
		}
		img, err := jpeg.Decode(bytes.NewReader(small))
		if err != nil || img.Bounds().Dx() > ThumbWidth || img.Bounds().Dy() < 1 {
			t.Errorf("%v became %v, %v", size, img.Bounds(), err)
		}
	}
	small, _ := Thumbnail(drawn(48, 27))
	for _, n := range []int{0, 1, 7, 500} {
		s := NewSheet("salt_010/final-1", "a test")
		for i := range n {
			if err := s.Add(i, small); err != nil {
				t.Fatal(err)
			}
		}
		var out bytes.Buffer
		if err := s.WritePNG(t.Context(), &out); err != nil {
			t.Fatal(err)
		}
		img, err := png.Decode(&out)
		if err != nil || n > 0 && img.Bounds().Dx() < min(n, 4)*48 {
			t.Errorf("a sheet of %d: %v, %v", n, img.Bounds(), err)
		}
	}
	if NewSheet("", "").Add(1, []byte("no picture")) == nil {
		t.Error("a broken thumbnail was taken")
	}
}

func FuzzVerify(f *testing.F) {
	for _, format := range []string{"png", "jpeg", "tiff"} {
		var buf bytes.Buffer
		_ = png.Encode(&buf, drawn(4, 4))
		f.Add(format, buf.Bytes())
	}
	f.Fuzz(func(t *testing.T, format string, data []byte) {
		path := filepath.Join(t.TempDir(), "f")
		if err := os.WriteFile(path, data, 0o644); err != nil {
			t.Fatal(err)
		}
		if v, err := Verify(path, format, 4, 4); err == nil && v.Image.Bounds().Dx() != 4 {
			t.Errorf("%v", v.Image.Bounds())
		}
	})
}
