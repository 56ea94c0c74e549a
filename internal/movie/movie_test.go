package movie

import (
	"context"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math/big"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func paint(t testing.TB, path string, width, height, shade int) {
	t.Helper()
	img := image.NewRGBA(image.Rect(0, 0, width, height))
	for y := range height {
		for x := range width {
			img.Set(x, y, color.RGBA{uint8(x * 255 / width), uint8(shade), uint8(y * 255 / height), 255})
		}
	}
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(png.Encode(f, img), f.Close()); err != nil {
		t.Fatal(err)
	}
}

func sequence(t testing.TB, numbers ...int) (out []Frame) {
	folder := t.TempDir()
	for i, n := range numbers {
		path := filepath.Join(folder, fmt.Sprintf("salt.%05d.png", n))
		paint(t, path, 63, 36, 8*i)
		out = append(out, Frame{n, path})
	}
	return out
}

func TestRates(t *testing.T) {
	for text, want := range map[string]string{
		"24": "24", "25": "25", "30": "30", "23.976": "24000/1001", "23.98": "24000/1001", "29.97": "30000/1001",
		"59.94": "60000/1001", "119.88": "120000/1001", "12.5": "25/2", "30000/1001": "30000/1001", "47.952": "48000/1001",
	} {
		if r, err := ParseRate(text); err != nil || r.RatString() != want {
			t.Errorf("%s is %v (%v), want %s", text, r, err, want)
		}
	}
	for _, text := range []string{"", "0", "-24", "241", "film", "1e2", "1/0", "0x18", "24.00000000001"} {
		if r, err := ParseRate(text); err == nil {
			t.Errorf("%q is %v", text, r)
		}
	}
}

// TestMoviesAreWhatWasAskedFor makes movies of all codecs and rates and reads them back.
func TestMoviesAreWhatWasAskedFor(t *testing.T) {
	t.Parallel()
	frames := sequence(t, -2, -1, 0, 1, 2, 3, 4, 5, 6, 7)
	for _, c := range []struct{ ending, codec, fps string }{
		{".mp4", "", "24"}, {".mp4", "h265", "25"}, {".mov", "", "29.97"}, {".mov", "h264", "30"}, {".webm", "", "23.976"},
	} {
		p := Plan{
			Frames: frames, FPS: c.fps, Codec: c.codec, Quality: 30, Output: filepath.Join(t.TempDir(), "m"+c.ending),
			Folder: t.TempDir(),
		}
		told := 0
		facts, err := Make(context.Background(), p, func(done, _ int) { told = max(told, done) })
		if err != nil {
			t.Errorf("%+v: %v", c, err)
			continue
		}
		rate, _ := ParseRate(c.fps)
		if facts.Frames != 10 || facts.Width != 64 || facts.Rate.Cmp(rate) != 0 || told != 10 {
			t.Errorf("%+v: %+v, %d frames were told of", c, facts, told)
		}
		curve := "iec61966-2-1"
		if facts.Codec == "prores" {
			curve = "bt709"
		}
		if facts.Colours != "bt709 "+curve+" bt709" {
			t.Errorf("%+v: its colours are told as %q", c, facts.Colours)
		}
		if left, _ := os.ReadDir(p.Folder); len(left) != 0 {
			t.Errorf("%v is left behind", left)
		}
	}
}

func TestWhatCannotBeAMovie(t *testing.T) {
	t.Parallel()
	whole, gap := sequence(t, 1, 2, 3), sequence(t, 1, 2, 5)
	lost := append([]Frame{}, whole...)
	lost[1].Path += ".gone"
	empty := sequence(t, 1, 2)
	if err := os.WriteFile(empty[1].Path, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	broken := sequence(t, 1, 2)
	if err := os.WriteFile(broken[0].Path, []byte("no picture"), 0o644); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		plan Plan
		says string
	}{
		"no frame":       {Plan{FPS: "24", Output: "m.mp4"}, "there is no frame"},
		"no rate":        {Plan{Frames: whole, Output: "m.mp4"}, "is not a frame rate"},
		"a gap":          {Plan{Frames: gap, FPS: "24", Output: "m.mp4"}, "the sequence has gaps: frames 3-4 are not in it"},
		"a lost file":    {Plan{Frames: lost, FPS: "24", Output: "m.mp4"}, "the files of frames 2 are missing or empty"},
		"an empty file":  {Plan{Frames: empty, FPS: "24", Output: "m.mp4"}, "the files of frames 2"},
		"wrong order":    {Plan{Frames: []Frame{whole[1], whole[0]}, FPS: "24", Output: "m.mp4"}, "frame 1 stands behind frame 2"},
		"another codec":  {Plan{Frames: whole, FPS: "24", Codec: "gif", Output: "m.mp4"}, "\"gif\" is not a codec"},
		"a wrong ending": {Plan{Frames: whole, FPS: "24", Codec: "vp9", Output: "m.mp4"}, "a file .mp4 cannot hold vp9"},
		"no picture":     {Plan{Frames: broken, FPS: "24", Output: filepath.Join(t.TempDir(), "m.mp4")}, ""},
	} {
		c.plan.Folder = t.TempDir()
		if _, err := Make(context.Background(), c.plan, nil); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, want %q", name, err, c.says)
		}
	}
	p := Plan{
		Frames:  gap,
		FPS:     "24",
		Output:  filepath.Join(t.TempDir(), "m.mp4"),
		Folder:  t.TempDir(),
		Gaps:    true,
		Quality: -1,
	}
	if facts, err := Make(context.Background(), p, nil); err != nil || facts.Frames != 5 {
		t.Errorf("with gaps held it has %d frames: %v", facts.Frames, err)
	}
	for _, c := range []struct {
		codec, rate string
		frames      int
		says        string
	}{
		{"h265", "24", 5, "is of codec h264"}, {"h264", "25", 5, "24 frames a second, and not 25"}, {"h264", "24", 6, "has 5 frames, and not 6"},
	} {
		facts, err := Probe(context.Background(), p.Output)
		if err != nil {
			t.Fatal(err)
		}
		rate, _ := ParseRate(c.rate)
		if err := facts.Check(c.codec, rate, c.frames); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%+v: %v", c, err)
		}
	}
	if err := (Facts{Codec: "h264", Frames: 48, Rate: big.NewRat(24, 1), Seconds: 1}).Check("h264", big.NewRat(24, 1), 48); err == nil {
		t.Error("a movie of half the length passes")
	}
	if _, err := Probe(context.Background(), whole[0].Path+".gone"); err == nil {
		t.Error("a file that is not there is read")
	}
}
