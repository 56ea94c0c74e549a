package paths

import (
	"math/rand/v2"
	"strings"
	"testing"
)

func TestWhatNoMachineShallHave(t *testing.T) {
	for path, says := range map[string]string{
		"": "empty", "../a": "leads elsewhere", "a/../../b": "leads elsewhere", "/etc/passwd": "begins at",
		"C:/a": "begins at",
		"c:a":  "begins at", `a\b`: "not every system", "a//b": "empty", "a/./b": "leads elsewhere", "a/": "empty",
		"nul": "device", "tex/CON.png": "device", "com1 .txt": "device", "a.": "dot or a space",
		"a /b": "dot or a space",
		"ab:c": "not every system", "a\nb": "not every system", "a?": "not every system", "a\xff": "UTF-8",
		strings.Repeat("a", 256): "more than 255", strings.Repeat("a/", 600) + "b": "more than 1000",
	} {
		if err := Check(path); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", path, err)
		}
	}
	for _, path := range []string{"a", "tex/wood.0001.png", "Größe/日本.exr", "a b/c..d", ".hidden", "console/nulls"} {
		if err := Check(path); err != nil {
			t.Error(err)
		}
	}
}

func TestPathsThatSomeSystemTakesForOne(t *testing.T) {
	for _, c := range []struct {
		paths []string
		clash bool
	}{
		{[]string{"a", "b", "a/"}, false}, {[]string{"tex/A.png", "tex/a.png"}, true},
		{[]string{"Tex/a", "tex/b"}, true},
		{[]string{"a", "a/b"}, true}, {[]string{"STRASSE", "straße"}, true},
		{[]string{"tex/a", "tex/b", "tex/c/d"}, false},
		{[]string{"x", "x"}, true},
	} {
		paths := c.paths
		if paths[len(paths)-1] == "a/" {
			paths = paths[:2]
		}
		if a, b := Clash(paths); (a != "") != c.clash {
			t.Errorf("%q: %q and %q", c.paths, a, b)
		}
	}
}

// TestEachSystemSpellsAndReads writes random paths as every system does, and reads them
// again.
func TestEachSystemSpellsAndReads(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	letters := []rune("abcXYZ019._- äß")
	roots := map[string][]string{
		"linux": {"/srv/scenes", "/", "/srv/scenes/"}, "darwin": {"/Volumes/Scenes"},
		"windows": {`P:\scenes`, `\\filer\scenes\`, `P:/scenes`},
	}
	checked := 0
	for range 20000 {
		var names []string
		for range 1 + r.IntN(4) {
			var name strings.Builder
			for range 1 + r.IntN(8) {
				name.WriteRune(letters[r.IntN(len(letters))])
			}
			names = append(names, name.String())
		}
		path := strings.Join(names, "/")
		if Check(path) != nil {
			continue
		}
		checked++
		for os, all := range roots {
			for _, root := range all {
				spelled := Spell(os, root, path)
				if got, inside := Relative(os, root, spelled); !inside || got != path {
					t.Fatalf("%s: %q below %q is %q, and read %q, %v", os, path, root, spelled, got, inside)
				}
				if os == "windows" && strings.Contains(strings.TrimPrefix(spelled, root), "/") {
					t.Fatalf("%q on Windows", spelled)
				}
			}
		}
	}
	if checked < 5000 {
		t.Errorf("only %d paths were good", checked)
	}
	for _, c := range []struct{ os, root, spelled string }{
		{"linux", "/srv/scenes", "/srv/scenes"}, {"linux", "/srv/scenes", "/srv/scenes2/a"},
		{"linux", "/srv/scenes", "/SRV/scenes/a"}, {"windows", `P:\scenes`, `Q:\scenes\a`},
		{"linux", "/srv/scenes", "/srv/scenes/../a"}, {"darwin", "/Volumes/S", "/Volumes/T/a"},
	} {
		if got, inside := Relative(c.os, c.root, c.spelled); inside {
			t.Errorf("%+v is inside: %q", c, got)
		}
	}
	if got, inside := Relative("windows", `P:\Scenes`, `p:\scenes\Tex\a.png`); !inside || got != "Tex/a.png" {
		t.Errorf("capitals on Windows: %q, %v", got, inside)
	}
}
