package bundle

import (
	"bytes"
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"
)

// random makes data that nothing else has.
func random(seed uint64, size int) []byte {
	out := make([]byte, size)
	_, _ = rand.NewChaCha8([32]byte{byte(seed)}).Read(out) // it never fails
	return out
}

func write(t *testing.T, dir, name string, data []byte) {
	t.Helper()
	path := filepath.Join(dir, name)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, data, 0o644); err != nil {
		t.Fatal(err)
	}
}

var includes = regexp.MustCompile(`(\w+) "([^"]+)"`)

// find reads names of a made-up kind of scene.
func find(text []byte) (out []Reference) {
	for _, m := range includes.FindAllStringSubmatch(string(text), -1) {
		out = append(out, Reference{
			Name: m[2], Follow: m[1] == "include", Cache: m[1] == "cache", Optional: m[1] == "library",
		})
	}
	return out
}

func pathsOf(m *Manifest) (out []string) {
	for _, f := range m.Files {
		out = append(out, f.Path)
	}
	return out
}

func namesOf(all []Named) (out []string) {
	for _, n := range all {
		out = append(out, n.Name)
	}
	return out
}

func TestASceneIsGatheredWithAllThatItNeeds(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "shots/a.glass", []byte(`include "../lib/b.inc" image "tex/wood.png" image "gone.png"
		library "std.inc" image "../../secret.png" image "/etc/passwd" cache "sim/smoke.####.vdb"
		image "`+dir+`/tex/sky.png" image "link.png"
		image "tex\stone.png"`))
	write(t, dir, "lib/b.inc", []byte(`image "metal.png" include "../shots/a.glass"`))
	for _, name := range []string{"shots/tex/wood.png", "tex/sky.png", "lib/metal.png", "shots/tex/stone.png",
		"extra/one.lut", "extra/two.lut"} {
		write(t, dir, name, []byte(name))
	}
	for _, frame := range []string{"0001", "0002", "1", "000x"} {
		write(t, dir, "shots/sim/smoke."+frame+".vdb", []byte("smoke "+frame))
	}
	if err := os.Symlink("/etc/hostname", filepath.Join(dir, "shots/link.png")); err != nil {
		t.Fatal(err)
	}
	got, err := Gather(t.Context(), Gathering{
		Folder: dir, Scene: "shots/a.glass", Find: find, More: []Reference{{Name: "extra/*.lut"}, {Name: "none*.lut"}},
	})
	if err != nil {
		t.Fatal(err)
	}
	want := []string{
		"extra/one.lut", "extra/two.lut", "lib/b.inc", "lib/metal.png", "shots/a.glass", "shots/sim/smoke.0001.vdb",
		"shots/sim/smoke.0002.vdb", "shots/tex/stone.png", "shots/tex/wood.png", "tex/sky.png",
	}
	if paths := pathsOf(got.Manifest); !slices.Equal(paths, want) {
		t.Errorf("along go %q, want %q", paths, want)
	}
	if !got.Manifest.Files[5].Cache || got.Manifest.Files[7].Cache {
		t.Error("the cache is not told apart")
	}
	if names := namesOf(got.Missing); !slices.Equal(names, []string{"gone.png", "none*.lut"}) {
		t.Errorf("missing: %q", names)
	}
	if names := namesOf(got.Outside); !slices.Equal(names, []string{"../../secret.png", "/etc/passwd", "link.png"}) {
		t.Errorf("outside: %q", names)
	}
	if names := namesOf(got.Elsewhere); !slices.Equal(names, []string{"std.inc"}) {
		t.Errorf("elsewhere: %q", names)
	}
	if _, err := Gather(t.Context(), Gathering{Folder: dir, Scene: "none.glass"}); err == nil {
		t.Error("a scene that is not there")
	}
}

