package publish

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestAnEmptyMountPointIsNotThePlace takes the storage away and leaves the
// folder on which it was mounted.
func TestAnEmptyMountPointIsNotThePlace(t *testing.T) {
	dir := t.TempDir()
	place := filepath.Join(dir, "frames")
	source := filepath.Join(dir, "staged")
	if err := errors.Join(os.Mkdir(place, 0o755), os.WriteFile(source, []byte("picture"), 0o644)); err != nil {
		t.Fatal(err)
	}
	const farm = "6d1f3a90-farm"
	mark, err := MarkPlace(place, farm)
	if err != nil {
		t.Fatal(err)
	}
	if again, err := MarkPlace(place, farm); again != mark || err != nil {
		t.Errorf("marked again: %q, %v", again, err)
	}
	if other, err := MarkPlace(place, "another-farm"); other == mark || err != nil {
		t.Errorf("two farms have the mark %q, %v", other, err)
	}
	to := one(place, "a/final-1", "a.0001.png", hashOf(t, source), 3)
	to.Mark = mark
	if _, err := Copy([]string{source}, to); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(os.Rename(place, place+".away"), os.Mkdir(place, 0o755)); err != nil {
		t.Fatal(err)
	}
	for what, err := range map[string]error{
		"copying": func() error { _, err := Copy([]string{source}, to); return err }(),
		"sending": func() error { _, _, err := Have(to, 0); return err }(),
	} {
		if !errors.Is(err, ErrNoPlace) || !strings.Contains(err.Error(), "look whether it is mounted") {
			t.Errorf("%s into an empty mount point: %v", what, err)
		}
	}
	if names := list(t, place); len(names) != 0 {
		t.Errorf("left in the mount point: %v", names)
	}
	if _, err := MarkPlace(filepath.Join(dir, "gone"), farm); !errors.Is(err, ErrNoPlace) {
		t.Errorf("marking a place that is gone: %v", err)
	}
}
