package bundle

import (
	"context"
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

// Store keeps contents in a folder, each once, and those that are being received. On a service
// it is used through [Store.For], which shows what one owner has sent: that a content is here
// says nothing to others, who must send it, too. Its methods may be called at any time.
type Store struct {
	*shared
	owner string // empty: everything that is here
}

// shared is what all views of a store have in common.
type shared struct {
	dir     string
	durable bool

	mu      sync.Mutex
	coming  map[string]*coming // by owner and hash
	pieces  map[string]place   // where a piece of this owner and hash is known to be
	learned map[string]bool    // owners whose pieces are in the list
	held    map[string]int64   // bytes of the contents that an owner has sent; of those that are learned
}

// coming is a content that is not whole yet.
type coming struct {
	Content
	mu   sync.Mutex
	have []bool
	left int
	used time.Time // when the last piece came
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

// Open opens a store; its folder is made if it is not there. Only its own account may look
// into it: what is in it belongs to many.
func Open(dir string) (*Store, error) {
	// The folder above is not the store's: others, such as the database, have to pass through it.
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		return nil, fmt.Errorf("making the folder of contents: %w", err)
	}
	for _, name := range []string{"contents", "coming", "bundles", "held"} {
		if err := os.MkdirAll(filepath.Join(dir, name), 0o700); err != nil {
			return nil, fmt.Errorf("making the folder of contents: %w", err)
		}
	}
	if err := os.Chmod(dir, 0o700); err != nil {
		return nil, fmt.Errorf("closing the folder of contents to others: %w", err)
	}
	return &Store{shared: &shared{
		dir: dir, coming: map[string]*coming{}, pieces: map[string]place{}, learned: map[string]bool{},
		held: map[string]int64{},
	}}, nil
}

// Durable lets the store make contents durable before it has them.
func (s *Store) Durable() *Store {
	s.durable = true
	return s
}

// For returns what an owner has sent. The name must be one that can be a file's.
func (s *Store) For(owner string) *Store { return &Store{s.shared, owner} }

// Path returns where a content is, or would be.
func (s *Store) Path(hash string) string { return filepath.Join(s.dir, "contents", hash[:2], hash) }

func (s *Store) key(hash string) string { return s.owner + "/" + hash }
func (s *Store) partPath(hash string) string {
	return filepath.Join(s.dir, "coming", s.owner+"."+hash+partEnding)
}
func (s *Store) bundlePath(id string) string {
	return filepath.Join(s.dir, "bundles", s.owner, id+".json")
}
func (s *Store) heldPath(hash string) string { return filepath.Join(s.dir, "held", s.owner, hash) }

// Endings of files of the store.
const (
	partEnding   = ".part"
	piecesEnding = ".pieces" // beside a content: the hashes of its pieces
)

// isWhole reports whether a content is here, no matter who sent it.
func (s *Store) isWhole(c Content) bool {
	info, err := os.Lstat(s.Path(c.Hash))
	return err == nil && info.Mode().IsRegular() && info.Size() == c.Size
}

// Has reports whether a content is here, whole, and sent by the owner.
func (s *Store) Has(c Content) bool {
	if !s.isWhole(c) {
		return false
	}
	if s.owner == "" {
		return true
	}
	_, err := os.Lstat(s.heldPath(c.Hash))
	return err == nil
}

// Put keeps a manifest, so that its bundle is known by its name.
func (s *Store) Put(m *Manifest) error {
	id := m.ID()
	path := s.bundlePath(id)
	if _, err := os.Stat(path); err == nil {
		return s.touch(path)
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return fmt.Errorf("making the folder of manifests: %w", err)
	}
	if err := writeWhole(path, m.Encode()); err != nil {
		return fmt.Errorf("keeping the manifest: %w", err)
	}
	return nil
}

// HasBundle reports whether the owner has sent the manifest of a bundle.
func (s *Store) HasBundle(id string) bool {
	if !isHash(id) {
		return false
	}
	_, err := os.Stat(s.bundlePath(id))
	return err == nil
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

// Usage is what an owner has in a store.
type Usage struct {
	Bytes   int64 // of contents that are whole, and all bytes of those that are being received
	Uploads int   // contents that are being received
	Bundles int
}

// Usage returns what the owner has.
func (s *Store) Usage() (u Usage) {
	s.learn()
	s.mu.Lock()
	u.Bytes = s.held[s.owner]
	for key, c := range s.coming {
		if owner, _, _ := strings.Cut(key, "/"); owner == s.owner {
			u.Bytes += c.Size
			u.Uploads++
		}
	}
	s.mu.Unlock()
	if entries, err := os.ReadDir(filepath.Join(s.dir, "bundles", s.owner)); err == nil {
		u.Bundles = len(entries)
	}
	return u
}

// learn notes once where the pieces of all contents are that the owner has, so that another
// version of a file needs only what is new in it.
func (s *Store) learn() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.learned[s.owner] {
		return
	}
	s.learned[s.owner] = true
	for _, hash := range s.hashes() {
		info, err := os.Lstat(s.Path(hash))
		if err != nil || !info.Mode().IsRegular() {
			continue
		}
		s.held[s.owner] += info.Size()
		c := Content{Hash: hash, Size: info.Size()}
		if text, err := os.ReadFile(s.Path(hash) + piecesEnding); err == nil {
			c.Piece, c.Pieces = PieceSize(c.Size), strings.Fields(string(text))
		}
		if c.check() == nil {
			s.note(c)
		}
	}
}

// hashes returns the contents that the owner has, or has had.
func (s *Store) hashes() (out []string) {
	add := func(dir string) {
		entries, err := os.ReadDir(dir)
		if err != nil {
			return
		}
		for _, e := range entries {
			if isHash(e.Name()) {
				out = append(out, e.Name())
			}
		}
	}
	if s.owner != "" {
		add(filepath.Join(s.dir, "held", s.owner))
		return out
	}
	folders, _ := filepath.Glob(filepath.Join(s.dir, "contents", "??"))
	for _, dir := range folders {
		add(dir)
	}
	return out
}

// note notes where the pieces of a content are. The caller holds mu.
func (s *Store) note(c Content) {
	for i := range c.Count() {
		offset, length := c.Range(i)
		s.pieces[s.key(c.PieceHash(i))] = place{c.Hash, offset, length}
	}
}

// Missing returns which pieces of each content of a bundle the owner has not sent, after taking
// those over that other contents have. Contents that are here whole are left out. It stops when
// the context ends.
func (s *Store) Missing(ctx context.Context, m *Manifest) (map[string][]int, error) {
	s.learn()
	out := map[string][]int{}
	for _, c := range m.Contents() {
		left, err := s.missingOf(ctx, c)
		if err != nil {
			return nil, err
		}
		if len(left) > 0 {
			out[c.Hash] = left
		}
	}
	return out, nil
}

func (s *Store) missingOf(ctx context.Context, c Content) ([]int, error) {
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
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		if in.has(i) {
			continue
		}
		if data, ok := s.pieceOf(c, i); ok {
			if err := s.PutPiece(c, i, data); err != nil && !errors.Is(err, ErrWrongPiece) {
				return nil, err
			}
		}
	}
	return in.missing(), nil
}

