package bundle

import (
	"bytes"
	"encoding/hex"
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"lukechampine.com/blake3"
)

// TestAContentIsNamedByItsBLAKE3 compares with the library's own hash, for sizes about all
// borders of chunks and pieces.
func TestAContentIsNamedByItsBLAKE3(t *testing.T) {
	if HashOf(nil) != "af1349b9f5f9a1a6a0404dea36dcc9499bcb25c9adc112b7cc9a93cae41f3262" {
		t.Fatalf("the hash of nothing is %s", HashOf(nil))
	}
	sizes := []int{0, 1, 63, 64, 65, 1023, 1024, 1025, 16 << 10, 16<<10 + 1, 1<<20 - 1, 1 << 20, 1<<20 + 1, 2 << 20, 5<<20 + 7}
	for range 20 {
		sizes = append(sizes, rand.IntN(9<<20))
	}
	for _, size := range sizes {
		data := random(uint64(size), size)
		want := blake3.Sum256(data)
		c, err := ReadContent(bytes.NewReader(data))
		if err != nil || c.Hash != hex.EncodeToString(want[:]) || c.Hash != HashOf(data) {
			t.Fatalf("%d bytes: %s, %v", size, c.Hash, err)
		}
		if err := c.check(); err != nil {
			t.Fatalf("%d bytes: %v", size, err)
		}
		for i := range c.Count() {
			offset, length := c.Range(i)
			if !c.PieceIs(i, data[offset:offset+length]) {
				t.Errorf("%d bytes: piece %d is not its own", size, i)
			}
		}
	}
}

// TestNobodyGivesAContentOtherPieces takes the hash of somebody's file and names other pieces
// for it, in every way that fits its size.
func TestNobodyGivesAContentOtherPieces(t *testing.T) {
	theirs, mine := random(1, 3<<20), random(2, 3<<20)
	good, err := ReadContent(bytes.NewReader(theirs))
	if err != nil {
		t.Fatal(err)
	}
	bad, err := ReadContent(bytes.NewReader(mine))
	if err != nil {
		t.Fatal(err)
	}
	claim := func(pieces []string) Content { return Content{good.Hash, good.Size, good.Piece, pieces} }
	swapped := slices.Clone(good.Pieces)
	swapped[0], swapped[2] = swapped[2], swapped[0]
	for what, c := range map[string]Content{
		"pieces of another file": claim(bad.Pieces),
		"one of another file":    claim([]string{bad.Pieces[0], good.Pieces[1], good.Pieces[2]}),
		"in another order":       claim(swapped),
		"one three times":        claim([]string{good.Pieces[0], good.Pieces[0], good.Pieces[0]}),
		"larger pieces":          {good.Hash, good.Size, 2 << 20, good.Pieces[:2]},
		"one piece":              {good.Hash, 100, 0, nil},
	} {
		m := &Manifest{Format: Format, Scene: "a", Files: []File{{Path: "a", Content: c}}}
		_, err := Read(m.Encode())
		if what == "one piece" { // it cannot be told from its name, and no data ever fit
			if err != nil || c.PieceIs(0, theirs[:100]) || c.PieceIs(0, mine[:100]) {
				t.Errorf("%s: %v", what, err)
			}
			continue
		}
		if err == nil {
			t.Errorf("%s: the manifest is taken", what)
		}
	}
	if good.PieceIs(1, theirs[:1<<20]) {
		t.Error("a piece counts in another place")
	}
	if good.PieceIs(-1, nil) || good.PieceIs(3, theirs[:1<<20]) {
		t.Error("a piece that does not exist counts")
	}
}

