package bundle

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"vexillum/internal/core/paths"
)

// Reference is a file that a scene names.
type Reference struct {
	Name     string // as it stands there; #### stands for digits, * for anything
	Follow   bool   // it may name others
	Cache    bool   // of a simulation
	Series   bool   // it names files by a pattern, which may be numbered
	Optional bool   // the renderer may bring it itself
}

// Named is a reference with who made it.
type Named struct {
	Name string
	By   string // path of the file that names it; empty: a person, or a command
}

// Gathered is what a scene needs, by content.
type Gathered struct {
	Manifest *Manifest
	Found
}

// Found is what a scene needs.
type Found struct {
	Files     []Needed // in the order of their paths
	Missing   []Named  // that are not there
	Outside   []Named  // that lie outside the folder, and cannot go along
	Elsewhere []Named  // that the renderer may bring itself
}

// Needed is a file that a scene needs.
type Needed struct {
	Path       string // below the folder, with slashes
	Size       int64  // bytes
	At         time.Time
	Executable bool
	Cache      bool // of a simulation
	Series     bool // named by a pattern, with others that may be numbered like it
}

// Gathering says what to gather.
type Gathering struct {
	Folder string                         // that the bundle's paths are below
	Scene  string                         // path below it, with slashes
	Find   func(text []byte) []Reference  // what a file names; nil: nothing
	More   []Reference                    // that are told besides
	Told   func(path string, bytes int64) // hears of each file when it is read; may be nil
}

// mostText bounds how much of a file is looked through for names, in bytes.
const mostText = 64 << 20

