package picture

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"image/png"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/image/tiff"
)

// kinds are pictures of all kinds of pixels, filled with noise.
func kinds(width, height int, dice *rand.Rand) map[string]image.Image {
	r := image.Rect(0, 0, width, height)
	noise := func(p []byte) {
		for i := range p {
			p[i] = byte(dice.Uint32())
		}
	}
	grey, grey16, colour, deep, glass, deepGlass := image.NewGray(
		r,
	), image.NewGray16(
		r,
	), image.NewRGBA(
		r,
	), image.NewRGBA64(
		r,
	), image.NewNRGBA(
		r,
	), image.NewNRGBA64(
		r,
	)
	for _, p := range [][]byte{grey.Pix, grey16.Pix, colour.Pix, deep.Pix, glass.Pix, deepGlass.Pix} {
		noise(p)
	}
	for i := 3; i < len(colour.Pix); i += 4 {
		colour.Pix[i] = 0xff
	}
	for i := 6; i < len(deep.Pix); i += 8 {
		deep.Pix[i], deep.Pix[i+1] = 0xff, 0xff
	}
	return map[string]image.Image{
		"grey": grey, "grey, 16 bits": grey16, "colour": colour, "colour, 16 bits": deep, "with alpha": glass,
		"with alpha, 16 bits": deepGlass,
	}
}

// torn writes the tiles of a picture: each with more around it than is used of it, and
// every other as the whole picture with nothing but the tile in it.
func torn(
	t *testing.T, width, height int, dice *rand.Rand, save func(name string, part image.Rectangle, whole bool),
) (tiles []Tile) {
	t.Helper()
	folder := t.TempDir()
	xs, ys := []int{0, 1 + dice.IntN(width-2), width}, []int{0, 1 + dice.IntN(height-2), height}
	for y := range 2 {
		for x := range 2 {
			use := image.Rect(xs[x], ys[y], xs[x+1], ys[y+1])
			holds := use.Inset(-dice.IntN(4)).Intersect(image.Rect(0, 0, width, height))
			whole := dice.IntN(3) == 0
			if whole {
				holds = image.Rect(0, 0, width, height)
			}
			name := filepath.Join(folder, fmt.Sprintf("%d%d", x, y))
			save(name, holds, whole)
			tiles = append(tiles, Tile{name, holds, use})
		}
	}
	dice.Shuffle(len(tiles), func(i, k int) { tiles[i], tiles[k] = tiles[k], tiles[i] })
	return tiles
}

// cutOut returns a part of a picture as one of its own, of the same kind.
func cutOut(t *testing.T, img image.Image, part image.Rectangle) image.Image {
	t.Helper()
	out, err := blankLike(img, part.Dx(), part.Dy())
	if err != nil || !copyPixels(out, out.Bounds(), img, part.Min) {
		t.Fatalf("a picture of the kind %T cannot be cut (%v)", img, err)
	}
	return out
}

func same(a, b image.Image) error {
	if a.Bounds().Size() != b.Bounds().Size() {
		return fmt.Errorf("%v and %v", a.Bounds(), b.Bounds())
	}
	for y := range a.Bounds().Dy() {
		for x := range a.Bounds().Dx() {
			if p, q := color.NRGBA64Model.Convert(a.At(x, y)), color.NRGBA64Model.Convert(b.At(x, y)); p != q {
				return fmt.Errorf("pixel %d,%d is %v and %v", x, y, p, q)
			}
		}
	}
	return nil
}

// TestStitchedIsWhole tears pictures of all kinds into tiles and puts them together.
func TestStitchedIsWhole(t *testing.T) {
	for seed := range uint64(12) {
		dice := rand.New(rand.NewPCG(seed, 4))
		width, height := 3+dice.IntN(90), 3+dice.IntN(70)
		for kind, img := range kinds(width, height, dice) {
			for format, write := range map[string]func(f *os.File, img image.Image) error{
				"png":  func(f *os.File, img image.Image) error { return png.Encode(f, img) },
				"tiff": func(f *os.File, img image.Image) error { return tiff.Encode(f, img, nil) },
			} {
				tiles := torn(t, width, height, dice, func(name string, part image.Rectangle, _ bool) {
					f, err := os.Create(name)
					if err != nil {
						t.Fatal(err)
					}
					if err := errors.Join(write(f, cutOut(t, img, part)), f.Close()); err != nil {
						t.Fatal(err)
					}
				})
				var out bytes.Buffer
				if err := Stitch(&out, format, width, height, tiles); err != nil {
					t.Fatalf("%s, %s: %v", kind, format, err)
				}
				got, _, err := image.Decode(&out)
				if err != nil {
					t.Fatalf("%s, %s: %v", kind, format, err)
				}
				if err := same(got, img); err != nil {
					t.Errorf("%s, %s: %v", kind, format, err)
				}
			}
		}
	}
}

