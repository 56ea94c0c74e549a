package publish

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"vexillum/internal/core/farm"
)

func TestDelivery(t *testing.T) {
	dir := t.TempDir()
	source := filepath.Join(dir, "staged.png")
	if err := os.WriteFile(source, []byte("picture"), 0o644); err != nil {
		t.Fatal(err)
	}
	const hash = "c61d595888f85f6d30e99ef6cacfcb7d" // of some other file
	root := filepath.Join(dir, "frames")
	if err := os.Mkdir(root, 0o755); err != nil {
		t.Fatal(err)
	}
	to := func(hash string, adopt ...string) Target {
		target := one(root, "a/final-1", "a.0001.png", hash, 3, adopt...)
		target.Files[0].Bytes = int64(len("picture"))
		return target
	}
	_, err := Copy([]string{source}, to(hash))
	if err == nil || !strings.Contains(err.Error(), "no longer the one that was verified") {
		t.Fatalf("a staged file that changed: %v", err)
	}
	if names := list(t, filepath.Join(root, "a", "final-1")); len(names) != 0 {
		t.Errorf("it left %v", names)
	}
	good := hashOf(t, source)
	for range 2 { // delivered, and delivered again after a report that was lost
		if at, err := Copy([]string{source}, to(good)); err != nil || at.Hash != good || at.Bytes != 7 {
			t.Fatalf("%+v, %v", at, err)
		}
	}
	target := filepath.Join(root, "a", "final-1", "a.0001.png")
	if err := os.WriteFile(target, []byte("other"), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := Copy([]string{source}, to(good)); !errors.Is(err, ErrForeign) {
		t.Errorf("over a foreign file: %v", err)
	}
	other := hashOf(t, target)
	if at, err := Copy([]string{source}, to(good, other)); err != nil || at.Hash != other || at.Bytes != 5 {
		t.Errorf("a file that was accepted earlier: %+v, %v", at, err)
	}
	if data, _ := os.ReadFile(target); string(data) != "other" {
		t.Errorf("the file in place is %q now", data)
	}
	if names := list(t, filepath.Dir(target)); !slices.Equal(names, []string{"a.0001.png"}) {
		t.Errorf("left behind: %v", names)
	}
}

// TestDeliveryStaysInsideItsPlace lets the output folder be a link that leads
// out of the place.
func TestDeliveryStaysInsideItsPlace(t *testing.T) {
	dir := t.TempDir()
	source := filepath.Join(dir, "staged.png")
	root, outside := filepath.Join(dir, "frames"), filepath.Join(dir, "outside")
	for _, d := range []string{root, outside} {
		if err := os.Mkdir(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.WriteFile(source, []byte("picture"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(outside, filepath.Join(root, "a")); err != nil {
		t.Fatal(err)
	}
	for _, output := range []string{"a", "../outside", "a/final-1"} {
		if _, err := Copy([]string{source}, one(root, output, "x.png", hashOf(t, source), 1)); err == nil {
			t.Errorf("delivered through %s", output)
		}
	}
	if names := list(t, outside); len(names) != 0 {
		t.Errorf("outside of the place there is %v", names)
	}
}

// one is the target of a frame of one file.
func one(root, folder, name, hash string, lease int64, adopt ...string) Target {
	return Target{
		Root: root, Folder: folder, Lease: lease, Adopt: adopt,
		Files: []File{{File: farm.File{Hash: hash}, Name: name}},
	}
}

func hashOf(t *testing.T, path string) string {
	t.Helper()
	root, err := os.OpenRoot(filepath.Dir(path))
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	hash, _, err := hashIn(root, filepath.Base(path))
	if err != nil {
		t.Fatal(err)
	}
	return hash
}

func list(t *testing.T, dir string) []string {
	t.Helper()
	entries, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, e := range entries {
		names = append(names, e.Name())
	}
	return names
}

func TestAFrameIsSentInPieces(t *testing.T) {
	root := t.TempDir()
	whole := bytes.Repeat([]byte("salt clock "), 1000)
	sum := sha256.Sum256(whole)
	hash, size := hex.EncodeToString(sum[:]), int64(len(whole))
	to := one(root, "a/final-1", "a.0001.png", hash, 3)
	to.Files[0].Bytes = size
	have, at, err := Append(to, 0, 0, bytes.NewReader(whole[:4000]))
	if have != 4000 || at.Hash != "" || err != nil {
		t.Fatalf("the first piece: %d, %+v, %v", have, at, err)
	}
	var offset *OffsetError
	if _, _, err := Append(to, 0, 0, bytes.NewReader(whole[:4000])); !errors.As(err, &offset) || offset.Have != 4000 {
		t.Errorf("the first piece again: %v", err)
	}
	if have, _, err := Have(to, 0); have != 4000 || err != nil {
		t.Errorf("there are %d bytes, %v", have, err)
	}
	if names := list(t, filepath.Join(root, "a/final-1")); slices.Contains(names, "a.0001.png") {
		t.Error("half a frame stands in its place")
	}
	// A piece that tells more than the whole is cut off there.
	have, at, err = Append(to, 0, 4000, bytes.NewReader(append(whole[4000:len(whole):len(whole)], "more"...)))
	if have != size || at.Hash != hash || err != nil {
		t.Fatalf("the last piece: %d, %+v, %v", have, at, err)
	}
	if data, err := os.ReadFile(filepath.Join(root, "a/final-1/a.0001.png")); err != nil || !bytes.Equal(data, whole) {
		t.Errorf("%d bytes stand in its place, %v", len(data), err)
	}
	if _, at, err := Have(to, 0); at.Hash != hash || at.Bytes != size || err != nil {
		t.Errorf("asked again: %+v, %v", at, err)
	}
	if _, at, err := Append(to, 0, 0, strings.NewReader("late")); at.Hash != hash || err != nil {
		t.Errorf("sent again: %+v, %v", at, err)
	}

	other := one(root, "a/final-1", "a.0002.png", hash, 4)
	other.Files[0].Bytes = 5
	if _, _, err := Append(other, 0, 0, strings.NewReader("wrong")); !errors.Is(err, ErrHash) {
		t.Errorf("another file than accepted: %v", err)
	}
	if have, _, err := Have(other, 0); have != 0 || err != nil {
		t.Errorf("of a wrong file %d bytes are kept, %v", have, err)
	}
	foreign := one(root, "a/final-1", "a.0001.png", strings.Repeat("0", 64), 5)
	if _, _, err := Append(foreign, 0, 0, strings.NewReader("wrong")); !errors.Is(err, ErrForeign) {
		t.Errorf("over another file: %v", err)
	}
	gone := to
	gone.Root = filepath.Join(root, "unmounted")
	if _, _, err := Have(gone, 0); !errors.Is(err, ErrNoPlace) {
		t.Errorf("a place that is gone: %v", err)
	}
	if names := list(t, filepath.Join(root, "a/final-1")); !slices.Equal(names, []string{"a.0001.png"}) {
		t.Errorf("left behind: %v", names)
	}
}

func TestSweepTakesPartsAlone(t *testing.T) {
	root := t.TempDir()
	folder := filepath.Join(root, "a", "final-1")
	if err := os.MkdirAll(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	keep := []string{".a.0001.png.part", ".part", "a.0001.png", "a.0002.png.lease-3.part", "notes.part"}
	for _, name := range append([]string{".a.0001.png.lease-3.part", ".a.0002.png.lease-44.part", ".a.0002.png.passes"}, keep...) {
		if err := os.WriteFile(filepath.Join(folder, name), []byte("x"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := Sweep(root, "a/final-1"); err != nil {
		t.Fatal(err)
	}
	if names := list(t, folder); !slices.Equal(names, keep) {
		t.Errorf("left: %v", names)
	}
	if err := Sweep(root, "never/was"); err != nil {
		t.Errorf("a folder that never was: %v", err)
	}
	if err := Sweep(filepath.Join(root, "gone"), "a"); !errors.Is(err, ErrNoPlace) {
		t.Errorf("a place that is gone: %v", err)
	}
}