func TestManifestsThatCannotBe(t *testing.T) {
	one := Content{Hash: HashOf([]byte("a")), Size: 1}
	good := func() *Manifest {
		return &Manifest{Format: Format, Scene: "a", Files: []File{{Path: "a", Content: one}, {Path: "b", Content: one}}}
	}
	if m, err := Read(good().Encode()); err != nil || m.ID() != good().ID() {
		t.Fatal(err)
	}
	content := func(hash string, size, piece int64, pieces ...string) func(m *Manifest) {
		return func(m *Manifest) { m.Files[1].Content = Content{hash, size, piece, pieces} }
	}
	for name, change := range map[string]func(m *Manifest){
		"leads elsewhere":             func(m *Manifest) { m.Files[0].Path, m.Scene = "../a", "../a" },
		"for one":                     func(m *Manifest) { m.Files[1].Path = "a/b" },
		"not among the files":         func(m *Manifest) { m.Scene = "c" },
		"is no BLAKE3":                func(m *Manifest) { m.Files[1].Hash = "x" },
		"form 1":                      func(m *Manifest) { m.Format = 1 },
		"and no pieces":               content(HashOf(nil), 1<<30, 0),
		"names it twice":              content(HashOf(nil), 3<<20, 1<<20, HashOf(nil)),
		"are not 2 pieces":            content(HashOf(nil), 3<<20, 1<<20, HashOf(nil), HashOf(nil)),
		"its pieces have 7 bytes":     content(HashOf(nil), 7, 7, HashOf(nil)),
		"have 1048576":                content(HashOf(nil), 3<<20, 2<<20, HashOf(nil), HashOf(nil)),
		"does not have these pieces":  content(HashOf(nil), 2<<20, 1<<20, HashOf(nil), HashOf(nil)),
		"the same hash":               func(m *Manifest) { m.Files[1].Size = 2 },
		"does not stand in its order": func(m *Manifest) { m.Files[0].Path, m.Files[1].Path = "b", "a" },
		"1 to":                        func(m *Manifest) { m.Files = nil },
	} {
		m := good()
		change(m)
		if _, err := Read(m.Encode()); err == nil || !strings.Contains(err.Error(), name) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestContentsComeInAnyOrder puts pieces in at random, with rubbish and restarts between,
// and lays the files out.
// TestAStoreClosesNoFolderButItsOwn opens a store in a folder that is not there yet: others still get through.
func TestAStoreClosesNoFolderButItsOwn(t *testing.T) {
	data := filepath.Join(t.TempDir(), "lib", "vexillum")
	if _, err := Open(filepath.Join(data, "contents")); err != nil {
		t.Fatal(err)
	}
	for folder, want := range map[string]os.FileMode{data: 0o755, filepath.Join(data, "contents"): 0o700} {
		info, err := os.Stat(folder)
		if err != nil {
			t.Fatal(err)
		}
		if got := info.Mode().Perm(); got&0o111 != want&0o111 {
			t.Errorf("%s has the mode %o, want %o", folder, got, want)
		}
	}
}

func TestContentsComeInAnyOrder(t *testing.T) {
	source, dir := t.TempDir(), t.TempDir()
	big := random(1, 5<<20+12345)
	write(t, source, "a.glass", []byte(`image "big.bin" image "empty" image "twin.bin"`))
	write(t, source, "big.bin", big)
	write(t, source, "twin.bin", big)
	write(t, source, "empty", nil)
	g, err := Gather(t.Context(), Gathering{Folder: source, Scene: "a.glass", Find: find})
	if err != nil {
		t.Fatal(err)
	}
	m := g.Manifest
	s, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Put(m); err != nil {
		t.Fatal(err)
	}
	for round := 0; ; round++ {
		missing, err := s.Missing(t.Context(), m)
		if err != nil {
			t.Fatal(err)
		}
		if len(missing) == 0 {
			break
		}
		for _, c := range m.Contents() {
			left := missing[c.Hash]
			if len(left) == 0 {
				continue
			}
			i := left[len(left)/2]
			offset, length := c.Range(i)
			data := []byte(`image "big.bin" image "empty" image "twin.bin"`)
			if c.Size > 1<<20 {
				data = big[offset : offset+length]
			}
			if err := s.PutPiece(c, i, bytes.Repeat([]byte{7}, len(data))); !errors.Is(err, ErrWrongPiece) {
				t.Fatalf("rubbish was taken: %v", err)
			}
			if err := s.PutPiece(c, i, data); err != nil {
				t.Fatal(err)
			}
			if got, err := s.ReadPiece(c, i); err != nil || !bytes.Equal(got, data) {
				t.Fatalf("what was put is not there: %v", err)
			}
		}
		if s, err = Open(dir); err != nil { // as after a restart
			t.Fatal(err)
		}
		if round > 20 {
			t.Fatal("it does not come to an end")
		}
	}
	folder := filepath.Join(t.TempDir(), "scene")
	for range 2 {
		if err := s.Lay(m, folder, true); err != nil {
			t.Fatal(err)
		}
	}
	for name, want := range map[string][]byte{"big.bin": big, "twin.bin": big, "empty": {}} {
		if got, err := os.ReadFile(filepath.Join(folder, name)); err != nil || !bytes.Equal(got, want) {
			t.Errorf("%s: %d bytes, %v", name, len(got), err)
		}
	}
	c, _ := m.Find("big.bin")
	if err := os.Truncate(s.Path(c.Hash), 100); err != nil { // somebody spoils it
		t.Fatal(err)
	}
	if s.Has(c) {
		t.Error("a content that was cut off counts")
	}
	if missing, err := s.Missing(t.Context(), m); err != nil || len(missing[c.Hash]) != c.Count() {
		t.Errorf("missing %v, %v", missing, err)
	}
}

// TestAnotherVersionNeedsOnlyWhatIsNew changes a part of a large file.
func TestAnotherVersionNeedsOnlyWhatIsNew(t *testing.T) {
	source := t.TempDir()
	big := random(2, 32<<20)
	write(t, source, "a.glass", []byte(`image "big.bin"`))
	write(t, source, "big.bin", big)
	s, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	fill := func() (asked int64) {
		g, err := Gather(t.Context(), Gathering{Folder: source, Scene: "a.glass", Find: find})
		if err != nil {
			t.Fatal(err)
		}
		missing, err := s.Missing(t.Context(), g.Manifest)
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range g.Manifest.Contents() {
			for _, i := range missing[c.Hash] {
				offset, length := c.Range(i)
				data := big[min(offset, int64(len(big))):min(offset+length, int64(len(big)))]
				if c.Size < 100 {
					data = []byte(`image "big.bin"`)
				}
				if err := s.PutPiece(c, i, data); err != nil {
					t.Fatal(err)
				}
				asked += length
			}
		}
		if err := s.Put(g.Manifest); err != nil {
			t.Fatal(err)
		}
		return asked
	}
	first := fill()
	copy(big[20<<20:], random(3, len(big)/100))
	write(t, source, "big.bin", big)
	second := fill()
	t.Logf(
		"the first version took %d bytes, the second, of which 1 %% is new, %.2f %% of that", first,
		100*float64(second)/float64(first),
	)
	if second*100 > 7*first { // two pieces of 32
		t.Errorf("%d of %d bytes for a change of 1 %%", second, first)
	}
	if again := fill(); again != 0 {
		t.Errorf("%d bytes for what is there", again)
	}
}

var startOfTime = time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)

func TestWhatWasNotUsedForTheLongestGoesFirst(t *testing.T) {
	s, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	var all []Content
	for i := range 5 {
		data := random(uint64(i+10), 1000)
		c := Content{Hash: HashOf(data), Size: 1000}
		if err := s.PutPiece(c, 0, data); err != nil {
			t.Fatal(err)
		}
		when := startOfTime.AddDate(0, 0, i)
		if err := os.Chtimes(s.Path(c.Hash), when, when); err != nil {
			t.Fatal(err)
		}
		all = append(all, c)
	}
	left, err := s.Sweep(2500, func(hash string) bool { return hash == all[0].Hash })
	if err != nil || left != 2000 {
		t.Fatalf("%d bytes are left, %v", left, err)
	}
	for i, want := range []bool{true, false, false, false, true} {
		if s.Has(all[i]) != want {
			t.Errorf("content %d is there: %v", i, !want)
		}
	}
}
