package picture

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// openEXRTool runs one of Debian's openexr tools, or skips the test where it is not.
func openEXRTool(t *testing.T, name string, args ...string) string {
	t.Helper()
	path, err := exec.LookPath(name)
	if err != nil {
		t.Skipf("%s is not here; scripts/deps installs it", name)
	}
	out, err := exec.Command(path, args...).CombinedOutput()
	if err != nil {
		t.Fatalf("%s %q: %v: %s", name, args, err, out)
	}
	return string(out)
}

var headerSize = regexp.MustCompile(`(?s)displayWindow[^:]*: \((\d+) (\d+)\) - \((\d+) (\d+)\)`)

// TestFilesOfTheOpenEXRTools looks at what the tools of the format's own library make of
// a file: tiles, levels, all compressions, several parts and layers. Ours agrees with them
// about size and channels, shows the same picture, and finds each cut.
func TestFilesOfTheOpenEXRTools(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name+".exr") }
	if err := os.WriteFile(at("lines"), writeEXR(exrForm{exrZIP, 0, false}, 100, 70, ramp), 0o644); err != nil {
		t.Fatal(err)
	}
	made := map[string][]string{"lines": nil}
	for _, c := range []string{"none", "rle", "zip", "piz", "pxr24", "b44", "b44a", "dwaa", "dwab"} {
		made["tiled-"+c] = []string{"exrmaketiled", "-t", "32", "24", "-z", c, at("lines"), at("tiled-" + c)}
	}
	for name, level := range map[string]string{"mip": "-m", "rip": "-r", "up": "-u"} {
		made[name] = []string{"exrmaketiled", level, "-t", "16", "16", at("lines"), at(name)}
	}
	made["parts"] = []string{
		"exrmultipart", "-combine", "-i", at("lines") + "::beauty", at("lines") + "::sky", "-o", at("parts"),
	}
	for name, command := range made {
		t.Run(name, func(t *testing.T) {
			if command != nil {
				openEXRTool(t, command[0], command[1:]...)
			}
			v, err := Verify(at(name), "exr", 100, 70)
			if err != nil || v.Blank {
				t.Fatal(err)
			}
			header := openEXRTool(t, "exrheader", at(name))
			if m := headerSize.FindStringSubmatch(header); m == nil || m[3] != "99" || m[4] != "69" {
				t.Errorf("exrheader says %v of\n%s", m, header)
			}
			for _, l := range v.Layers {
				for _, c := range l.Channels {
					if !strings.Contains(header, c+", 16-bit floating-point") {
						t.Errorf("exrheader knows no channel %s", c)
					}
				}
			}
			data, err := os.ReadFile(at(name))
			if err != nil {
				t.Fatal(err)
			}
			for cut := 8; cut < len(data); cut += 1 + len(data)/40 {
				if _, err := Verify(file(t, data[:cut]), "exr", 100, 70); err == nil {
					t.Fatalf("cut after %d of %d bytes, it passes", cut, len(data))
				}
			}
		})
	}
	whole, err := Verify(at("parts"), "exr", 100, 70)
	if err != nil || fmt.Sprint(whole.Layers) != "[part beauty, channels B G R part sky, channels B G R]" {
		t.Errorf("the parts are %v, %v", whole, err)
	}
	a, errA := Verify(at("lines"), "exr", 100, 70)
	b, errB := Verify(at("tiled-zip"), "exr", 100, 70)
	if errA != nil || errB != nil {
		t.Fatal(errA, errB)
	}
	for y := range 70 {
		for x := range 100 {
			if a.Image.At(x, y) != b.Image.At(x, y) {
				t.Fatalf("tiles show another picture at %d,%d", x, y)
			}
		}
	}
}
