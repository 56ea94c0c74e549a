package scenefile

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"vexillum/internal/bundle"
	"vexillum/internal/recipe"
)

// Pin is the state of a scene in its place, with all files that it needs.
type Pin struct {
	Hash    string // of all of it; that of the scene alone where it needs nothing
	Files   int    // beside the scene
	Bytes   int64  // of all
	Newest  string // path of the file that was written last
	At      time.Time
	Changed []string // files that are not as they were when it was looked before; nil the first time
	Missing []string // names of files that are not there, each with who names it
	Outside []string // names of files that lie outside the folder, in the same way
	Gaps    []string // simulation caches that are there in part, as sentences
}

// Bounds of looking.
const (
	mostNeeded  = 20_000   // files that are pinned; of a scene that needs more, it alone
	wholeUpTo   = 16 << 20 // bytes of a file that is read whole
	samples     = 16       // of a larger one, spread over it
	sampleBytes = 64 << 10
	mostPrints  = 100_000
	mostPins    = 1000
)

// ErrTooMany says that a scene needs more files than are pinned.
var ErrTooMany = fmt.Errorf("the scene needs more than %d files", mostNeeded)

// References returns how a recipe finds what a file names.
func References(r *recipe.Recipe) func(text []byte) []bundle.Reference {
	return func(text []byte) (out []bundle.Reference) {
		for _, in := range r.InputsIn(text) {
			out = append(
				out, bundle.Reference{Name: in.Name, Follow: in.Follow, Cache: in.Cache, Optional: in.Optional},
			)
		}
		return out
	}
}

// Told returns references to files that are told besides, by name or pattern.
func Told(names []string) (out []bundle.Reference) {
	for _, name := range names {
		out = append(out, bundle.Reference{Name: filepath.ToSlash(name), Series: strings.ContainsAny(name, "*#?[")})
	}
	return out
}

// Looker tells in which state scenes are. It remembers what files hold by their size and
// time, so that only what has changed is read again. Use NewLooker; all methods may be
// called at any time.
type Looker struct {
	run    Run
	mu     sync.Mutex
	prints map[string]fingerprint
	pins   map[string]seen
	// what the files of scenes held, by the hashes of pins, and how many files those are
	states     map[string]map[string]string
	remembered int
}

// fingerprint is what a file held when it was read.
type fingerprint struct {
	size int64
	at   time.Time
	hash string
}

// seen is a pin with the times by which it is known to be still right.
type seen struct {
	pin     Pin
	files   []bundle.Needed
	hashes  map[string]string // of the files
	folders map[string]time.Time
	lacks   bool // something that it names was not found
}

// NewLooker returns a Looker that has seen nothing yet, and asks commands of recipes by run.
func NewLooker(run Run) *Looker {
	return &Looker{
		run: run, prints: map[string]fingerprint{}, pins: map[string]seen{}, states: map[string]map[string]string{},
	}
}

// Unlike returns the files of a scene that are not as they were in an earlier state; nil where
// that is not remembered. The arguments besides are those of Pin, which was asked before.
func (l *Looker) Unlike(was, root, scene string, r *recipe.Recipe, with []string) []string {
	l.mu.Lock()
	defer l.mu.Unlock()
	before, now := l.states[was], l.pins[pinKey(root, scene, r, with)]
	if before == nil {
		return nil
	}
	return (&seen{hashes: before}).unlike(now.hashes)
}

func pinKey(root, scene string, r *recipe.Recipe, with []string) string {
	key := root + "\x00" + scene
	if r != nil {
		key = strings.Join(append([]string{key, r.Name, r.Text()}, with...), "\x00")
	}
	return key
}

// Pin returns the state of a scene below a folder. with names files besides those that
// the scene names; without a recipe the scene alone counts. Files of more than 16 MiB are
// told by their size and by parts of what they hold.
func (l *Looker) Pin(ctx context.Context, root, scene string, r *recipe.Recipe, with []string) (Pin, error) {
	g := bundle.Gathering{Folder: root, Scene: scene}
	key := pinKey(root, scene, r, with)
	if r != nil {
		g.Find, g.More = References(r), Told(with)
	}
	l.mu.Lock()
	before, known := l.pins[key]
	l.mu.Unlock()
	if known && before.holds(root) {
		return before.pin, nil
	}
	hashes := map[string]string{}
	found, err := bundle.Find(ctx, g, func(file *os.File, n bundle.Needed) (err error) {
		if len(hashes) >= mostNeeded {
			return ErrTooMany
		}
		hashes[n.Path], err = l.fingerprint(filepath.Join(root, filepath.FromSlash(n.Path)), file, n, n.Path == scene)
		return err
	})
	if err != nil {
		return Pin{}, err
	}
	now := seen{pin: pinOf(scene, found, hashes), files: found.Files, hashes: hashes, folders: map[string]time.Time{}}
	now.lacks = len(found.Missing) > 0
	if known {
		now.pin.Changed = before.unlike(hashes)
	}
	for _, n := range found.Files {
		folder := path.Dir(n.Path)
		if info, err := os.Stat(filepath.Join(root, filepath.FromSlash(folder))); err == nil {
			now.folders[folder] = info.ModTime()
		}
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.pins) >= mostPins {
		clear(l.pins)
	}
	l.pins[key] = now
	l.remember(now)
	return now.pin, nil
}

