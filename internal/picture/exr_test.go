package picture

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"fmt"
	"image"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// exrForm is how a test file is written.
type exrForm struct {
	compression byte
	tile        int // side of its tiles; 0: scan lines
	floats      bool
}

// writeEXR writes a picture of w×h whose light at a pixel is given, with channels B, G
// and R.
func writeEXR(form exrForm, w, h int, light func(x, y, channel int) float32) []byte {
	var out bytes.Buffer
	le := binary.LittleEndian
	number := func(values ...int32) { _ = binary.Write(&out, le, values) }
	attribute := func(name, kind string, value []byte) {
		out.WriteString(name + "\x00" + kind + "\x00")
		number(int32(len(value)))
		out.Write(value)
	}
	box := func() []byte {
		var b bytes.Buffer
		_ = binary.Write(&b, le, []int32{0, 0, int32(w - 1), int32(h - 1)})
		return b.Bytes()
	}()
	kind, width := int32(1), 2
	if form.floats {
		kind, width = 2, 4
	}
	var channels bytes.Buffer
	for _, name := range []string{"B", "G", "R"} {
		channels.WriteString(name + "\x00")
		_ = binary.Write(&channels, le, []int32{kind, 0, 1, 1})
	}
	channels.WriteByte(0)
	out.Write([]byte{0x76, 0x2f, 0x31, 0x01, 2})
	out.Write([]byte{map[bool]byte{true: 2}[form.tile > 0], 0, 0})
	attribute("channels", "chlist", channels.Bytes())
	attribute("compression", "compression", []byte{form.compression})
	attribute("dataWindow", "box2i", box)
	attribute("displayWindow", "box2i", box)
	attribute("lineOrder", "lineOrder", []byte{0})
	if form.tile > 0 {
		side := le.AppendUint32(nil, uint32(form.tile))
		attribute("tiles", "tiledesc", append(append(side, side...), 0))
	}
	out.WriteByte(0)

	var chunks [][]byte
	add := func(area image.Rectangle, place ...int32) {
		var raw []byte
		for y := area.Min.Y; y < area.Max.Y; y++ {
			for c := range 3 {
				for x := area.Min.X; x < area.Max.X; x++ {
					if v := light(x, y, c); width == 4 {
						raw = le.AppendUint32(raw, math.Float32bits(v))
					} else {
						raw = le.AppendUint16(raw, toHalf(v))
					}
				}
			}
		}
		packed := packEXR(form.compression, raw)
		var c bytes.Buffer
		_ = binary.Write(&c, le, append(place, int32(len(packed))))
		chunks = append(chunks, append(c.Bytes(), packed...))
	}
	if form.tile > 0 {
		for ty := 0; ty*form.tile < h; ty++ {
			for tx := 0; tx*form.tile < w; tx++ {
				at := image.Rect(tx*form.tile, ty*form.tile, (tx+1)*form.tile, (ty+1)*form.tile)
				add(at.Intersect(image.Rect(0, 0, w, h)), int32(tx), int32(ty), 0, 0)
			}
		}
	} else {
		for y := 0; y < h; y += exrLines[form.compression] {
			add(image.Rect(0, y, w, min(h, y+exrLines[form.compression])), int32(y))
		}
	}
	at := uint64(out.Len() + 8*len(chunks))
	for _, c := range chunks {
		_ = binary.Write(&out, le, at)
		at += uint64(len(c))
	}
	for _, c := range chunks {
		out.Write(c)
	}
	return out.Bytes()
}

func packEXR(compression byte, raw []byte) []byte {
	if compression == exrNone {
		return raw
	}
	var split []byte
	for start := range 2 {
		for i := start; i < len(raw); i += 2 {
			split = append(split, raw[i])
		}
	}
	for i := len(split) - 1; i > 0; i-- {
		split[i] = split[i] - split[i-1] + 128
	}
	var packed []byte
	if compression == exrRLE {
		for i := 0; i < len(split); {
			n := 1
			for n < 127 && i+n < len(split) && split[i+n] == split[i] {
				n++
			}
			if n > 1 {
				packed = append(packed, byte(n-1), split[i])
			} else {
				packed = append(packed, 0xff, split[i]) // one as it is
			}
			i += n
		}
	} else {
		var z bytes.Buffer
		w := zlib.NewWriter(&z)
		_, _ = w.Write(split)
		_ = w.Close()
		packed = z.Bytes()
	}
	if len(packed) >= len(raw) {
		return raw
	}
	return packed
}

