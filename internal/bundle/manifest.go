// Package bundle holds scenes with all that they need, by content: what a bundle is
// made of, how it is gathered from a folder, and how its contents are kept and
// completed piece by piece. It knows no network and no farm.
package bundle

import (
	"bytes"
	_ "embed"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"vexillum/internal/core/paths"
)

// Schema is the JSON Schema of manifests.
//
//go:embed manifest.schema.json
var Schema []byte

// Manifest names all files of a bundle. Its form is that of docs/bundles.md.
type Manifest struct {
	Format int    `json:"bundle"` // version of the form: [Format]
	Scene  string `json:"scene"`  // path of the scene among the files
	Files  []File `json:"files"`  // in the order of their paths
}

// Format is the version of the form of manifests.
const Format = 2

// File is one file of a bundle.
type File struct {
	Path       string `json:"path"` // below the bundle's folder, with slashes
	Executable bool   `json:"executable,omitempty"`
	Cache      bool   `json:"cache,omitempty"` // of a simulation
	Content
}

// Content is what stands in a file, and how it travels.
type Content struct {
	Hash  string `json:"hash"`            // BLAKE3 of all of it, in hexadecimal
	Size  int64  `json:"size"`            // bytes
	Piece int64  `json:"piece,omitempty"` // bytes of a piece, as [PieceSize] says; 0: it is one piece
	// chaining values of the subtrees that the pieces are, of which Hash follows; none where it is one
	Pieces []string `json:"pieces,omitempty"`
}

// Bounds of a bundle.
const (
	// LeastPiece and MostPiece bound the size of a piece in bytes.
	LeastPiece = 1 << 20
	MostPiece  = 64 << 20
	mostPieces = 4096 // of one content, where pieces can be larger
	mostFiles  = 200_000
	// MostManifest bounds a manifest in bytes.
	MostManifest = 128 << 20
)

// PieceSize returns the size of the pieces of a content of this size.
func PieceSize(size int64) int64 {
	piece := int64(LeastPiece)
	for piece < MostPiece && size > piece*mostPieces {
		piece *= 2
	}
	return piece
}

// Count returns how many pieces a content has: at least one.
func (c Content) Count() int { return max(1, len(c.Pieces)) }

// PieceHash returns the hash of a piece.
func (c Content) PieceHash(i int) string {
	if len(c.Pieces) == 0 {
		return c.Hash
	}
	return c.Pieces[i]
}

// PieceIs reports whether data are that piece of the content; an index out of range is no piece.
func (c Content) PieceIs(i int, data []byte) bool {
	return i >= 0 && i < c.Count() && c.pieceIs(i, data)
}

// Range returns where a piece lies in its content.
func (c Content) Range(i int) (offset, length int64) {
	if len(c.Pieces) == 0 {
		return 0, c.Size
	}
	offset = int64(i) * c.Piece
	return offset, min(c.Piece, c.Size-offset)
}

func (c Content) check() error {
	switch {
	case !isHash(c.Hash):
		return fmt.Errorf("%.80q is no BLAKE3 hash", c.Hash)
	case c.Size < 0:
		return errors.New("it has less than no bytes")
	case len(c.Pieces) == 0 && c.Size > LeastPiece:
		return fmt.Errorf("it has %d bytes and no pieces", c.Size)
	case len(c.Pieces) == 0:
		return nil
	case c.Piece != PieceSize(c.Size):
		return fmt.Errorf("its pieces have %d bytes; those of %d bytes have %d", c.Piece, c.Size, PieceSize(c.Size))
	case len(c.Pieces) == 1:
		return errors.New("it is one piece, and names it twice")
	case int64(len(c.Pieces)) != (c.Size+c.Piece-1)/c.Piece:
		return fmt.Errorf("%d bytes are not %d pieces of %d", c.Size, len(c.Pieces), c.Piece)
	}
	if i := slices.IndexFunc(c.Pieces, func(h string) bool { return !isHash(h) }); i >= 0 {
		return fmt.Errorf("%.80q is no BLAKE3 hash", c.Pieces[i])
	}
	if rootOf(c.Pieces) != c.Hash {
		return fmt.Errorf("the content %.12s does not have these pieces", c.Hash)
	}
	return nil
}