// Gather finds all files that a scene needs and reads them. Missing ones are no error.
func Gather(ctx context.Context, g Gathering) (*Gathered, error) {
	contents := map[string]Content{}
	found, err := Find(ctx, g, func(file *os.File, n Needed) error {
		c, err := ReadContent(file)
		if err != nil {
			return fmt.Errorf("reading %s: %w", n.Path, err)
		}
		if c.Size != n.Size {
			return fmt.Errorf("%s changed while it was read; try again", n.Path)
		}
		contents[n.Path] = c
		if g.Told != nil {
			g.Told(n.Path, c.Size)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	m := &Manifest{Format: Format, Scene: g.Scene}
	for _, n := range found.Files {
		m.Files = append(
			m.Files, File{Path: n.Path, Executable: n.Executable, Cache: n.Cache, Content: contents[n.Path]},
		)
	}
	return &Gathered{m, *found}, m.Check()
}

// Find finds all files that a scene needs, and lets each be looked at once. Missing ones
// are no error.
func Find(ctx context.Context, g Gathering, look func(file *os.File, n Needed) error) (*Found, error) {
	root, err := os.OpenRoot(g.Folder)
	if err != nil {
		return nil, fmt.Errorf("opening the folder of the scene: %w", err)
	}
	defer root.Close()
	w := &gatherer{g: g, root: root, look: look, files: map[string]*Needed{}, out: &Found{}}
	if err := w.add(ctx, g.Scene, Reference{Name: g.Scene, Follow: true}, ""); err != nil {
		return nil, err
	}
	if w.files[g.Scene] == nil {
		return nil, fmt.Errorf("there is no scene %s in %s", g.Scene, g.Folder)
	}
	for _, ref := range g.More {
		if err := w.resolve(ctx, ref, g.Scene, ""); err != nil {
			return nil, err
		}
	}
	for _, n := range w.files {
		w.out.Files = append(w.out.Files, *n)
	}
	slices.SortFunc(w.out.Files, func(a, b Needed) int { return cmp.Compare(a.Path, b.Path) })
	return w.out, nil
}

type gatherer struct {
	g     Gathering
	root  *os.Root
	look  func(file *os.File, n Needed) error
	files map[string]*Needed
	out   *Found
}

var digits = regexp.MustCompile(`#+`)

// resolve finds what a reference means that stands in a file.
func (w *gatherer) resolve(ctx context.Context, ref Reference, in, by string) error {
	name := strings.ReplaceAll(ref.Name, `\`, "/")
	if relative, inside := w.inside(name); inside {
		name = "/" + relative
	} else if strings.HasPrefix(name, "/") || len(name) > 1 && name[1] == ':' {
		w.out.Outside = append(w.out.Outside, Named{ref.Name, by})
		return nil
	}
	var tried []string
	if rooted, absolute := strings.CutPrefix(name, "/"); absolute {
		tried = []string{rooted}
	} else {
		for _, dir := range []string{path.Dir(in), path.Dir(w.g.Scene), "."} {
			if at := path.Join(dir, name); !slices.Contains(tried, at) {
				tried = append(tried, at)
			}
		}
	}
	out := true // wherever it could be
	linked := false
	for _, at := range tried {
		if !filepath.IsLocal(filepath.FromSlash(at)) {
			continue
		}
		out = false
		found, leads, err := w.matching(at)
		if err != nil {
			return err
		}
		linked = linked || leads
		for _, file := range found {
			if err := w.add(ctx, file, ref, by); err != nil {
				return err
			}
		}
		if len(found) > 0 {
			return nil
		}
	}
	named := Named{ref.Name, by}
	switch {
	case out || linked:
		w.out.Outside = append(w.out.Outside, named)
	case ref.Optional:
		w.out.Elsewhere = append(w.out.Elsewhere, named)
	default:
		w.out.Missing = append(w.out.Missing, named)
	}
	return nil
}

// inside returns the path below the folder of a name that begins at the root.
func (w *gatherer) inside(name string) (string, bool) {
	folder, err := filepath.Abs(w.g.Folder)
	if err != nil {
		return "", false
	}
	return paths.Relative("linux", filepath.ToSlash(folder), name)
}

// matching returns the files that a path names, which may hold #### and *. It tells
// whether one of them is a link that leads out of the folder.
func (w *gatherer) matching(at string) (found []string, leadsOut bool, err error) {
	all := []string{at}
	if strings.ContainsAny(at, "#*?[") {
		pattern := digits.ReplaceAllStringFunc(at, func(run string) string { return strings.Repeat("[0-9]", len(run)) })
		if all, err = fs.Glob(w.root.FS(), pattern); err != nil {
			return nil, false, fmt.Errorf("the pattern %q: %w", at, err)
		}
	}
	for _, name := range all {
		info, err := w.root.Stat(filepath.FromSlash(name))
		switch link, broken := w.root.Lstat(filepath.FromSlash(name)); {
		case err == nil && info.Mode().IsRegular():
			found = append(found, name)
		case err != nil && !errors.Is(err, fs.ErrNotExist) && broken == nil && link.Mode()&fs.ModeSymlink != 0:
			leadsOut = true
		}
	}
	return found, leadsOut, nil
}

// add reads a file, and what it names.
func (w *gatherer) add(ctx context.Context, at string, ref Reference, by string) error {
	if f := w.files[at]; f != nil {
		f.Cache, f.Series = f.Cache || ref.Cache, f.Series || ref.Series
		return nil
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	file, err := w.root.Open(filepath.FromSlash(at))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil // it is missing, as who asked will see
	case err != nil:
		w.out.Outside = append(w.out.Outside, Named{ref.Name, by}) // a link that leads out
		return nil
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return fmt.Errorf("looking at %s: %w", at, err)
	}
	n := &Needed{
		Path: at, Size: info.Size(), At: info.ModTime(), Executable: info.Mode()&0o111 != 0, Cache: ref.Cache,
		Series: ref.Series,
	}
	if err := w.look(file, *n); err != nil {
		return err
	}
	w.files[at] = n
	if !ref.Follow || w.g.Find == nil {
		return nil
	}
	text := make([]byte, min(n.Size, mostText))
	if _, err := file.ReadAt(text, 0); err != nil && !errors.Is(err, io.EOF) {
		return fmt.Errorf("reading %s: %w", at, err)
	}
	for _, next := range w.g.Find(text) {
		if err := w.resolve(ctx, next, at, at); err != nil {
			return err
		}
	}
	return nil
}