// pieceOf reads a piece that is part of another content of the owner.
func (s *Store) pieceOf(c Content, i int) ([]byte, bool) {
	s.mu.Lock()
	at, known := s.pieces[s.key(c.PieceHash(i))]
	s.mu.Unlock()
	if _, length := c.Range(i); !known || at.length != length {
		return nil, false
	}
	data, err := readAt(s.Path(at.hash), at.offset, at.length)
	return data, err == nil && c.pieceIs(i, data)
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

// open returns the state of a content that is being received. What an earlier process had
// of it is looked at again: only pieces whose hash is right count.
func (s *Store) open(c Content) (*coming, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if in := s.coming[s.key(c.Hash)]; in != nil {
		if in.Size != c.Size || in.Count() != c.Count() { // their hashes would differ
			return nil, fmt.Errorf("the content %.12s has %d bytes, not %d", c.Hash, in.Size, c.Size)
		}
		return in, nil
	}
	in := &coming{Content: c, have: make([]bool, c.Count()), left: c.Count(), used: time.Now()}
	path := s.partPath(c.Hash)
	if _, err := os.Stat(path); err == nil {
		for i := range in.have {
			offset, length := c.Range(i)
			data, err := readAt(path, offset, length)
			if err == nil && c.pieceIs(i, data) {
				in.have[i] = true
				in.left--
			}
		}
	}
	s.coming[s.key(c.Hash)] = in
	return in, nil
}

// PutPiece takes in one piece of a content. With the last the content is whole. A
// piece that is there already is taken for granted; ErrWrongPiece says that the data
// are not those of the piece.
func (s *Store) PutPiece(c Content, i int, data []byte) error {
	if s.Has(c) {
		return nil
	}
	if !c.PieceIs(i, data) {
		return ErrWrongPiece
	}
	in, err := s.open(c)
	if err != nil {
		return err
	}
	in.mu.Lock()
	defer in.mu.Unlock()
	in.used = time.Now()
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

// finish gives a content that has all its pieces its name, and notes that the owner has it. As
// each piece is right, all of it is.
func (s *Store) finish(in *coming) error {
	part := s.partPath(in.Hash)
	if s.isWhole(in.Content) { // somebody else has sent it
		if err := os.Remove(part); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("dropping what has come twice: %w", err)
		}
	} else if err := s.name(in, part); err != nil {
		return err
	}
	if s.owner != "" {
		held := s.heldPath(in.Hash)
		if err := os.MkdirAll(filepath.Dir(held), 0o700); err != nil {
			return fmt.Errorf("noting whose a content is: %w", err)
		}
		if err := os.WriteFile(held, nil, 0o600); err != nil {
			return fmt.Errorf("noting whose a content is: %w", err)
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.coming, s.key(in.Hash))
	if s.learned[s.owner] {
		s.held[s.owner] += in.Size
		s.note(in.Content)
	}
	return nil
}

func (s *Store) name(in *coming, part string) error {
	file, err := os.OpenFile(part, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return fmt.Errorf("opening what has come: %w", err)
	}
	defer file.Close()
	if s.durable {
		if err := file.Sync(); err != nil {
			return fmt.Errorf("making what has come durable: %w", err)
		}
	}
	to := s.Path(in.Hash)
	if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
		return fmt.Errorf("making the folder of a content: %w", err)
	}
	if len(in.Pieces) > 0 {
		if err := writeWhole(to+piecesEnding, []byte(strings.Join(in.Pieces, "\n"))); err != nil {
			return fmt.Errorf("keeping the pieces of a content: %w", err)
		}
	}
	if err := file.Chmod(0o444); err != nil {
		return fmt.Errorf("keeping a content: %w", err)
	}
	if err := os.Rename(part, to); err != nil {
		return fmt.Errorf("keeping a content: %w", err)
	}
	return nil
}

// ReadPiece returns a piece that is here, of a content that is whole or being received. It
// is ErrNotHere where it is not, or not as it should be.
func (s *Store) ReadPiece(c Content, i int) ([]byte, error) {
	if i < 0 || i >= c.Count() {
		return nil, ErrNotHere
	}
	offset, length := c.Range(i)
	if !s.isWhole(c) {
		s.mu.Lock()
		in := s.coming[s.key(c.Hash)]
		s.mu.Unlock()
		if in == nil || !in.has(i) {
			return nil, ErrNotHere
		}
		if data, err := readAt(s.partPath(c.Hash), offset, length); err == nil && c.pieceIs(i, data) {
			return data, nil
		} // else it has just become whole, or was taken away
	}
	data, err := readAt(s.Path(c.Hash), offset, length)
	if err != nil {
		return nil, ErrNotHere
	}
	if !c.pieceIs(i, data) {
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
	in := s.coming[s.key(c.Hash)]
	s.mu.Unlock()
	if in != nil {
		in.mu.Lock()
		copy(out, in.have)
		in.mu.Unlock()
	}
	return out
}

// Drop removes a content that is not as it should be, or that has to make room.
func (s *Store) Drop(hash string) {
	_ = os.Remove(s.Path(hash))
	_ = os.Remove(s.Path(hash) + piecesEnding)
	marks, _ := filepath.Glob(filepath.Join(s.dir, "held", "*", hash))
	for _, mark := range marks {
		_ = os.Remove(mark)
	}
	s.mu.Lock()
	for key, at := range s.pieces {
		if at.hash == hash {
			delete(s.pieces, key)
		}
	}
	clear(s.learned)
	clear(s.held)
	s.mu.Unlock()
}

// DropStale removes what nobody has gone on sending since a time: contents that are not whole,
// and manifests that nobody needs.
func (s *Store) DropStale(before time.Time, needed func(bundle string) bool) error {
	s.mu.Lock()
	for key, in := range s.coming {
		in.mu.Lock()
		stale := in.used.Before(before)
		in.mu.Unlock()
		if stale {
			delete(s.coming, key)
			owner, hash, _ := strings.Cut(key, "/")
			_ = os.Remove(s.For(owner).partPath(hash))
		}
	}
	s.mu.Unlock()
	return filepath.WalkDir(s.dir, func(at string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		info, err := e.Info()
		if err != nil || !info.ModTime().Before(before) {
			return nil //nolint:nilerr // it was removed just now
		}
		id, isManifest := strings.CutSuffix(e.Name(), ".json")
		if isManifest && !needed(id) || strings.HasSuffix(e.Name(), partEnding) && !s.receiving(e.Name()) {
			_ = os.Remove(at)
		}
		return nil
	})
}

// receiving reports whether a file is of a content that is being received.
func (s *Store) receiving(part string) bool {
	owner, rest, _ := strings.Cut(part, ".")
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.coming[owner+"/"+strings.TrimSuffix(rest, partEnding)] != nil
}

// Sweep removes contents until no more than a number of bytes are left, those that
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
		if err == nil && isHash(e.Name()) {
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
		if !needed(k.hash) {
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

// Lay makes a folder with the files of a bundle. All contents must be here, and each is
// verified whole; one that somebody has changed is dropped, and the error is ErrNotHere. Files
// are further names of their contents only where who gets the folder cannot write to those,
// which linked says; else they are copies.
func (s *Store) Lay(m *Manifest, folder string, linked bool) error {
	for _, c := range m.Contents() {
		for i := range c.Count() {
			if _, err := s.ReadPiece(c, i); err != nil || !s.Has(c) {
				return fmt.Errorf("the content %.12s: %w", c.Hash, ErrNotHere)
			}
		}
	}
	for _, f := range m.Files {
		from, to := s.Path(f.Hash), filepath.Join(folder, filepath.FromSlash(f.Path))
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return fmt.Errorf("laying out the bundle: %w", err)
		}
		if err := layOne(from, to, f.Executable, linked); err != nil {
			return fmt.Errorf("laying out %s: %w", f.Path, err)
		}
	}
	return nil
}

// layOne puts a content in its place: as a further name of it where it may and both are on one
// disk, and as a copy where they are not, or the file must be one that can be run. A
// symbolic link will not do: some renderers read nothing that is elsewhere in truth.
func layOne(from, to string, executable, linked bool) error {
	if !linked { // what an earlier launch had may have been changed
		if err := os.Remove(to); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	if !executable && linked {
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
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE, 0o600)
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
