package node

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"syscall"

	"vexillum/internal/wire"
)

// errForeign says that a file that is not ours stands in a frame's place.
var errForeign = errors.New("another file stands in its place")

// deliver publishes a verified frame: copied under a name of its lease's own
// beside the target, flushed, then linked into place without replacing. If
// the target exists with a hash that was accepted, it is adopted. It returns
// the hash of what stands there now. It may be repeated at any time.
func deliver(source string, l *wire.Lease, file, hash string, adopt []string) (string, error) {
	root, err := os.OpenRoot(l.OutputRoot)
	if err != nil {
		return "", fmt.Errorf("opening the frame place: %w", err)
	}
	defer root.Close()
	folder := filepath.FromSlash(l.Output)
	if err := root.MkdirAll(folder, 0o777); err != nil {
		return "", fmt.Errorf("making the output folder: %w", err)
	}
	target := filepath.Join(folder, file)
	if standing, err := hashIn(root, target); err == nil {
		return adopted(target, standing, hash, adopt)
	}
	part := filepath.Join(folder, fmt.Sprintf(".%s.lease-%d.part", file, l.ID))
	_ = root.Remove(part) // of an attempt that was cut off
	if err := copyInto(root, part, source, hash); err != nil {
		return "", err
	}
	err = root.Link(part, target)
	_ = root.Remove(part)
	switch {
	case errors.Is(err, fs.ErrExist):
		standing, err := hashIn(root, target)
		if err != nil {
			return "", fmt.Errorf("reading what stands at %s: %w", target, err)
		}
		return adopted(target, standing, hash, adopt)
	case errors.Is(err, errors.ErrUnsupported) || errors.Is(err, syscall.EPERM): // a file system without links
		err = copyInto(root, target, source, hash)
	}
	if err != nil {
		return "", fmt.Errorf("putting %s into place: %w", target, err)
	}
	return hash, flushFolder(root, folder)
}

func adopted(target, standing, hash string, adopt []string) (string, error) {
	if standing == hash || slices.Contains(adopt, standing) {
		return standing, nil
	}
	return "", fmt.Errorf("%s: %w; move it away or choose another output folder", target, errForeign)
}

// copyInto writes a new file with the source's content and makes it durable.
// It replaces nothing, and leaves nothing behind when it fails.
func copyInto(root *os.Root, name, source, hash string) error {
	from, err := os.Open(source)
	if err != nil {
		return fmt.Errorf("opening the staged frame: %w", err)
	}
	defer from.Close()
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
	sum := sha256.New()
	if _, err := io.Copy(sum, file); err != nil {
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
