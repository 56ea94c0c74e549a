package recipe

import (
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"encoding/json"
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

// Open returns the recipes that ship with the program together with those of
// a folder; a file there replaces a recipe of the same name. An empty folder
// name adds nothing.
func Open(folder string) (Book, error) {
	book, err := Builtin()
	if err != nil || folder == "" {
		return book, err
	}
	own, err := read(os.DirFS(folder))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("the recipe folder %s does not exist", folder)
	}
	if err != nil {
		return nil, err
	}
	maps.Copy(book, own)
	return book, nil
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

// CanRead says, as an error for a person, why the recipe does not read a scene: by
// the ending of its file.
func (r *Recipe) CanRead(scene string) error {
	if slices.Contains(r.Scenes, path.Ext(scene)) {
		return nil
	}
	return fmt.Errorf(
		"the recipe %s reads scenes that end in %s, not %q", r.Name, strings.Join(r.Scenes, ", "), path.Ext(scene),
	)
}

// Mark returns a short mark of a recipe's content: another content has another
// mark.
func (r *Recipe) Mark() string {
	data, err := json.Marshal(r)
	if err != nil { // it holds nothing that JSON cannot
		return ""
	}
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:8])
}
