package node

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"

	"vexillum/internal/publish"
	"vexillum/internal/wire"
)

// TestWhatANodeSeesOfPlaces looks at places in every state, and twice at one that is
// as it should be.
func TestWhatANodeSeesOfPlaces(t *testing.T) {
	const life = "0123456789abcdef"
	dir := t.TempDir()
	place := func(name string, files ...string) string {
		t.Helper()
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Join(path, "shots"), 0o755); err != nil {
			t.Fatal(err)
		}
		if len(files) == 0 {
			_ = os.Remove(filepath.Join(path, "shots"))
		}
		for _, file := range files {
			if err := os.WriteFile(filepath.Join(path, file), make([]byte, 200<<10), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		return path
	}
	marked := place("marked", "shots/vase.glass")
	if _, err := publish.MarkPlace(marked, life); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		path           string
		reads, writes  bool
		says           string
		canRead, write bool
	}{
		{marked, true, true, "", true, true},
		{place("unmarked", "shots/vase.glass"), true, true, "has no mark of this farm", true, false},
		{place("empty"), true, false, "is empty, so it may be a mount point without its storage", false, false},
		{filepath.Join(dir, "none"), true, false, "there is no folder", false, false},
		{filepath.Join(marked, "shots/vase.glass"), true, false, "cannot be read", false, false},
		{"", true, true, "has no path on this system", false, false},
	} {
		l := placeEye{"kiln-01", life, true}
		seen, fast := l.see(wire.NodePlace{Name: "scenes", Path: c.path, Reads: c.reads, Writes: c.writes}, rates{})
		if seen.Reads != c.canRead || seen.Writes != c.write || !strings.Contains(seen.Why, c.says) ||
			(c.says == "") != (seen.Why == "") {
			t.Errorf("%s: %+v, want it to say %q", c.path, seen, c.says)
		}
		if c.write && (seen.ReadRate == 0 || seen.WriteRate == 0) {
			t.Errorf("%s: no rates: %+v", c.path, seen)
		}
		again, same := l.see(wire.NodePlace{Name: "scenes", Path: c.path, Reads: c.reads, Writes: c.writes}, fast)
		if again != seen || same != fast {
			t.Errorf("%s: seen again it is %+v, before %+v", c.path, again, seen)
		}
	}
	entries, err := os.ReadDir(marked)
	if err != nil || len(entries) != 2 {
		t.Errorf("looking leaves %v, %v", entries, err)
	}
}

// TestAPlaceThatHangsIsLookedAtOnce lets the look at a storage hang: no second look is
// begun, and the first tells when it comes to its end.
func TestAPlaceThatHangsIsLookedAtOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		hung := make(chan sight, 1)
		place := wire.NodePlace{Name: "scenes", Path: "/mnt/scenes", Reads: true}
		w := &placeWatch{
			a: &Agent{}, measured: map[string]rates{}, under: map[wire.NodePlace]chan sight{place: hung},
		}
		for range 3 {
			if seen := w.look(t.Context(), place, false); !strings.Contains(seen.Why, "does not answer within") {
				t.Errorf("a place that hangs is seen as %+v", seen)
			}
		}
		if w.under[place] != hung {
			t.Error("another look was begun beside the one that hangs")
		}
		hung <- sight{seen: wire.PlaceSeen{Reads: true}, fast: rates{read: 7}}
		if seen := w.look(t.Context(), place, false); !seen.Reads || len(w.under) > 0 {
			t.Errorf("when it answers it is seen as %+v", seen)
		}
	})
}
