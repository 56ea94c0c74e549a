package bundle

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
)

// Store keeps contents in a folder, each once, and those that are on their way. Its
// methods may be called at any time.
type Store struct {
	dir      string
	trusting bool // manifests were checked by who gave them: that all pieces are right is enough

	mu     sync.Mutex
	coming map[string]*coming // by hash
	pieces map[string]place   // where a piece of this hash is known to stand
	known  map[string]bool    // bundles whose pieces are in the list
}

// coming is a content that is not whole yet.
type coming struct {
	Content
	mu   sync.Mutex
	have []bool
	left int
}

// place is a piece of a content that is whole.
type place struct {
	hash           string
	offset, length int64
}

// ErrWrongPiece says that a piece is not what its hash says.
var ErrWrongPiece = errors.New("the piece is not what its hash says")

// ErrNotHere says that a content or bundle is not in the store.
var ErrNotHere = errors.New("it is not here")

// Trusting lets the store believe what manifests say of whole contents, once each
// piece is right.
func (s *Store) Trusting() *Store {
	s.trusting = true
	return s
}

// Open opens a store; its folder is made if it is not there.
func Open(dir string) (*Store, error) {
	for _, name := range []string{"contents", "coming", "bundles"} {
		if err := os.MkdirAll(filepath.Join(dir, name), 0o755); err != nil {
			return nil, fmt.Errorf("making the folder of contents: %w", err)
		}
	}
	return &Store{dir: dir, coming: map[string]*coming{}, pieces: map[string]place{}, known: map[string]bool{}}, nil
}

// Path returns where a content stands, or would.
func (s *Store) Path(hash string) string { return filepath.Join(s.dir, "contents", hash[:2], hash) }

func (s *Store) partPath(hash string) string { return filepath.Join(s.dir, "coming", hash+".part") }
func (s *Store) bundlePath(id string) string { return filepath.Join(s.dir, "bundles", id+".json") }

// Has reports whether a content is here, whole.
func (s *Store) Has(c Content) bool {
	info, err := os.Lstat(s.Path(c.Hash))
	return err == nil && info.Mode().IsRegular() && info.Size() == c.Size
}

// Put keeps a manifest, so that its bundle is known by its name.
func (s *Store) Put(m *Manifest) error {
	id := m.ID()
	path := s.bundlePath(id)
	if _, err := os.Stat(path); err == nil {
		return s.touch(path)
	}
	if err := writeWhole(path, m.Encode()); err != nil {
		return fmt.Errorf("keeping the manifest: %w", err)
	}
	return nil
}

// Manifest returns a bundle by its name. It is ErrNotHere where it is not known.
func (s *Store) Manifest(id string) (*Manifest, error) {
	if !isHash(id) {
		return nil, fmt.Errorf("%.80q names no bundle: %w", id, ErrNotHere)
	}
	data, err := os.ReadFile(s.bundlePath(id))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("the bundle %.12s: %w", id, ErrNotHere)
	}
	if err != nil {
		return nil, fmt.Errorf("reading a manifest: %w", err)
	}
	m, err := Read(data)
	if err == nil && m.ID() != id {
		err = errors.New("it was changed on the disk")
	}
	if err != nil {
		return nil, fmt.Errorf("the bundle %.12s: %w", id, err)
	}
	return m, nil
}

// learn notes where the pieces of all bundles stand whose contents are here, so that
// another version of a file needs only what is new in it.
func (s *Store) learn() {
	entries, err := os.ReadDir(filepath.Join(s.dir, "bundles"))
	if err != nil {
		return
	}
	for _, e := range entries {
		id := strings.TrimSuffix(e.Name(), ".json")
		s.mu.Lock()
		known := s.known[id]
		s.mu.Unlock()
		if known {
			continue
		}
		m, err := s.Manifest(id)
		if err != nil {
			continue
		}
		whole := true
		for _, c := range m.Contents() {
			if !s.Has(c) {
				whole = false
				continue
			}
			s.mu.Lock()
			for i := range c.Count() {
				offset, length := c.Range(i)
				s.pieces[c.PieceHash(i)] = place{c.Hash, offset, length}
			}
			s.mu.Unlock()
		}
		s.mu.Lock()
		s.known[id] = whole
		s.mu.Unlock()
	}
}

// Missing returns which pieces of each content of a bundle are not here, after taking
// those over that other contents have. Contents that are here whole are left out.
func (s *Store) Missing(m *Manifest) (map[string][]int, error) {
	s.learn()
	out := map[string][]int{}
	for _, c := range m.Contents() {
		left, err := s.missingOf(c)
		if err != nil {
			return nil, err
		}
		if len(left) > 0 {
			out[c.Hash] = left
		}
	}
	return out, nil
}

