// Package plainfile opens files that others have left somewhere and that must
// be regular ones: scenes, inputs, frames. A link to a device, a pipe or a
// socket in their place is refused at once, never waited for, and never read.
//
// It knows nothing of what the files hold.
package plainfile

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// ErrNotRegular says that something other than a regular file stands there.
var ErrNotRegular = errors.New("it is not a regular file")

// ErrTooLarge says that a file holds more than may be read.
var ErrTooLarge = errors.New("it is too large")

// Open opens a regular file for reading. A symbolic link is followed; what it
// leads to must be a regular file. The error is ErrNotRegular, or what the
// system says.
func Open(name string) (*os.File, error) {
	return check(os.OpenFile(name, os.O_RDONLY|dontWait, 0))
}

// OpenIn is Open inside a root, which no link leads out of.
func OpenIn(root *os.Root, name string) (*os.File, error) {
	return check(root.OpenFile(name, os.O_RDONLY|dontWait, 0))
}

// OpenBelow is Open for a path in a folder that somebody else may write to: no link on the
// way leads out of the folder. An empty folder is any.
func OpenBelow(folder, path string) (*os.File, error) {
	if folder == "" {
		return Open(path)
	}
	name, err := filepath.Rel(folder, path)
	if err != nil {
		return nil, fmt.Errorf("finding %s in %s: %w", path, folder, err)
	}
	root, err := os.OpenRoot(folder)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	file, err := OpenIn(root, name)
	if err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, ErrNotRegular) {
		if info, failed := root.Lstat(name); failed == nil && info.Mode()&fs.ModeSymlink != 0 {
			return nil, fmt.Errorf("%w, but a link out of its folder", ErrNotRegular)
		}
	}
	return file, err
}

func check(file *os.File, err error) (*os.File, error) {
	if err != nil {
		if refusedSpecial(err) { // a socket, or a device without a driver
			return nil, fmt.Errorf("%w: %w", ErrNotRegular, err)
		}
		return nil, err
	}
	info, err := file.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = fmt.Errorf("%s: %w, but %s", file.Name(), ErrNotRegular, kind(info.Mode()))
	}
	if err != nil {
		_ = file.Close()
		return nil, err
	}
	return file, nil
}

func kind(mode fs.FileMode) string {
	switch {
	case mode.IsDir():
		return "a folder"
	case mode&fs.ModeNamedPipe != 0:
		return "a pipe"
	case mode&fs.ModeSocket != 0:
		return "a socket"
	case mode&fs.ModeDevice != 0:
		return "a device"
	}
	return "something else"
}

// Read reads a regular file whole, up to a number of bytes. The error is
// ErrNotRegular, ErrTooLarge, or what the system says.
func Read(name string, most int64) ([]byte, error) {
	file, err := Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return readAll(file, most)
}

func readAll(file *os.File, most int64) ([]byte, error) {
	if info, err := file.Stat(); err == nil && info.Size() > most {
		return nil, fmt.Errorf("%s: %w: %d bytes, and at most %d are read", file.Name(), ErrTooLarge, info.Size(), most)
	}
	data, err := io.ReadAll(io.LimitReader(file, most+1)) // it may grow meanwhile
	if err == nil && int64(len(data)) > most {
		return nil, fmt.Errorf("%s: %w: more than %d bytes", file.Name(), ErrTooLarge, most)
	}
	return data, err
}