func isHash(text string) bool {
	raw, err := hex.DecodeString(text)
	return err == nil && len(raw) == hashSize && strings.ToLower(text) == text
}

// Check says why a manifest cannot be: paths that lead outside, that some system
// takes for one, or contents that do not fit together.
func (m *Manifest) Check() error {
	if m.Format != Format {
		return fmt.Errorf("the manifest is of form %d, and this program knows form %d; send it again", m.Format, Format)
	}
	if len(m.Files) == 0 || len(m.Files) > mostFiles {
		return fmt.Errorf("a bundle has 1 to %d files, not %d", mostFiles, len(m.Files))
	}
	all := make([]string, 0, len(m.Files))
	known := map[string]Content{}
	scene := false
	for i, f := range m.Files {
		if err := paths.Check(f.Path); err != nil {
			return err
		}
		if i > 0 && f.Path < m.Files[i-1].Path {
			return fmt.Errorf("%s does not stand in its order", f.Path)
		}
		if err := f.check(); err != nil {
			return fmt.Errorf("%s: %w", f.Path, err)
		}
		if other, twice := known[f.Hash]; twice && (other.Size != f.Size || !slices.Equal(other.Pieces, f.Pieces)) {
			return fmt.Errorf("%s: another file has the same hash and is not the same", f.Path)
		}
		known[f.Hash] = f.Content
		scene = scene || f.Path == m.Scene
		all = append(all, f.Path)
	}
	if !scene {
		return fmt.Errorf("the scene %q is not among the files", m.Scene)
	}
	if a, b := paths.Clash(all); a != "" {
		return fmt.Errorf("some systems take %s and %s for one; give one of them another name", a, b)
	}
	return nil
}

// Encode writes the manifest in the one way of which [Manifest.ID] is the hash.
func (m *Manifest) Encode() []byte {
	data, err := json.Marshal(m)
	if err != nil { // it holds nothing that JSON cannot
		panic(err)
	}
	return data
}

// ID names the bundle: another scene, path or content gives another.
func (m *Manifest) ID() string { return HashOf(m.Encode()) }

// Read reads a manifest and checks it.
func Read(data []byte) (*Manifest, error) {
	d := json.NewDecoder(bytes.NewReader(data))
	d.DisallowUnknownFields()
	var m Manifest
	if err := d.Decode(&m); err != nil {
		return nil, fmt.Errorf("the manifest cannot be read: %w", err)
	}
	return &m, m.Check()
}

// Bytes returns how many bytes the files have, each content once.
func (m *Manifest) Bytes() (all int64) {
	for _, c := range m.Contents() {
		all += c.Size
	}
	return all
}

// New returns how many bytes of a bundle somebody lacks who has all of another.
func (m *Manifest) New(other *Manifest) (bytes int64) {
	has := map[string]bool{}
	for _, p := range other.pieces() {
		has[p.PieceHash(p.i)] = true
	}
	for _, p := range m.pieces() {
		if !has[p.PieceHash(p.i)] {
			_, length := p.Range(p.i)
			bytes += length
		}
	}
	return bytes
}

// Contents returns each content once, in the order of files.
func (m *Manifest) Contents() (out []Content) {
	seen := map[string]bool{}
	for _, f := range m.Files {
		if !seen[f.Hash] {
			seen[f.Hash] = true
			out = append(out, f.Content)
		}
	}
	return out
}

// Find returns the content of a path.
func (m *Manifest) Find(path string) (Content, bool) {
	i := slices.IndexFunc(m.Files, func(f File) bool { return f.Path == path })
	if i < 0 {
		return Content{}, false
	}
	return m.Files[i].Content, true
}
