package publish

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
)

// ErrHash says that what was sent is not what was accepted.
var ErrHash = errors.New("what was sent is not the accepted file")

// OffsetError says that a piece does not follow what is there already.
type OffsetError struct{ Have int64 }

// Error tells where to go on.
func (e *OffsetError) Error() string {
	return fmt.Sprintf("%d bytes are here already; go on there", e.Have)
}

// Have returns how many bytes of a frame that is sent in pieces are there. A
// frame that stands in its place already is told by its hash.
func Have(t Target) (have int64, standing string, err error) {
	root, err := t.open()
	if err != nil {
		return 0, "", err
	}
	defer root.Close()
	if standing, err := hashIn(root, t.path()); err == nil {
		standing, err = t.adopted(standing)
		return 0, standing, err
	}
	info, err := root.Stat(t.part())
	if errors.Is(err, fs.ErrNotExist) {
		return 0, "", nil
	}
	if err != nil {
		return 0, "", fmt.Errorf("looking at %s: %w", t.part(), err)
	}
	return info.Size(), "", nil
}

// Append adds a piece of a frame of the given size in all. When it is whole it
// is checked and published as Copy does; standing is then the hash of what
// stands in its place. A whole file with another hash is dropped.
func Append(t Target, offset, size int64, piece io.Reader) (have int64, standing string, err error) {
	have, standing, err = Have(t)
	if err != nil || standing != "" {
		return have, standing, err
	}
	if have != offset {
		return have, "", &OffsetError{Have: have}
	}
	root, err := t.open()
	if err != nil {
		return 0, "", err
	}
	defer root.Close()
	file, err := root.OpenFile(t.part(), os.O_CREATE|os.O_RDWR|os.O_APPEND, 0o666)
	if err != nil {
		return 0, "", fmt.Errorf("writing %s: %w", t.part(), err)
	}
	defer file.Close()
	n, err := io.Copy(file, io.LimitReader(piece, size-offset))
	have += n
	if err != nil {
		return have, "", fmt.Errorf("writing %s: %w", t.part(), err)
	}
	if have < size {
		return have, "", nil
	}
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return have, "", fmt.Errorf("reading %s: %w", t.part(), err)
	}
	got, err := Hash(file)
	if err != nil {
		return have, "", fmt.Errorf("reading %s: %w", t.part(), err)
	}
	if got != t.Hash {
		_ = root.Remove(t.part())
		return 0, "", fmt.Errorf("%w: its SHA-256 begins with %.12s, not %.12s", ErrHash, got, t.Hash)
	}
	if err := file.Sync(); err != nil {
		return have, "", fmt.Errorf("writing %s: %w", t.part(), err)
	}
	standing, err = t.link(root, func() error { // without links, the whole part becomes the source
		if _, err := file.Seek(0, io.SeekStart); err != nil {
			return err
		}
		return writeNew(root, t.path(), file, t.Hash)
	})
	return have, standing, err
}
