// Package publish puts finished frames into their place: whole or not at all,
// durable, and never over a file that stands there. Nodes use it where they
// see the place, the service for frames that are sent to it.
//
// It knows files and hashes alone, not why a frame may be published.
package publish

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"syscall"
)

// ErrForeign says that a file that is not ours stands in a frame's place.
var ErrForeign = errors.New("another file stands in its place")

// ErrNoPlace says that the frame place is not there now.
var ErrNoPlace = errors.New("the frame place is not there")

// Target is where a frame belongs.
type Target struct {
	Root   string   // the frame place
	Folder string   // inside it, with slashes
	File   string   // name
	Lease  int64    // whose frame it is: names the file while it is not whole
	Hash   string   // SHA-256 that was accepted, in hexadecimal
	Adopt  []string // hashes that were accepted before and may stand there
}

func (t Target) folder() string { return filepath.FromSlash(t.Folder) }
func (t Target) path() string   { return filepath.Join(t.folder(), t.File) }

// part is the name of the file while it is not whole.
func (t Target) part() string {
	return filepath.Join(t.folder(), fmt.Sprintf(".%s.lease-%d.part", t.File, t.Lease))
}

// open opens the place and makes the folder.
func (t Target) open() (*os.Root, error) {
	root, err := os.OpenRoot(t.Root)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNoPlace, err)
	}
	if err := root.MkdirAll(t.folder(), 0o777); err != nil {
		_ = root.Close()
		return nil, fmt.Errorf("making the output folder: %w", err)
	}
	return root, nil
}

// Copy publishes a file: copied under a name of its lease's own beside the
// target, flushed, then linked into place without replacing. If the target
// exists with a hash that was accepted, it is adopted. It returns the hash of
// what stands there now. It may be repeated at any time.
func Copy(source string, t Target) (standing string, err error) {
	root, err := t.open()
	if err != nil {
		return "", err
	}
	defer root.Close()
	if standing, err := hashIn(root, t.path()); err == nil {
		return t.adopted(standing)
	}
	_ = root.Remove(t.part()) // of an attempt that was cut off
	if err := copyInto(root, t.part(), source, t.Hash); err != nil {
		return "", err
	}
	return t.link(root, func() error { return copyInto(root, t.path(), source, t.Hash) })
}

// link puts the part into place. direct is for file systems without links.
func (t Target) link(root *os.Root, direct func() error) (standing string, err error) {
	err = root.Link(t.part(), t.path())
	_ = root.Remove(t.part())
	switch {
	case errors.Is(err, fs.ErrExist):
		standing, err := hashIn(root, t.path())
		if err != nil {
			return "", fmt.Errorf("reading what stands at %s: %w", t.path(), err)
		}
		return t.adopted(standing)
	case errors.Is(err, errors.ErrUnsupported) || errors.Is(err, syscall.EPERM):
		err = direct()
	}
	if err != nil {
		return "", fmt.Errorf("putting %s into place: %w", t.path(), err)
	}
	return t.Hash, flushFolder(root, t.folder())
}

func (t Target) adopted(standing string) (string, error) {
	if standing == t.Hash || slices.Contains(t.Adopt, standing) {
		return standing, nil
	}
	return "", fmt.Errorf("%s: %w; move it away or choose another output folder", t.path(), ErrForeign)
}

// copyInto writes a new file with the source's content and makes it durable.
// It replaces nothing, and leaves nothing behind when it fails.
func copyInto(root *os.Root, name, source, hash string) error {
	from, err := os.Open(source)
	if err != nil {
		return fmt.Errorf("opening the staged frame: %w", err)
	}
	defer from.Close()
	return writeNew(root, name, from, hash)
}

func writeNew(root *os.Root, name string, from io.Reader, hash string) error {
	to, err := root.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666)
	if err != nil {
		return fmt.Errorf("writing %s: %w", name, err)
	}
	sum := sha256.New()
	_, err = io.Copy(io.MultiWriter(to, sum), from)
	if err == nil {
		err = to.Sync()
	}
	if closing := to.Close(); err == nil {
		err = closing
	}
	if err != nil {
		_ = root.Remove(name)
		return fmt.Errorf("writing %s: %w", name, err)
	}
	if got := hex.EncodeToString(sum.Sum(nil)); got != hash {
		_ = root.Remove(name)
		return fmt.Errorf("the staged frame is no longer the one that was verified (%.12s, not %.12s)", got, hash)
	}
	return nil
}

func hashIn(root *os.Root, name string) (string, error) {
	file, err := root.Open(name)
	if err != nil {
		return "", err
	}
	defer file.Close()
	return Hash(file)
}

// Hash returns the SHA-256 of all that is read, in hexadecimal.
func Hash(from io.Reader) (string, error) {
	sum := sha256.New()
	if _, err := io.Copy(sum, from); err != nil {
		return "", err
	}
	return hex.EncodeToString(sum.Sum(nil)), nil
}

// flushFolder makes a new name in a folder durable where the system can.
func flushFolder(root *os.Root, folder string) error {
	dir, err := root.Open(folder)
	if err != nil {
		return fmt.Errorf("flushing the output folder: %w", err)
	}
	defer dir.Close()
	if err := dir.Sync(); err != nil && !errors.Is(err, errors.ErrUnsupported) && !errors.Is(err, fs.ErrInvalid) && !errors.Is(err, syscall.EINVAL) {
		return fmt.Errorf("flushing the output folder: %w", err)
	}
	return nil
}

var partName = regexp.MustCompile(`^\..+\.lease-\d+\.part$`)

// Sweep removes what deliveries that were cut off have left in an output
// folder. It may be called only when nothing more is published there.
func Sweep(place, folder string) error {
	root, err := os.OpenRoot(place)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrNoPlace, err)
	}
	defer root.Close()
	dir, err := root.Open(filepath.FromSlash(folder))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("looking into %s: %w", folder, err)
	}
	defer dir.Close()
	names, err := dir.Readdirnames(-1)
	if err != nil {
		return fmt.Errorf("looking into %s: %w", folder, err)
	}
	for _, name := range names {
		if !partName.MatchString(name) {
			continue
		}
		if err := root.Remove(filepath.Join(filepath.FromSlash(folder), name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("removing %s: %w", name, err)
		}
	}
	return nil
}
