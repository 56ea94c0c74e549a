package practice

import (
	"bytes"
	"errors"
	"image"
	"image/color"
	"image/png"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

func sceneFile(t *testing.T, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "a.practice")
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	return path
}

func TestCosts(t *testing.T) {
	s, err := ReadScene(sceneFile(t, "practice: 1\npicture: salt\ncost: {points: [[10, 4s], [1, 1s], [20, 2s]]}\n"))
	if err != nil {
		t.Fatal(err)
	}
	for frame, want := range map[int]time.Duration{-5: time.Second, 1: time.Second, 4: 2 * time.Second, 10: 4 * time.Second, 15: 3 * time.Second, 99: 2 * time.Second} {
		if got := s.Cost.At(frame); got.Round(time.Millisecond) != want {
			t.Errorf("frame %d costs %v, want %v", frame, got, want)
		}
	}
	if fast, slow := s.Time(4, "a", 2), s.Time(4, "a", 0.5); fast != time.Second || slow != 4*time.Second {
		t.Errorf("at speed 2 %v, at speed 0.5 %v", fast, slow)
	}
}

func TestBadScenes(t *testing.T) {
	for name, text := range map[string]string{
		"empty": "", "another format": "practice: 2\npicture: salt\n", "no such picture": "practice: 1\npicture: none\n",
		"a cost that is none": "practice: 1\npicture: salt\ncost: dear\n", "a point that is none": "practice: 1\npicture: salt\ncost: {points: [[1, 2]]}\n",
		"a trouble that is none": "practice: 1\npicture: salt\ntrouble: [{frame: 1, does: sing}]\n", "no YAML": "practice: [",
		"a startup that is none": "practice: 1\npicture: salt\nstartup: soon\n", "a negative cost": "practice: 1\npicture: salt\ncost: -2s\n",
	} {
		if _, err := ReadScene(sceneFile(t, text)); err == nil ||
			!strings.Contains(err.Error(), "cannot read the scene") {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := ReadScene("/no/such/scene"); err == nil {
		t.Error("a scene that is not there was read")
	}
}

func TestTroubleOnSomeNodes(t *testing.T) {
	s, err := ReadScene(
		sceneFile(
			t,
			"practice: 1\npicture: salt\ntrouble: [{frame: 3, does: error, on: [kiln-01]}, {frame: 4, does: slow},\n"+
				"  {frames: 10-19, does: disk full, on: [kiln-01], until: 2026-03-02T19:30:00Z}]\ncost: 1s\n",
		),
	)
	if err != nil {
		t.Fatal(err)
	}
	now := time.Date(2026, 3, 2, 19, 0, 0, 0, time.UTC)
	if s.Does(3, "kiln-01", now) != doesError || s.Does(3, "kiln-02", now) != "" || s.Does(4, "any", now) != doesSlow {
		t.Error("troubles happen on the wrong nodes")
	}
	if s.Does(10, "kiln-01", now) != doesFull || s.Does(19, "kiln-01", now) != doesFull ||
		s.Does(20, "kiln-01", now) != "" || s.Does(19, "kiln-01", now.Add(time.Hour)) != "" {
		t.Error("a machine that is ill for a while fails other frames, or at another time")
	}
	for trouble, says := range map[string]string{
		"{frames: 9-1, does: error}":                   "first and last frame",
		"{frames: all, does: error}":                   "first and last frame",
		"{frame: 1, does: error, until: tomorrow}":     "is no time such as",
		"{frame: 1, does: error, until: 2026-03-02}":   "is no time such as",
		"{frame: 1, does: nothing in particular at a}": "none of",
	} {
		_, err := ReadScene(sceneFile(t, "practice: 1\npicture: salt\ntrouble: ["+trouble+"]\n"))
		if err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", trouble, err)
		}
	}
	if s.Time(4, "any", 1) != 5*time.Second {
		t.Errorf("a slow frame takes %v", s.Time(4, "any", 1))
	}
}

func TestRangeAndFeed(t *testing.T) {
	scene := sceneFile(t, "practice: 1\npicture: gannet\n")
	var out bytes.Buffer
	o := Options{Scene: scene, Staging: t.TempDir(), Width: 32, Height: 18, Speed: 1, First: -1, Last: 1}
	if err := Render(o, strings.NewReader(""), &out); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"frame.-1.png", "frame.0.png", "frame.1.png"} {
		data, err := os.ReadFile(filepath.Join(o.Staging, name))
		if err != nil {
			t.Fatal(err)
		}
		if _, err := png.Decode(bytes.NewReader(data)); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	out.Reset()
	o.Feed, o.Staging = true, t.TempDir()
	if err := Render(o, strings.NewReader("frame 7\nframe 3\nend\nframe 9\n"), &out); err != nil {
		t.Fatal(err)
	}
	text := out.String()
	for _, line := range []string{"vx ready\n", "vx begin 7\n", "vx done 7\n", "vx done 3\n"} {
		if !strings.Contains(text, line) {
			t.Errorf("the feed did not say %q in %q", line, text)
		}
	}
	if strings.Contains(text, "begin 9") {
		t.Error("it went on behind the end")
	}
	for _, bad := range []string{"frame seven\n", "render 7\n"} {
		if err := Render(o, strings.NewReader(bad), &out); err == nil {
			t.Errorf("%q was taken", bad)
		}
	}
}

func TestPicturesDependOnTheFrameAlone(t *testing.T) {
	for picture := range painters {
		a, b, c := Paint(picture, 5, 32, 18), Paint(picture, 5, 32, 18), Paint(picture, 90, 32, 18)
		same, other := true, false
		for y := range 18 {
			for x := range 32 {
				same = same && a.At(x, y) == b.At(x, y)
				other = other || a.At(x, y) != c.At(x, y)
			}
		}
		if !same || !other {
			t.Errorf("%s: twice the same %v, another frame differs %v", picture, same, other)
		}
	}
	if Paint("salt", -3, 4, 4) == nil {
		t.Error("a negative frame has no picture")
	}
}

func TestScriptedFailuresAreErrors(t *testing.T) {
	for _, does := range []string{doesError, doesMemory, doesLicence} {
		o := Options{
			Scene:   sceneFile(t, "practice: 1\npicture: salt\ntrouble: [{frame: 1, does: "+does+"}]\n"),
			Staging: t.TempDir(), Width: 8, Height: 8, Speed: 1, First: 1, Last: 2,
		}
		if err := Render(o, nil, &bytes.Buffer{}); !errors.Is(err, ErrMisbehaved) {
			t.Errorf("%s: %v", does, err)
		}
	}
}

// TestPassesAreDrawnBesideThePicture looks that passes change nothing of the
// picture, that each is what it shall be, and that files say what they are of.
func TestPassesAreDrawnBesideThePicture(t *testing.T) {
	dir := t.TempDir()
	scene := sceneFile(t, "practice: 1\npicture: salt\nstamp: true\ntrouble: [{frame: 2, does: no pass}]\n")
	o := Options{
		Scene: scene, Staging: dir, Width: 32, Height: 18, Speed: 1, First: 1, Last: 2,
		Passes: "depth,normal,matte", Node: "kiln-01",
	}
	if err := Render(o, nil, new(bytes.Buffer)); err != nil {
		t.Fatal(err)
	}
	read := func(name string) ([]byte, image.Image) {
		t.Helper()
		data, err := os.ReadFile(filepath.Join(dir, name))
		if err != nil {
			t.Fatal(err)
		}
		img, err := png.Decode(bytes.NewReader(data))
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		return data, img
	}
	data, picture := read("frame.1.png")
	want := Paint("salt", 1, 32, 18)
	for y := range 18 {
		for x := range 32 {
			if r, g, b, _ := picture.At(x, y).
				RGBA(); color.NRGBAModel.Convert(want.At(x, y)) != color.NRGBAModel.Convert(
				color.RGBA64{uint16(r), uint16(g), uint16(b), 0xffff},
			) {
				t.Fatalf("the pixel at %d,%d is another than without passes", x, y)
			}
		}
	}
	_, after, found := bytes.Cut(data, []byte("tEXtComment\x00"))
	if !found || !bytes.HasPrefix(after, []byte("1 on kiln-01, ")) {
		t.Error("the picture does not say which rendering it is of")
	}
	beside, depth := read("depth.1.png")
	if depth.ColorModel() != color.Gray16Model || !bytes.Contains(beside, after[:30]) {
		t.Errorf("depth is %T, or of another rendering", depth)
	}
	if _, matte := read("matte.1.png"); matte.ColorModel() != color.GrayModel {
		t.Errorf("matte is %T", matte)
	}
	_, normal := read("normal.1.png")
	for y := range 18 { // directions have a length of 1, and none looks away from the camera
		for x := range 32 {
			r, g, b, _ := normal.At(x, y).RGBA()
			part := func(v uint32) float64 { return float64(v)/32767.5 - 1 }
			length := math.Sqrt(part(r)*part(r) + part(g)*part(g) + part(b)*part(b))
			if math.Abs(length-1) > 0.001 || part(b) <= 0 {
				t.Fatalf("the normal at %d,%d is %g, %g, %g", x, y, part(r), part(g), part(b))
			}
		}
	}
	if _, err := os.Stat(filepath.Join(dir, "matte.2.png")); err == nil {
		t.Error("a frame that shall leave no last pass has left it")
	}
	o.Passes = "lights"
	if err := Render(o, nil, new(bytes.Buffer)); err == nil || !strings.Contains(err.Error(), `no pass "lights"`) {
		t.Errorf("a pass that there is not: %v", err)
	}
}

// TestATileCostsItsPartOfThePicture counts the points that are computed for a tile: a
// still in twelve tiles must not paint its picture twelve times.
func TestATileCostsItsPartOfThePicture(t *testing.T) {
	points := 0
	painters["counted"] = func(x, y, _, _ float64) rgb { points++; return rgb{clamp(x), clamp(y), 0} }
	defer delete(painters, "counted")
	whole, _ := paint("counted", nil, 1, 80, 40, image.Rect(0, 0, 80, 40), 0)
	points = 0
	tile := image.Rect(20, 10, 40, 20)
	part, beside := paint("counted", []string{"depth"}, 1, 80, 40, tile, 0)
	if points != tile.Dx()*tile.Dy() {
		t.Errorf("%d points were computed for a tile of %d", points, tile.Dx()*tile.Dy())
	}
	if part.Bounds() != tile || beside[0].Bounds() != tile {
		t.Fatalf("the tile is %v and its pass %v", part.Bounds(), beside[0].Bounds())
	}
	for y := tile.Min.Y; y < tile.Max.Y; y++ {
		for x := tile.Min.X; x < tile.Max.X; x++ {
			if part.At(x, y) != whole.At(x, y) {
				t.Fatalf("pixel %d,%d is %v in the tile and %v in the picture", x, y, part.At(x, y), whole.At(x, y))
			}
		}
	}
}