func (s *Store) missingOf(c Content) ([]int, error) {
	if s.Has(c) {
		return nil, s.touch(s.Path(c.Hash))
	}
	if c.Size == 0 {
		return nil, s.PutPiece(c, 0, nil)
	}
	in, err := s.open(c)
	if err != nil {
		return nil, err
	}
	for i := range c.Count() {
		if in.has(i) {
			continue
		}
		if data, ok := s.pieceOf(c.PieceHash(i)); ok {
			if err := s.PutPiece(c, i, data); err != nil && !errors.Is(err, ErrWrongPiece) {
				return nil, err
			}
		}
	}
	return in.missing(), nil
}

// pieceOf reads a piece that stands in another content.
func (s *Store) pieceOf(hash string) ([]byte, bool) {
	s.mu.Lock()
	at, known := s.pieces[hash]
	s.mu.Unlock()
	if !known {
		return nil, false
	}
	data, err := readAt(s.Path(at.hash), at.offset, at.length)
	return data, err == nil && HashOf(data) == hash
}

func (c *coming) has(i int) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.have[i]
}

func (c *coming) missing() (out []int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for i, has := range c.have {
		if !has {
			out = append(out, i)
		}
	}
	return out
}

// open returns the state of a content that is on its way. What an earlier process had
// of it is looked at again: only pieces whose hash is right count.
func (s *Store) open(c Content) (*coming, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if in := s.coming[c.Hash]; in != nil {
		return in, nil
	}
	in := &coming{Content: c, have: make([]bool, c.Count()), left: c.Count()}
	path := s.partPath(c.Hash)
	if _, err := os.Stat(path); err == nil {
		for i := range in.have {
			offset, length := c.Range(i)
			data, err := readAt(path, offset, length)
			if err == nil && HashOf(data) == c.PieceHash(i) {
				in.have[i] = true
				in.left--
			}
		}
	}
	s.coming[c.Hash] = in
	return in, nil
}

// PutPiece takes in one piece of a content. With the last the content is whole. A
// piece that is there already is taken for granted; ErrWrongPiece says that the data
// are not those of the piece.
func (s *Store) PutPiece(c Content, i int, data []byte) error {
	if s.Has(c) {
		return nil
	}
	if _, length := c.Range(i); int64(len(data)) != length || HashOf(data) != c.PieceHash(i) {
		return ErrWrongPiece
	}
	in, err := s.open(c)
	if err != nil {
		return err
	}
	in.mu.Lock()
	defer in.mu.Unlock()
	if !in.have[i] {
		offset, _ := c.Range(i)
		if err := writeAt(s.partPath(c.Hash), offset, data); err != nil {
			return fmt.Errorf("keeping a piece: %w", err)
		}
		in.have[i] = true
		in.left--
	}
	if in.left > 0 {
		return nil
	}
	return s.finish(in)
}

// finish gives a content that has all its pieces its name.
func (s *Store) finish(in *coming) error {
	part := s.partPath(in.Hash)
	file, err := os.OpenFile(part, os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return fmt.Errorf("opening what has come: %w", err)
	}
	defer file.Close()
	hash := in.Hash
	if !s.trusting {
		if hash, err = hashWhole(file); err == nil {
			err = file.Sync()
		}
	}
	if err == nil && in.Size == 0 {
		hash = HashOf(nil)
	}
	if err != nil {
		return fmt.Errorf("looking at what has come: %w", err)
	}
	if hash != in.Hash { // the pieces are right and the whole is not: the manifest lies
		clear(in.have)
		in.left = len(in.have)
		_ = os.Remove(part)
		return fmt.Errorf("a content of %d bytes: its pieces are right, and all of it is not %.12s", in.Size, in.Hash)
	}
	to := s.Path(in.Hash)
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return fmt.Errorf("making the folder of a content: %w", err)
	}
	if err := file.Chmod(0o444); err != nil {
		return fmt.Errorf("keeping a content: %w", err)
	}
	if err := os.Rename(part, to); err != nil {
		return fmt.Errorf("keeping a content: %w", err)
	}
	s.mu.Lock()
	delete(s.coming, in.Hash)
	for i := range in.Count() {
		offset, length := in.Range(i)
		s.pieces[in.PieceHash(i)] = place{in.Hash, offset, length}
	}
	s.mu.Unlock()
	return nil
}

// ReadPiece returns a piece that is here, of a content that is whole or on its way. It
// is ErrNotHere where it is not, or not as it should be.
func (s *Store) ReadPiece(c Content, i int) ([]byte, error) {
	if i < 0 || i >= c.Count() {
		return nil, ErrNotHere
	}
	offset, length := c.Range(i)
	if !s.Has(c) {
		s.mu.Lock()
		in := s.coming[c.Hash]
		s.mu.Unlock()
		if in == nil || !in.has(i) {
			return nil, ErrNotHere
		}
		if data, err := readAt(s.partPath(c.Hash), offset, length); err == nil && HashOf(data) == c.PieceHash(i) {
			return data, nil
		} // else it has just become whole, or was taken away
	}
	data, err := readAt(s.Path(c.Hash), offset, length)
	if err != nil {
		return nil, ErrNotHere
	}
	if HashOf(data) != c.PieceHash(i) {
		s.Drop(c.Hash)
		return nil, ErrNotHere
	}
	return data, nil
}