// toHalf rounds down; the test's light needs no more.
func toHalf(v float32) uint16 {
	bits := math.Float32bits(v)
	exponent := int(bits>>23&0xff) - 112
	if exponent <= 0 {
		return 0
	}
	return uint16(bits>>16&0x8000) | uint16(exponent<<10) | uint16(bits>>13&0x3ff)
}

func ramp(x, y, channel int) float32 { return float32(x+1)/64 + float32(y)/32*float32(channel+1) }

var exrForms = []exrForm{
	{exrNone, 0, false}, {exrRLE, 0, false}, {exrZIPS, 0, false}, {exrZIP, 0, false}, {exrZIP, 0, true}, {exrNone, 8, true},
	{exrZIP, 8, false}, {exrRLE, 5, false},
}

func TestWholeEXRPasses(t *testing.T) {
	for _, form := range exrForms {
		v, err := Verify(file(t, writeEXR(form, 21, 19, ramp)), "exr", 21, 19)
		if err != nil || v.Blank {
			t.Errorf("%+v: %v", form, err)
			continue
		}
		dark, bright := v.Image.At(0, 0), v.Image.At(20, 18)
		r1, _, _, _ := dark.RGBA()
		r2, g2, b2, _ := bright.RGBA()
		if r2 <= r1 || r2 < g2 || g2 < b2 { // red is the third channel of the ramp
			t.Errorf("%+v: the picture is not what was written: %v, %v", form, dark, bright)
		}
		grey, err := Verify(file(t, writeEXR(form, 8, 8, func(int, int, int) float32 { return 0.25 })), "exr", 8, 8)
		if err != nil || !grey.Blank {
			t.Errorf("%+v: a picture of one colour is not seen to be one: %v", form, err)
		}
	}
	var fault *FaultError
	if _, err := Verify(file(t, writeEXR(exrForms[0], 8, 8, ramp)), "exr", 9, 8); !errors.As(err, &fault) ||
		!strings.Contains(err.Error(), "8×8, and 9×8 was asked for") {
		t.Errorf("another size: %v", err)
	}
}

func TestEveryCutOfAnEXRIsFound(t *testing.T) {
	for _, form := range exrForms {
		whole := writeEXR(form, 21, 19, ramp)
		for cut := 0; cut < len(whole); cut += 1 + len(whole)/150 {
			if _, err := Verify(file(t, whole[:cut]), "exr", 21, 19); err == nil {
				t.Fatalf("%+v: cut after %d of %d bytes, it passes", form, cut, len(whole))
			}
		}
	}
}

