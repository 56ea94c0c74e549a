package publish

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// replacedFolder is where frames are kept that were rendered again, beside the
// new ones.
const replacedFolder = "replaced"

// makeRoom sets another frame aside that stands in the place of one that is to
// replace it: its files get another name, and nothing of them is lost.
func (t Target) makeRoom(root *os.Root) error {
	if !t.Replace {
		return nil
	}
	if d, err := t.readDeed(root); err != nil || d != nil { // one is just being published
		return err
	}
	if _, err := t.look(root); !errors.Is(err, ErrForeign) {
		return err
	}
	for _, f := range t.all() {
		name := t.path(f)
		hash, _, err := hashIn(root, name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return fmt.Errorf("reading what stands at %s: %w", name, err)
		}
		folder := filepath.Join(filepath.Dir(name), replacedFolder)
		if err := t.makeFolder(root, folder); err != nil {
			return fmt.Errorf("making the folder for what is replaced: %w", err)
		}
		base, ending := filepath.Base(name), filepath.Ext(name)
		aside := filepath.Join(folder, fmt.Sprintf("%s.%.12s%s", base[:len(base)-len(ending)], hash, ending))
		if err := root.Link(name, aside); err != nil && !errors.Is(err, fs.ErrExist) {
			if err := root.Rename(name, aside); err != nil { // a file system without links
				return fmt.Errorf("setting %s aside: %w", name, err)
			}
			continue
		}
		if err := root.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("setting %s aside: %w", name, err)
		}
	}
	return nil
}