// Have returns which pieces of a content are here.
func (s *Store) Have(c Content) []bool {
	out := make([]bool, c.Count())
	if s.Has(c) {
		for i := range out {
			out[i] = true
		}
		return out
	}
	s.mu.Lock()
	in := s.coming[c.Hash]
	s.mu.Unlock()
	if in != nil {
		in.mu.Lock()
		copy(out, in.have)
		in.mu.Unlock()
	}
	return out
}

// Drop takes a content away that is not as it should be.
func (s *Store) Drop(hash string) {
	_ = os.Remove(s.Path(hash))
	_ = os.Remove(s.partPath(hash))
	s.mu.Lock()
	delete(s.coming, hash)
	for piece, at := range s.pieces {
		if at.hash == hash {
			delete(s.pieces, piece)
		}
	}
	clear(s.known)
	s.mu.Unlock()
}

// Sweep takes contents away until no more than a number of bytes are left, those that
// were not used for the longest time first, and none that is needed. It returns how
// many bytes are left.
func (s *Store) Sweep(most int64, needed func(hash string) bool) (left int64, err error) {
	type kept struct {
		hash string
		size int64
		used time.Time
	}
	var all []kept
	err = filepath.WalkDir(filepath.Join(s.dir, "contents"), func(_ string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		info, err := e.Info()
		if err == nil {
			all = append(all, kept{e.Name(), info.Size(), info.ModTime()})
			left += info.Size()
		}
		return nil
	})
	if err != nil {
		return left, fmt.Errorf("looking through the contents: %w", err)
	}
	slices.SortFunc(all, func(a, b kept) int { return a.used.Compare(b.used) })
	for _, k := range all {
		if left <= most {
			break
		}
		if isHash(k.hash) && !needed(k.hash) {
			s.Drop(k.hash)
			left -= k.size
		}
	}
	return left, nil
}

// touch notes that a file was used.
func (s *Store) touch(path string) error {
	now := time.Now()
	if err := os.Chtimes(path, now, now); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("noting the use of a content: %w", err)
	}
	return nil
}

// Lay makes a folder in which the files of a bundle stand as they stood, as further
// names of their contents, which nobody may write to. All contents must be here.
func (s *Store) Lay(m *Manifest, folder string) error {
	for _, f := range m.Files {
		from, to := s.Path(f.Hash), filepath.Join(folder, filepath.FromSlash(f.Path))
		if !s.Has(f.Content) {
			return fmt.Errorf("%s: %w", f.Path, ErrNotHere)
		}
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return fmt.Errorf("laying out the bundle: %w", err)
		}
		if err := layOne(from, to, f.Executable); err != nil {
			return fmt.Errorf("laying out %s: %w", f.Path, err)
		}
	}
	return nil
}

// layOne puts a content in its place: as a further name of it where both are on one
// disk, and as a copy where they are not, or the file must be one that can be run. A
// symbolic link will not do: some renderers read nothing that lies elsewhere in truth.
func layOne(from, to string, executable bool) error {
	if !executable {
		err := os.Link(from, to)
		if errors.Is(err, fs.ErrExist) && !sameFile(from, to) { // of a content that was spoilt since
			_ = os.Remove(to)
			err = os.Link(from, to)
		}
		if err == nil || errors.Is(err, fs.ErrExist) {
			return nil
		}
	}
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	mode := fs.FileMode(0o444)
	if executable {
		mode = 0o555
	}
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if errors.Is(err, fs.ErrExist) {
		return nil
	}
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

func sameFile(a, b string) bool {
	first, err1 := os.Stat(a)
	second, err2 := os.Stat(b)
	return err1 == nil && err2 == nil && os.SameFile(first, second)
}

func readAt(path string, offset, length int64) ([]byte, error) {
	file, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	data := make([]byte, length)
	_, err = io.ReadFull(io.NewSectionReader(file, offset, length), data)
	return data, err
}

func writeAt(path string, offset int64, data []byte) error {
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE, 0o644)
	if err != nil {
		return err
	}
	_, err = file.WriteAt(data, offset)
	return errors.Join(err, file.Close())
}

// writeWhole writes a small file so that it is there whole or not at all.
func writeWhole(path string, data []byte) error {
	file, err := os.CreateTemp(filepath.Dir(path), ".new-*")
	if err != nil {
		return err
	}
	defer os.Remove(file.Name())
	if _, err = file.Write(data); err == nil {
		err = file.Sync()
	}
	if err = errors.Join(err, file.Close()); err != nil {
		return err
	}
	return os.Rename(file.Name(), path)
}
