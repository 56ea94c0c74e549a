package publish

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"

	"vexillum/internal/core/farm"
	"vexillum/internal/plainfile"
)

// ErrForeign says that a file that is not ours stands in a frame's place.
var ErrForeign = errors.New("another file stands in its place")

// ErrNoPlace says that the frame place is not there now.
var ErrNoPlace = errors.New("the frame place is not there")

// Target is where a frame belongs.
type Target struct {
	Root   string // the frame place
	Folder string // inside it, with slashes
	Files  []File // the picture first, then its passes
	// all files that a frame of the run may have, in the same order, where some may
	// be left out; nil: no others than Files
	Names []File
	Below string // folder that no link of a source leads out of; empty: links are followed
	Lease int64  // whose frame it is: names the files while they are not whole
	Mark  string // name of the file by which the place is known; empty: any folder will do
	// Replace says that another frame which stands in the place is set aside, into
	// the folder "replaced" beside it, once this one is whole.
	Replace bool
	Adopt   []string // hashes of frames that were accepted before and may stand there
	Owner   Owner
}

// Owner is whose new files and folders are. The zero Owner leaves that to the
// system.
type Owner struct {
	Mask *int // permissions that they do not get
	UID  *int // account
	GID  *int // group
}

// OwnerOf returns the owner of an account and group given by number. The
// numbers are left out where they are ours anyway.
func OwnerOf(uid, gid int, mask *int) Owner {
	o := Owner{Mask: mask}
	if uid != os.Geteuid() {
		o.UID = &uid
	}
	if gid != os.Getegid() {
		o.GID = &gid
	}
	return o
}

// dress gives a new file or folder to its owner.
func (o Owner) dress(root *os.Root, name string, permissions fs.FileMode) error {
	if o.UID != nil || o.GID != nil {
		uid, gid := -1, -1
		if o.UID != nil {
			uid = *o.UID
		}
		if o.GID != nil {
			gid = *o.GID
		}
		if err := root.Chown(name, uid, gid); err != nil {
			return fmt.Errorf("giving %s to its account and group: %w", name, err)
		}
	}
	if o.Mask != nil {
		if err := root.Chmod(name, permissions&^fs.FileMode(*o.Mask)); err != nil {
			return fmt.Errorf("setting the permissions of %s: %w", name, err)
		}
	}
	return nil
}

// File is one file of a frame.
type File struct {
	farm.File
	Name string // inside the target's folder, with slashes
}

// Standing is what stands in a frame's place. The zero value says that nothing
// does yet.
type Standing struct {
	Hash  string // see farm.FrameHash
	Bytes int64
	Files []farm.File // of a frame with passes
}

func standing(files []farm.File) Standing {
	s := Standing{Hash: farm.FrameHash(files)}
	for _, f := range files {
		s.Bytes += f.Bytes
	}
	if len(files) > 1 {
		s.Files = files
	}
	return s
}

// all returns all files that a frame may have, those of this one as they are.
func (t Target) all() []File {
	if len(t.Names) == 0 {
		return t.Files
	}
	out := slices.Clone(t.Names)
	for i, name := range out {
		if k := slices.IndexFunc(t.Files, func(f File) bool { return f.Pass == name.Pass }); k >= 0 {
			out[i] = t.Files[k]
		}
	}
	return out
}

// Hash returns the hash by which the frame was accepted.
func (t Target) Hash() string { return farm.FrameHash(t.files()) }

// accepted reports whether a frame with that hash may stand here.
func (t Target) accepted(hash string) bool { return hash == t.Hash() || slices.Contains(t.Adopt, hash) }

func (t Target) files() []farm.File {
	var out []farm.File
	for _, f := range t.Files {
		out = append(out, f.File)
	}
	return out
}

// folders returns the folders into which the frame's files go.
func (t Target) folders() []string {
	var out []string
	for _, f := range t.all() {
		if dir := filepath.Dir(t.path(f)); !slices.Contains(out, dir) {
			out = append(out, dir)
		}
	}
	return out
}

func (t Target) path(f File) string { return filepath.FromSlash(path.Join(t.Folder, f.Name)) }

// part is the name of a file while its frame is not whole.
func (t Target) part(f File) string { return t.partOf(f, t.Lease) }

func (t Target) partOf(f File, lease int64) string {
	dir, name := filepath.Split(t.path(f))
	return filepath.Join(dir, fmt.Sprintf(".%s.lease-%d.part", name, lease))
}

// open opens the place and makes the folders.
func (t Target) open() (*os.Root, error) {
	root, err := os.OpenRoot(t.Root)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrNoPlace, err)
	}
	if t.Mark != "" {
		if _, err := root.Stat(t.Mark); err != nil {
			_ = root.Close()
			return nil, fmt.Errorf(
				"%w: the folder %s is there, but not the mark %s in it; look whether it is mounted", ErrNoPlace, t.Root,
				t.Mark,
			)
		}
	}
	for _, folder := range t.folders() {
		if err := t.makeFolder(root, folder); err != nil {
			_ = root.Close()
			return nil, fmt.Errorf("making the output folder: %w", err)
		}
	}
	return root, nil
}