// TestEXRWithHolesIsRefused lets files lie about their chunks.
func TestEXRWithHolesIsRefused(t *testing.T) {
	whole := writeEXR(exrForm{exrNone, 0, false}, 8, 4, ramp)
	table := len(whole) - 4*(8*3*2+8) - 4*8
	for name, change := range map[string]func(data []byte){
		"a chunk twice":            func(d []byte) { copy(d[table:table+8], d[table+8:table+16]) },
		"an offset behind the end": func(d []byte) { binary.LittleEndian.PutUint64(d[table:], 1<<40) },
		"no offset at all":         func(d []byte) { binary.LittleEndian.PutUint64(d[table:], 0) },
		"a line outside":           func(d []byte) { binary.LittleEndian.PutUint32(d[table+32:], 900) },
		"a length that is less":    func(d []byte) { binary.LittleEndian.PutUint32(d[table+36:], 7) },
		"a length below nothing":   func(d []byte) { binary.LittleEndian.PutUint32(d[table+36:], 1<<31) },
	} {
		data := bytes.Clone(whole)
		change(data)
		var fault *FaultError
		if _, err := Verify(file(t, data), "exr", 8, 4); !errors.As(err, &fault) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestEXROfPOVRayIsTheSamePicture renders a scene as OpenEXR and as PNG.
func TestEXROfPOVRayIsTheSamePicture(t *testing.T) {
	povray, err := exec.LookPath("povray")
	if err != nil {
		t.Fatal("povray is not installed: ", err)
	}
	dir := t.TempDir()
	scene := `#version 3.7; global_settings { assumed_gamma 1.0 }
camera { location <0, 1, -4> look_at <0, 0.5, 0> } light_source { <3, 5, -4> rgb 1.2 }
sphere { <0, 0.6, 0>, 0.6 pigment { rgb <0.8, 0.3, 0.1> } } plane { y, 0 pigment { checker rgb 0.2 rgb 0.6 } }
sky_sphere { pigment { rgb <0.3, 0.45, 0.7> } }`
	if err := os.WriteFile(filepath.Join(dir, "a.pov"), []byte(scene), 0o644); err != nil {
		t.Fatal(err)
	}
	seen := map[string]image.Image{}
	for format, flag := range map[string]string{"exr": "+FE", "png": "+FN"} {
		cmd := exec.Command(povray, "+Ia.pov", "+Oa."+format, flag, "+W96", "+H64", "-D", "-P", "+WT1")
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "HOME="+dir)
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%s: %v\n%s", format, err, out)
		}
		v, err := Verify(filepath.Join(dir, "a."+format), format, 96, 64)
		if err != nil || v.Blank {
			t.Fatalf("%s: %v", format, err)
		}
		seen[format] = v.Image
	}
	apart, most := 0.0, 0.0
	for y := range 64 {
		for x := range 96 {
			r1, g1, b1, _ := seen["exr"].At(x, y).RGBA()
			r2, g2, b2, _ := seen["png"].At(x, y).RGBA()
			for _, d := range []float64{float64(r1) - float64(r2), float64(g1) - float64(g2), float64(b1) - float64(b2)} {
				apart += math.Abs(d) / 257 / (96 * 64 * 3)
				most = max(most, math.Abs(d)/257)
			}
		}
	}
	if apart > 4 {
		t.Errorf("the two pictures are %.1f of 255 apart, at most %.0f", apart, most)
	}
}

func FuzzEXR(f *testing.F) {
	for _, form := range exrForms {
		f.Add(writeEXR(form, 9, 7, ramp))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		name := filepath.Join(t.TempDir(), "a.exr")
		if err := os.WriteFile(name, data, 0o600); err != nil {
			t.Fatal(err)
		}
		v, err := Verify(name, "exr", 9, 7)
		if err == nil && v.Image.Bounds().Empty() {
			t.Error(fmt.Sprint("a picture without pixels passes: ", v.Image.Bounds()))
		}
	})
}

// TestALookIsNotCutShortOnABusyMachine verifies a picture whose time by the clock is over and
// whose processor time is not, and one of which both are.
func TestALookIsNotCutShortOnABusyMachine(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.exr")
	data := writeEXR(exrForm{compression: exrZIP}, 64, 48, func(x, y, c int) float32 { return float32(x*y+c) / 3000 })
	if err := os.WriteFile(path, data, 0o644); err != nil {
		t.Fatal(err)
	}
	file, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	s := sourceWithin(file, int64(len(data)), time.Minute)
	s.until = time.Now().Add(-time.Second) // others had the processor
	if _, err := s.look("exr", 64, 48); err != nil {
		t.Errorf("with processor time left: %v", err)
	}
	s.spent = 0
	if _, err := s.look("exr", 64, 48); !errors.Is(err, errSlow) {
		t.Errorf("with none left: %v", err)
	}
	s.spent, s.last = time.Hour, time.Now().Add(-time.Second)
	if _, err := s.look("exr", 64, 48); !errors.Is(err, errSlow) {
		t.Errorf("long after its time: %v", err)
	}
}

// BenchmarkEXR8K verifies a picture of 8192×4320 in half floats with ZIP.
func BenchmarkEXR8K(b *testing.B) {
	const w, h = 8192, 4320
	path := filepath.Join(b.TempDir(), "a.exr")
	data := writeEXR(exrForm{compression: exrZIP}, w, h, func(x, y, c int) float32 {
		return float32((x*7+y*13+c*29)%4096) / 4096
	})
	if err := os.WriteFile(path, data, 0o644); err != nil {
		b.Fatal(err)
	}
	before := spent()
	for b.Loop() {
		if _, err := Verify(path, "exr", w, h); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric((spent()-before).Seconds()/float64(b.N), "cpu-s/look")
}
