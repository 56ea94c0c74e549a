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

// Error says where to go on.
func (e *OffsetError) Error() string {
	return fmt.Sprintf("%d bytes are here already; go on there", e.Have)
}

// Have returns how many bytes of a file of a frame that is sent in pieces are
// there. A frame that stands in its place already is told as standing.
func Have(t Target, file int) (have int64, at Standing, err error) {
	root, err := t.open()
	if err != nil {
		return 0, Standing{}, err
	}
	defer root.Close()
	at, err = t.see(root)
	if t.Replace && errors.Is(err, ErrForeign) {
		err = nil
	}
	if err != nil || at.Hash != "" {
		return 0, at, err
	}
	have, err = t.have(root, file)
	return have, Standing{}, err
}

func (t Target) have(root *os.Root, file int) (int64, error) {
	info, err := root.Stat(t.part(t.Files[file]))
	if errors.Is(err, fs.ErrNotExist) {
		return 0, nil
	}
	if err != nil {
		return 0, fmt.Errorf("looking at %s: %w", t.part(t.Files[file]), err)
	}
	return info.Size(), nil
}

// Append adds a piece to a file of a frame. When all files of the frame are
// whole they are checked and published as Copy does. A whole file with another
// hash than the accepted one is dropped.
func Append(t Target, file int, offset int64, piece io.Reader) (have int64, at Standing, err error) {
	have, at, err = Have(t, file)
	if err != nil || at.Hash != "" {
		return have, at, err
	}
	if have != offset {
		return have, Standing{}, &OffsetError{Have: have}
	}
	root, err := t.open()
	if err != nil {
		return 0, Standing{}, err
	}
	defer root.Close()
	have, err = t.append(root, file, have, piece)
	if err != nil {
		return have, Standing{}, err
	}
	for i, f := range t.Files {
		if n, err := t.have(root, i); err != nil || n < f.Bytes {
			return have, Standing{}, err
		}
	}
	at, err = t.publish(root, func(i int) error { return t.checkPart(root, i) })
	if errors.Is(err, ErrHash) {
		have = 0
	}
	return have, at, err
}

// append writes a piece and flushes a file that is whole.
func (t Target) append(root *os.Root, file int, have int64, piece io.Reader) (int64, error) {
	f := t.Files[file]
	part, err := root.OpenFile(t.part(f), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o666)
	if err != nil {
		return 0, fmt.Errorf("writing %s: %w", t.part(f), err)
	}
	defer part.Close()
	n, err := io.Copy(part, io.LimitReader(piece, f.Bytes-have))
	have += n
	if err == nil && have == f.Bytes {
		err = part.Sync()
	}
	if err != nil {
		return have, fmt.Errorf("writing %s: %w", t.part(f), err)
	}
	return have, nil
}

// checkPart looks that a part is what was accepted, and drops it if it is not.
func (t Target) checkPart(root *os.Root, file int) error {
	f := t.Files[file]
	got, _, err := hashIn(root, t.part(f))
	if err != nil {
		return fmt.Errorf("reading %s: %w", t.part(f), err)
	}
	if got != f.Hash {
		_ = root.Remove(t.part(f))
		return fmt.Errorf("%w: its SHA-256 begins with %.12s, not %.12s", ErrHash, got, f.Hash)
	}
	return nil
}
