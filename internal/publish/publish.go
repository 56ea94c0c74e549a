// Package publish puts finished frames into their place: whole or not at all,
// durable, and never over a file that stands there. A frame of several files
// goes as one: its passes are never those of two renderings. Nodes use it
// where they see the place, the service for frames that are sent to it.
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
	"syscall"

	"vexillum/internal/plainfile"
)

// Copy publishes a frame from its files, in the order of the target's: copied
// under names of the lease's own beside the targets, flushed, then linked into
// place without replacing. If a frame that was accepted stands there, it is
// adopted. Copy returns what stands there now. It may be repeated at any time.
func Copy(sources []string, t Target) (Standing, error) {
	if len(sources) != len(t.Files) {
		return Standing{}, fmt.Errorf("%d files for a frame of %d", len(sources), len(t.Files))
	}
	root, err := t.open()
	if err != nil {
		return Standing{}, err
	}
	defer root.Close()
	return t.publish(root, func(i int) error {
		part := t.part(t.Files[i])
		_ = root.Remove(part) // of an attempt that was cut off
		return copyInto(root, part, t.Below, sources[i], t.Files[i].Hash)
	})
}

// publish makes the parts and puts them into place.
func (t Target) publish(root *os.Root, makePart func(file int) error) (Standing, error) {
	if len(t.all()) > 1 {
		return t.publishSet(root, makePart)
	}
	at, err := t.look(root)
	if t.Replace && errors.Is(err, ErrForeign) {
		err = nil
	}
	if err != nil || at.Hash != "" {
		t.dropParts(root)
		return at, err
	}
	if err := makePart(0); err != nil {
		return Standing{}, err
	}
	if err := t.makeRoom(root); err != nil {
		return Standing{}, err
	}
	err = t.put(root, t.part(t.Files[0]), t.path(t.Files[0]), t.Files[0].Hash)
	t.dropParts(root)
	switch {
	case errors.Is(err, fs.ErrExist):
		return t.look(root)
	case err != nil:
		return Standing{}, err
	}
	return standing(t.files()), t.flush(root)
}

func (t Target) dropParts(root *os.Root) {
	for _, f := range t.Files {
		_ = root.Remove(t.part(f))
	}
}

// flush makes new names durable where the system can.
func (t Target) flush(root *os.Root) error {
	for _, folder := range t.folders() {
		if err := flushFolder(root, folder); err != nil {
			return err
		}
	}
	return nil
}

// put gives a whole part its name, unless a file has it. The part stays. On
// file systems without links the file is written again.
func (t Target) put(root *os.Root, part, name, hash string) error {
	if err := t.Owner.dress(root, part, 0o666); err != nil {
		return err
	}
	err := root.Link(part, name)
	if errors.Is(err, errors.ErrUnsupported) || errors.Is(err, syscall.EPERM) {
		var from *os.File
		if from, err = root.Open(part); err == nil {
			err = writeNew(root, name, from, hash)
			_ = from.Close()
		}
		if err == nil {
			err = t.Owner.dress(root, name, 0o666)
		}
	}
	if err != nil {
		return fmt.Errorf("putting %s into place: %w", name, err)
	}
	return nil
}

// copyInto writes a new file with the source's content and makes it durable.
// It replaces nothing, and leaves nothing behind when it fails.
func copyInto(root *os.Root, name, below, source, hash string) error {
	from, err := plainfile.OpenBelow(below, source)
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

func hashIn(root *os.Root, name string) (hash string, size int64, err error) {
	file, err := plainfile.OpenIn(root, name)
	if err != nil {
		return "", 0, err
	}
	defer file.Close()
	sum := sha256.New()
	if size, err = io.Copy(sum, file); err != nil {
		return "", 0, err
	}
	return hex.EncodeToString(sum.Sum(nil)), size, nil
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
	if err := dir.Sync(); err != nil && !errors.Is(err, errors.ErrUnsupported) && !errors.Is(err, fs.ErrInvalid) &&
		!errors.Is(err, syscall.EINVAL) {
		return fmt.Errorf("flushing the output folder: %w", err)
	}
	return nil
}

var litter = regexp.MustCompile(`^\..+\.(lease-\d+\.part|passes)$`)

// Sweep removes what deliveries that were cut off have left in an output
// folder and the folders of its passes. It may be called only when nothing
// more is published there.
func Sweep(place, folder string, passes ...string) error {
	root, err := os.OpenRoot(place)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrNoPlace, err)
	}
	defer root.Close()
	for _, pass := range append([]string{""}, passes...) {
		if err := sweepFolder(root, filepath.Join(filepath.FromSlash(folder), pass)); err != nil {
			return err
		}
	}
	return nil
}

func sweepFolder(root *os.Root, folder string) error {
	dir, err := root.Open(folder)
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
		if !litter.MatchString(name) {
			continue
		}
		if err := root.Remove(filepath.Join(folder, name)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("removing %s: %w", name, err)
		}
	}
	return nil
}