// TestStitchedEXRIsWhole does the same with OpenEXR of several channels, of which some
// tiles have a data window in the whole picture.
func TestStitchedEXRIsWhole(t *testing.T) {
	for seed := range uint64(20) {
		dice := rand.New(rand.NewPCG(seed, 5))
		width, height := 3+dice.IntN(60), 3+dice.IntN(60)
		channels := []exrChannel{{"A", 1, 1, 1}, {"B", 1, 1, 1}, {"depth.Z", 2, 1, 1}, {"id", 0, 1, 1}}
		whole, err := newEXRCanvas(channels, width, height)
		if err != nil {
			t.Fatal(err)
		}
		for i := range whole.pix {
			whole.pix[i] = byte(dice.Uint32() >> (8 * (i % 3)))
		}
		list := []byte{}
		for _, c := range channels {
			list = append(append(list, c.name...), 0)
			for _, n := range []uint32{uint32(c.kind), 0, 1, 1} {
				list = binary.LittleEndian.AppendUint32(list, n)
			}
		}
		like := &exrPart{attributes: []exrAttribute{
			{"channels", "chlist", append(list, 0)}, {"pixelAspectRatio", "float", []byte{0, 0, 0x80, 0x3f}},
			{"studio", "string", []byte("Pellmarsh")},
		}}
		tiles := torn(t, width, height, dice, func(name string, part image.Rectangle, _ bool) {
			c, err := newEXRCanvas(channels, part.Dx(), part.Dy())
			if err != nil {
				t.Fatal(err)
			}
			for y := range part.Dy() {
				for i, ch := range channels {
					from := (part.Min.Y+y)*whole.line + whole.starts[i] + part.Min.X*ch.bytes()
					copy(c.pix[y*c.line+c.starts[i]:][:part.Dx()*ch.bytes()], whole.pix[from:])
				}
			}
			f, err := os.Create(name)
			if err != nil {
				t.Fatal(err)
			}
			if err := errors.Join(c.write(f, like, part.Dy()), f.Close()); err != nil {
				t.Fatal(err)
			}
		})
		var out bytes.Buffer
		if err := Stitch(&out, "exr", width, height, tiles); err != nil {
			t.Fatal(err)
		}
		name := filepath.Join(t.TempDir(), "whole.exr")
		if err := os.WriteFile(name, out.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
		if v, err := Verify(name, "exr", width, height); err != nil || len(v.Layers) != 2 {
			t.Fatalf("what is put together is not whole: %v", err)
		}
		var again *exrCanvas
		p, err := again.take(
			Tile{name, image.Rect(0, 0, width, height), image.Rect(0, 0, width, height)},
			width,
			height,
			&again,
		)
		if err != nil || !bytes.Equal(again.pix, whole.pix) {
			t.Fatalf("seed %d: the samples are others (%v)", seed, err)
		}
		kept := false
		for _, a := range p.attributes {
			kept = kept || a.name == "studio" && string(a.value) == "Pellmarsh"
		}
		if !kept {
			t.Error("an attribute of the tiles is lost")
		}
	}
}

func TestTilesThatDoNotFit(t *testing.T) {
	folder := t.TempDir()
	save := func(name string, img image.Image) string {
		path := filepath.Join(folder, name)
		f, err := os.Create(path)
		if err != nil {
			t.Fatal(err)
		}
		if err := errors.Join(png.Encode(f, img), f.Close()); err != nil {
			t.Fatal(err)
		}
		return path
	}
	left, right := image.Rect(0, 0, 10, 20), image.Rect(10, 0, 20, 20)
	colour := func(r image.Rectangle) image.Image {
		img := image.NewRGBA(image.Rect(0, 0, r.Dx(), r.Dy()))
		for i := 3; i < len(img.Pix); i += 4 {
			img.Pix[i] = 0xff
		}
		return img
	}
	a, b := save("a.png", colour(left)), save("b.png", colour(right))
	grey, small := save(
		"grey.png",
		image.NewGray(image.Rect(0, 0, 10, 20)),
	), save(
		"small.png",
		colour(image.Rect(0, 0, 9, 20)),
	)
	cut := filepath.Join(folder, "cut.png")
	data, _ := os.ReadFile(b)
	if err := os.WriteFile(cut, data[:len(data)-20], 0o644); err != nil {
		t.Fatal(err)
	}
	palette := save("palette.png", image.NewPaletted(image.Rect(0, 0, 10, 20), []color.Color{color.White, color.Black}))
	for name, c := range map[string]struct {
		tiles []Tile
		says  string
	}{
		"none":            {nil, "not covered"},
		"one is missing":  {[]Tile{{a, left, left}}, "not covered by its tiles: 200 of 400"},
		"no file":         {[]Tile{{a, left, left}, {b + "x", right, right}}, "cannot be opened"},
		"another kind":    {[]Tile{{a, left, left}, {grey, right, right}}, "of another kind"},
		"another size":    {[]Tile{{a, left, left}, {small, right, right}}, "it is 9×20 and should be 10×20"},
		"cut off":         {[]Tile{{a, left, left}, {cut, right, right}}, "is not whole"},
		"a palette":       {[]Tile{{a, left, left}, {palette, right, right}}, "has a palette"},
		"not held by it":  {[]Tile{{a, left, image.Rect(0, 0, 12, 20)}, {b, right, image.Rect(12, 0, 20, 20)}}, "is wanted of it"},
		"over each other": {[]Tile{{a, left, left}, {b, right, right}, {b, right, right}}, "lie over each other"},
	} {
		err := Stitch(&bytes.Buffer{}, "png", 20, 20, c.tiles)
		if err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, want %q", name, err, c.says)
		}
	}
	var out bytes.Buffer
	whole, err := os.Open(a)
	if err != nil {
		t.Fatal(err)
	}
	if err := Crop(&out, whole, left, image.Rect(2, 3, 7, 9)); err != nil {
		t.Fatal(err)
	}
	if img, err := png.Decode(&out); err != nil || img.Bounds().Dx() != 5 || img.Bounds().Dy() != 6 {
		t.Errorf("cropped it is %v, %v", img, err)
	}
	photo := filepath.Join(folder, "a.jpg")
	var j bytes.Buffer
	if err := jpeg.Encode(&j, colour(left), nil); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(photo, j.Bytes(), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := Stitch(&out, "jpeg", 20, 20, []Tile{{photo, left, left}, {photo, image.Rect(10, 0, 20, 20), image.Rect(10, 0, 20, 20)}}); err != nil {
		t.Error(err)
	}
	if err := Stitch(&out, "data", 20, 20, nil); err == nil {
		t.Error("data is put together")
	}
}

// BenchmarkStitch puts a picture of 8192×8192 together from 4×3 tiles.
func BenchmarkStitch(b *testing.B) {
	folder := b.TempDir()
	const side = 8192
	var tiles []Tile
	for y := range 3 {
		for x := range 4 {
			r := image.Rect(x*side/4, y*side/3, (x+1)*side/4, (y+1)*side/3)
			img := image.NewRGBA(image.Rect(0, 0, r.Dx(), r.Dy()))
			for i := range img.Pix {
				img.Pix[i] = byte(i >> 8)
				if i%4 == 3 {
					img.Pix[i] = 0xff
				}
			}
			path := filepath.Join(folder, fmt.Sprint(x, y))
			f, err := os.Create(path)
			if err != nil {
				b.Fatal(err)
			}
			if err := errors.Join((&png.Encoder{CompressionLevel: png.BestSpeed}).Encode(f, img), f.Close()); err != nil {
				b.Fatal(err)
			}
			tiles = append(tiles, Tile{path, r, r})
		}
	}
	b.SetBytes(3 * side * side)
	for b.Loop() {
		f, err := os.Create(filepath.Join(folder, "whole.png"))
		if err != nil {
			b.Fatal(err)
		}
		if err := errors.Join(Stitch(f, "png", side, side, tiles), f.Close()); err != nil {
			b.Fatal(err)
		}
	}
}