// TestOneOwnerLearnsNothingOfAnother sends the same content for two owners, and asks for a
// third what is missing.
func TestOneOwnerLearnsNothingOfAnother(t *testing.T) {
	dir := t.TempDir()
	s, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	data := random(3, 2<<20+5)
	c, err := ReadContent(bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	m := &Manifest{Format: Format, Scene: "a", Files: []File{{Path: "a", Content: c}}}
	send := func(owner string) {
		t.Helper()
		o := s.For(owner)
		if err := o.Put(m); err != nil {
			t.Fatal(err)
		}
		missing, err := o.Missing(t.Context(), m)
		if err != nil || len(missing[c.Hash]) != c.Count() {
			t.Fatalf("%s has to send %v of %d pieces, %v", owner, missing, c.Count(), err)
		}
		for i := range c.Count() {
			offset, length := c.Range(i)
			if err := o.PutPiece(c, i, data[offset:offset+length]); err != nil {
				t.Fatal(err)
			}
		}
		if missing, err = o.Missing(t.Context(), m); err != nil || len(missing) > 0 {
			t.Fatalf("%s has sent everything, and %v are missing, %v", owner, missing, err)
		}
	}
	send("salt-clock")
	other := s.For("gannet")
	if other.Has(c) || other.HasBundle(m.ID()) || !s.Has(c) {
		t.Error("another owner sees what was sent")
	}
	if _, err := other.Manifest(m.ID()); !errors.Is(err, ErrNotHere) {
		t.Errorf("another owner reads the manifest: %v", err)
	}
	send("gannet")
	if u := other.Usage(); u.Bytes != c.Size || u.Uploads != 0 || u.Bundles != 1 {
		t.Errorf("used are %+v", u)
	}
	files, err := filepath.Glob(filepath.Join(dir, "contents", "*", c.Hash))
	if err != nil || len(files) != 1 {
		t.Errorf("it is kept as %v", files)
	}
	s.Drop(c.Hash)
	if u := other.Usage(); u.Bytes != 0 {
		t.Errorf("when it is gone, used are %+v", u)
	}
}

// TestWhatARendererHasChangedIsSeen changes a cached content as a renderer under the account
// of the node process could, and lays the bundle out again.
func TestWhatARendererHasChangedIsSeen(t *testing.T) {
	s, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	data := random(4, 2<<20)
	c, err := ReadContent(bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	m := &Manifest{Format: Format, Scene: "a", Files: []File{{Path: "a", Content: c}}}
	fill := func() {
		for i := range c.Count() {
			offset, length := c.Range(i)
			if err := s.PutPiece(c, i, data[offset:offset+length]); err != nil {
				t.Fatal(err)
			}
		}
	}
	fill()
	folder := t.TempDir()
	if err := s.Lay(m, folder, false); err != nil {
		t.Fatal(err)
	}
	laid := filepath.Join(folder, "a")
	if sameFile(laid, s.Path(c.Hash)) {
		t.Error("a file that can be written to is shared")
	}
	if err := os.Chmod(laid, 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(laid, []byte("changed"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := s.Lay(m, folder, false); err != nil {
		t.Fatal(err)
	}
	if got, err := os.ReadFile(laid); err != nil || !bytes.Equal(got, data) {
		t.Error("a later launch has what an earlier one changed")
	}
	spoilt := bytes.Clone(data)
	spoilt[1<<20+17] ^= 1
	if err := os.Chmod(s.Path(c.Hash), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(s.Path(c.Hash), spoilt, 0o444); err != nil {
		t.Fatal(err)
	}
	if err := s.Lay(m, t.TempDir(), true); !errors.Is(err, ErrNotHere) || s.Has(c) {
		t.Errorf("a content that was changed is laid out: %v", err)
	}
	fill()
	if err := s.Lay(m, t.TempDir(), true); err != nil {
		t.Errorf("after it was got again: %v", err)
	}
}

func TestABundleTakesNoNamesThatDeceive(t *testing.T) {
	one := Content{Hash: HashOf([]byte("a")), Size: 1}
	for says, names := range map[string][]string{
		"for one":   {"caf\u00e9.png", "cafe\u0301.png"},
		"invisible": {"a\u202Egnp.exe"},
		"sible":     {"a\u200b.png"},
	} {
		m := &Manifest{Format: Format, Scene: names[0]}
		slices.Sort(names)
		for _, name := range names {
			m.Files = append(m.Files, File{Path: name, Content: one})
		}
		if _, err := Read(m.Encode()); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", names, err)
		}
	}
}
