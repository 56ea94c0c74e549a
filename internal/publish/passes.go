package publish

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"vexillum/internal/core/farm"
)

// Frames of several files. No file system links two files at once, and a node that
// publishes may die between them while another node renders the frame again.
// So, when all parts stand beside their targets, whole and durable, one more
// file is linked beside the picture: a deed that names them. That link is the
// moment at which the frame is published. Any process
// that finds a deed carries it out; only then is it removed. Two renderings cannot both
// have theirs, and so their passes never mix.

// deed is what such a file says.
type deed struct {
	Lease int64       `json:"lease"` // names the parts
	Files []farm.File `json:"files"`
}

func (d deed) hash() string { return farm.FrameHash(d.Files) }

// deedFile is the name of the frame's deed.
func (t Target) deedFile() string {
	dir, name := filepath.Split(t.path(t.Files[0]))
	return filepath.Join(dir, "."+name+".passes")
}

func (t Target) deed() deed { return deed{t.Lease, t.files()} }

// errAgain says that another process came first: what stands is looked at again.
var errAgain = errors.New("another process came first")

// deedTries bounds how often others may come first.
const deedTries = 10

func (t Target) publishSet(root *os.Root, makePart func(file int) error) (Standing, error) {
	for range deedTries {
		at, err := t.attempt(root, makePart)
		if !errors.Is(err, errAgain) {
			return at, err
		}
	}
	return Standing{}, fmt.Errorf("%s: others keep publishing this frame", t.path(t.Files[0]))
}

func (t Target) attempt(root *os.Root, makePart func(file int) error) (Standing, error) {
	if old, err := t.readDeed(root); err != nil {
		return Standing{}, err
	} else if old != nil {
		return t.inherit(root, *old)
	}
	at, err := t.see(root)
	if t.Replace && errors.Is(err, ErrForeign) {
		err = nil
	}
	if err != nil || at.Hash != "" {
		t.dropParts(root)
		return at, err
	}
	for i := range t.Files {
		if err := makePart(i); err != nil {
			return Standing{}, err
		}
	}
	if err := t.makeRoom(root); err != nil {
		return Standing{}, err
	}
	if err := t.writeDeed(root); err != nil {
		return Standing{}, err
	}
	return t.carryOut(root, t.deed())
}

// see is look, for a frame that another may be publishing in this moment.
func (t Target) see(root *os.Root) (Standing, error) {
	at, err := t.look(root)
	if len(t.all()) == 1 || !errors.Is(err, ErrForeign) {
		return at, err
	}
	if d, reading := t.readDeed(root); d != nil && reading == nil && t.accepted(d.hash()) {
		return Standing{}, nil // some of its files stand
	}
	return t.look(root) // it may be carried out by now
}

// named returns where a pass goes.
func (t Target) named(pass string) File {
	all := t.all()
	return all[slices.IndexFunc(all, func(f File) bool { return f.Pass == pass })]
}

// inherit carries out a deed that was found, if its frame is one that was
// accepted.
func (t Target) inherit(root *os.Root, d deed) (Standing, error) {
	if !t.accepted(d.hash()) {
		return Standing{}, fmt.Errorf(
			"%s: %w: passes that are just being published and were not accepted", t.path(t.Files[0]), ErrForeign,
		)
	}
	return t.carryOut(root, d)
}

// carryOut links all files of a deed into place, and clears away.
func (t Target) carryOut(root *os.Root, d deed) (Standing, error) {
	var put []string
	for _, f := range d.Files {
		target := t.named(f.Pass)
		fresh, err := t.putPass(root, t.partOf(target, d.Lease), t.path(target), f.Hash, d.Lease == t.Lease)
		if fresh {
			put = append(put, t.path(target))
		}
		if err == nil {
			continue
		}
		if !errors.Is(err, errAgain) && !errors.Is(err, ErrForeign) {
			return Standing{}, err // the deed waits for the next try
		}
		for _, name := range put { // what stands there came first, or is not ours to judge
			_ = root.Remove(name)
		}
		t.clear(root, d)
		return Standing{}, err
	}
	if err := t.flush(root); err != nil {
		return Standing{}, err
	}
	t.clear(root, d)
	if d.Lease != t.Lease {
		t.dropParts(root)
	}
	return standing(d.Files), nil
}

// putPass puts one pass into place. It reports whether it did that itself. Its
// own parts were looked at just before.
func (t Target) putPass(root *os.Root, part, name, hash string, own bool) (fresh bool, err error) {
	if got, _, err := hashIn(root, part); !own && err == nil && got != hash {
		return false, fmt.Errorf(
			"the file of %s is no longer what was accepted (%.12s, not %.12s); remove %s", name, got, hash,
			t.deedFile(),
		)
	}
	err = t.put(root, part, name, hash)
	if err == nil {
		return true, nil
	}
	there, _, reading := hashIn(root, name)
	switch {
	case reading == nil && there == hash: // it was put there before
		return false, nil
	case reading == nil: // whole frames of another rendering, or a stranger's file
		if at, looking := t.look(root); looking == nil && at.Hash != "" {
			return false, errAgain
		}
		return false, fmt.Errorf("%s: %w; move it away or choose another output folder", name, ErrForeign)
	case errors.Is(err, fs.ErrNotExist): // another has carried it out and cleared away, just now
		return false, errAgain
	}
	return false, err
}

// clear removes a deed that is carried out, or cannot be, and its parts.
func (t Target) clear(root *os.Root, d deed) {
	_ = root.Remove(t.deedFile())
	for _, f := range t.all() {
		_ = root.Remove(t.partOf(f, d.Lease))
	}
}

// readDeed returns the deed that stands there, or nil.
func (t Target) readDeed(root *os.Root) (*deed, error) {
	data, err := root.ReadFile(t.deedFile())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", t.deedFile(), err)
	}
	var d deed
	err = json.Unmarshal(data, &d)
	same := len(d.Files) > 0
	for _, f := range d.Files {
		same = same && slices.ContainsFunc(t.all(), func(known File) bool { return known.Pass == f.Pass })
	}
	for _, f := range t.all() { // what every frame has
		has := slices.ContainsFunc(d.Files, func(of farm.File) bool { return of.Pass == f.Pass })
		same = same && (has || len(t.Names) > 0)
	}
	if err != nil || !same || d.Lease < 1 {
		return nil, fmt.Errorf("%s: %w: it cannot be read, or names other passes; remove it", t.deedFile(), ErrForeign)
	}
	return &d, nil
}

// writeDeed publishes the frame: from here on it is carried out even if this process dies.
func (t Target) writeDeed(root *os.Root) error {
	text, err := json.Marshal(t.deed())
	if err != nil {
		return fmt.Errorf("writing what is published: %w", err)
	}
	hash, err := Hash(strings.NewReader(string(text)))
	if err != nil {
		return err
	}
	part := strings.TrimSuffix(t.part(t.Files[0]), ".part") + ".deed.lease-0.part"
	_ = root.Remove(part)
	defer func() { _ = root.Remove(part) }()
	if err := writeNew(root, part, strings.NewReader(string(text)), hash); err != nil {
		return err
	}
	if err := t.flush(root); err != nil { // the names of the parts, before the deed's
		return err
	}
	err = t.put(root, part, t.deedFile(), hash)
	if errors.Is(err, fs.ErrExist) {
		return errAgain
	}
	if err != nil {
		return err
	}
	return flushFolder(root, filepath.Dir(t.deedFile()))
}
