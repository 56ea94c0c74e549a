package publish

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// Put puts a file that is whole and durable where it belongs, in the same folder. The same
// file there is left as it is; another is set aside into the folder for what is replaced.
func Put(part, name string) error {
	fresh, err := hashFile(part)
	if err != nil {
		return fmt.Errorf("reading %s: %w", part, err)
	}
	there, err := hashFile(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return fmt.Errorf("reading what stands at %s: %w", name, err)
	case there == fresh:
		return nil
	default:
		folder := filepath.Join(filepath.Dir(name), replacedFolder)
		if err := os.MkdirAll(folder, 0o777); err != nil {
			return fmt.Errorf("making the folder for what is replaced: %w", err)
		}
		ending := filepath.Ext(name)
		base := strings.TrimSuffix(filepath.Base(name), ending)
		if err := os.Rename(name, filepath.Join(folder, fmt.Sprintf("%s.%.12s%s", base, there, ending))); err != nil {
			return fmt.Errorf("setting %s aside: %w", name, err)
		}
	}
	if err := os.Link(part, name); err != nil {
		if err := os.Rename(part, name); err != nil { // a file system without links
			return fmt.Errorf("putting %s in its place: %w", name, err)
		}
	}
	root, err := os.OpenRoot(filepath.Dir(name))
	if err != nil {
		return fmt.Errorf("making %s durable: %w", name, err)
	}
	defer root.Close()
	return flushFolder(root, ".")
}

func hashFile(name string) (string, error) {
	f, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer f.Close()
	return Hash(f)
}
