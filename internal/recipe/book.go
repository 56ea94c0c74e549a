package recipe

import (
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
)

//go:embed builtin/*.yaml
var builtin embed.FS

// Book is a set of recipes by name.
type Book map[string]*Recipe

// Builtin returns the recipes that ship with the program.
func Builtin() (Book, error) {
	files, err := fs.Sub(builtin, "builtin")
	if err != nil {
		return nil, err
	}
	return read(files)
}

// Folder returns the recipes of a folder; none where it has no name.
func Folder(name string) (Book, error) {
	if name == "" {
		return Book{}, nil
	}
	own, err := read(os.DirFS(name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("the recipe folder %s does not exist", name)
	}
	return own, err
}

func read(files fs.FS) (Book, error) {
	book := Book{}
	entries, err := fs.ReadDir(files, ".")
	if err != nil {
		return nil, fmt.Errorf("reading the recipe folder: %w", err)
	}
	for _, e := range entries {
		if filepath.Ext(e.Name()) != ".yaml" {
			continue
		}
		data, err := fs.ReadFile(files, e.Name())
		if err != nil {
			return nil, fmt.Errorf("reading recipe %s: %w", e.Name(), err)
		}
		r, err := Parse(data)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", e.Name(), err)
		}
		book[r.Name] = r
	}
	return book, nil
}

// Names returns the names of all recipes in order.
func (b Book) Names() []string { return slices.Sorted(maps.Keys(b)) }

// ForScene returns the recipes that read scene files with this ending, in
// order of name.
func (b Book) ForScene(ending string) []*Recipe {
	var out []*Recipe
	for _, name := range b.Names() {
		if slices.Contains(b[name].Scenes, ending) {
			out = append(out, b[name])
		}
	}
	return out
}

// anyScene stands among the endings of scenes where the recipe reads all files. It
// is never chosen by the ending of a scene.
const anyScene = "*"

// CanRead says, as an error for a person, why the recipe does not read a scene: by
// the ending of its file.
func (r *Recipe) CanRead(scene string) error {
	if slices.Contains(r.Scenes, path.Ext(scene)) || slices.Contains(r.Scenes, anyScene) {
		return nil
	}
	return fmt.Errorf(
		"the recipe %s reads scenes that end in %s, not %q", r.Name, strings.Join(r.Scenes, ", "), path.Ext(scene),
	)
}

// BookMark returns a short mark of which recipes there are: of their names with
// versions, in any order.
func BookMark(names []string) string {
	sum := sha256.Sum256([]byte(strings.Join(slices.Sorted(slices.Values(names)), "\n")))
	return hex.EncodeToString(sum[:8])
}