// makeFolder makes a folder and those above it that are not there.
func (t Target) makeFolder(root *os.Root, folder string) error {
	if info, err := root.Stat(folder); err == nil && info.IsDir() {
		return nil
	}
	if above := filepath.Dir(folder); above != "." && above != folder {
		if err := t.makeFolder(root, above); err != nil {
			return err
		}
	}
	err := root.Mkdir(folder, 0o777)
	if errors.Is(err, fs.ErrExist) {
		return nil
	}
	if err != nil {
		return err
	}
	return t.Owner.dress(root, folder, 0o777)
}

// look returns what stands in the frame's place: nothing, a frame that was
// accepted, or the error ErrForeign. Some of a frame's files without the rest
// are nothing yet as long as they are the frame's own.
func (t Target) look(root *os.Root) (Standing, error) {
	var found []farm.File
	own := true
	for _, f := range t.all() {
		hash, size, err := hashIn(root, t.path(f))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if errors.Is(err, plainfile.ErrNotRegular) {
			return Standing{}, fmt.Errorf("%s: %w, and it is not a regular file; move it away", t.path(f), ErrForeign)
		}
		if err != nil {
			return Standing{}, fmt.Errorf("reading what stands at %s: %w", t.path(f), err)
		}
		own = own && hash == f.Hash
		found = append(found, farm.File{Pass: f.Pass, Hash: hash, Bytes: size})
	}
	if s := standing(found); len(found) > 0 && t.accepted(s.Hash) {
		return s, nil
	}
	if own && (len(found) == 0 || len(found) < len(t.Files)) {
		return Standing{}, nil
	}
	return Standing{}, fmt.Errorf(
		"%s: %w; move it away or choose another output folder", t.path(t.Files[0]), ErrForeign,
	)
}

// ErrNoMark says that a folder is there and does not hold the mark of the farm.
var ErrNoMark = errors.New("the folder is there, but not the farm's mark in it")

// Marked returns nil if a frame place holds the mark of a farm; ErrNoMark if the
// folder is there without it, else ErrNoPlace.
func Marked(place, farm string) error {
	root, err := os.OpenRoot(place)
	if err != nil {
		return fmt.Errorf("%w: %w", ErrNoPlace, err)
	}
	defer root.Close()
	if _, err := root.Stat(Mark(farm)); err != nil {
		return fmt.Errorf("%w: %w", ErrNoMark, err)
	}
	return nil
}

// Mark returns the name of the file by which frame places of a farm are known.
func Mark(farm string) string { return ".vexillum-place-" + farm[:min(8, len(farm))] }

// Vacant reports whether a folder inside a place is not there, or holds nothing.
func Vacant(place, folder string) (bool, error) {
	root, err := os.OpenRoot(place)
	if err != nil {
		return false, fmt.Errorf("%w: %w", ErrNoPlace, err)
	}
	defer root.Close()
	dir, err := root.Open(filepath.FromSlash(folder))
	if errors.Is(err, fs.ErrNotExist) {
		return true, nil
	}
	if err != nil {
		return false, fmt.Errorf("looking into %s: %w", folder, err)
	}
	defer dir.Close()
	if info, err := dir.Stat(); err != nil || !info.IsDir() {
		return false, err
	}
	names, err := dir.Readdirnames(1)
	if errors.Is(err, io.EOF) {
		return true, nil
	}
	if err != nil {
		return false, fmt.Errorf("looking into %s: %w", folder, err)
	}
	return len(names) == 0, nil
}

// MarkPlace makes sure that a frame place holds the mark of a farm and returns
// the mark's name. Where the mark is missing, later, the folder is not the
// place: most likely it is the empty mount point of a storage that is away.
func MarkPlace(place, farm string) (mark string, err error) {
	root, err := os.OpenRoot(place)
	if err != nil {
		return "", fmt.Errorf("%w: %w", ErrNoPlace, err)
	}
	defer root.Close()
	mark = Mark(farm)
	file, err := root.OpenFile(mark, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return mark, nil
	}
	if err != nil {
		return "", fmt.Errorf("marking the frame place: %w", err)
	}
	_, err = file.WriteString(
		"Frames of a Vexillum farm arrive in this folder. Nodes look for this file to be sure that it is mounted.\n",
	)
	if err = errors.Join(err, file.Close()); err != nil {
		_ = root.Remove(mark)
		return "", fmt.Errorf("marking the frame place: %w", err)
	}
	return mark, nil
}