// mostRemembered bounds the files of all states that are remembered.
const mostRemembered = 100_000

// remember keeps what the files of a scene hold, so that it can be said later which have changed.
func (l *Looker) remember(s seen) {
	if l.states[s.pin.Hash] != nil || len(s.hashes) > mostRemembered/10 {
		return
	}
	if l.remembered += len(s.hashes); l.remembered > mostRemembered {
		clear(l.states)
		l.remembered = len(s.hashes)
	}
	l.states[s.pin.Hash] = s.hashes
}

// holds reports whether all is as it was seen. What was missing may have come.
func (s *seen) holds(root string) bool {
	if s.lacks {
		return false
	}
	for folder, at := range s.folders { // a file may have come that a pattern names
		info, err := os.Stat(filepath.Join(root, filepath.FromSlash(folder)))
		if err != nil || !info.ModTime().Equal(at) {
			return false
		}
	}
	return !slices.ContainsFunc(s.files, func(n bundle.Needed) bool {
		info, err := os.Stat(filepath.Join(root, filepath.FromSlash(n.Path)))
		return err != nil || info.Size() != n.Size || !info.ModTime().Equal(n.At)
	})
}

// unlike returns the files that are not as they were.
func (s *seen) unlike(hashes map[string]string) (out []string) {
	for name, hash := range hashes {
		if s.hashes[name] != hash {
			out = append(out, name)
		}
	}
	for name := range s.hashes {
		if _, there := hashes[name]; !there {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}

func pinOf(scene string, found *bundle.Found, hashes map[string]string) Pin {
	p := Pin{Hash: hashes[scene], Files: len(found.Files) - 1, Gaps: found.Gaps()}
	sum := sha256.New()
	for _, n := range found.Files {
		fmt.Fprintf(sum, "%s %d %s\n", hashes[n.Path], n.Size, n.Path)
		p.Bytes += n.Size
		if n.At.After(p.At) {
			p.Newest, p.At = n.Path, n.At
		}
	}
	if p.Files > 0 {
		p.Hash = hex.EncodeToString(sum.Sum(nil))
	}
	p.Missing, p.Outside = named(found.Missing), named(found.Outside)
	return p
}

// named returns the names of files, each with who names it.
func named(files []bundle.Named) (out []string) {
	for _, f := range files {
		text := f.Name
		if f.By != "" {
			text += ", which " + f.By + " names"
		}
		out = append(out, text)
	}
	return out
}

// fingerprint returns what a file holds, as far as it has to be read for that.
func (l *Looker) fingerprint(where string, file *os.File, n bundle.Needed, whole bool) (string, error) {
	l.mu.Lock()
	known := l.prints[where]
	l.mu.Unlock()
	if known.hash != "" && known.size == n.Size && known.at.Equal(n.At) {
		return known.hash, nil
	}
	sum := sha256.New()
	var err error
	if whole || n.Size <= wholeUpTo {
		_, err = io.Copy(sum, io.NewSectionReader(file, 0, n.Size))
	} else {
		fmt.Fprintf(sum, "parts of %d bytes\n", n.Size)
		for i := range int64(samples) {
			at := i * (n.Size - sampleBytes) / (samples - 1)
			if _, err = io.Copy(sum, io.NewSectionReader(file, at, sampleBytes)); err != nil {
				break
			}
		}
	}
	if err != nil {
		return "", fmt.Errorf("reading %s: %w", n.Path, err)
	}
	now := fingerprint{n.Size, n.At, hex.EncodeToString(sum.Sum(nil))}
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.prints) >= mostPrints {
		clear(l.prints)
	}
	l.prints[where] = now
	return now.hash, nil
}
