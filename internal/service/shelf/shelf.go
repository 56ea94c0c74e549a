// Package shelf reads the recipes that the farm keeps as texts: what is in force
// now, and the versions that runs were submitted with. It decides nothing and
// knows neither requests nor nodes.
package shelf

import (
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"sync/atomic"

	"vexillum/internal/core/farm"
	"vexillum/internal/recipe"
)

// Shelf holds the recipes of a farm. Its readers may be called at any time; they
// see what was committed.
type Shelf struct {
	shipped recipe.Book
	log     *slog.Logger
	now     atomic.Pointer[content]
}

// version names one text.
type version struct {
	name   string
	number int
}

// content is what stands on a shelf at one moment. It never changes.
type content struct {
	book     recipe.Book // newest of each that was not dropped
	newest   map[string]int
	versions map[version]*recipe.Recipe // nil: a text that this program cannot read
	mark     string
}

// New returns the shelf of a farm. A recipe that the farm does not keep yet is as
// it ships, as version 0.
func New(s *farm.State, shipped recipe.Book, log *slog.Logger) *Shelf {
	shelf := &Shelf{shipped: shipped, log: log}
	shelf.now.Store(&content{})
	shelf.Refresh(s)
	return shelf
}

// Refresh takes in what the farm keeps now. Only its owner may call it.
func (s *Shelf) Refresh(state *farm.State) {
	before := s.now.Load()
	c := &content{book: maps.Clone(s.shipped), newest: map[string]int{}, versions: map[version]*recipe.Recipe{}}
	if c.book == nil {
		c.book = recipe.Book{}
	}
	for name, r := range state.Recipes {
		for _, v := range r.Versions {
			key := version{name, v.Number}
			read, known := before.versions[key]
			if !known {
				var err error
				if read, err = recipe.ParseKept([]byte(v.Text)); err != nil {
					s.log.Error(
						"a recipe cannot be read; is this program older", "recipe", name, "version", v.Number,
						"error", err,
					)
				}
			}
			c.versions[key] = read
		}
		delete(c.book, name)
		if newest := r.Newest().Number; !r.Dropped() && c.versions[version{name, newest}] != nil {
			c.book[name] = c.versions[version{name, newest}]
			c.newest[name] = newest
		}
	}
	for name, r := range s.shipped {
		c.versions[version{name, 0}] = r
	}
	c.mark = recipe.BookMark(c.newestOfAll())
	s.now.Store(c)
}

func (c *content) newestOfAll() []string {
	var out []string
	for _, name := range c.book.Names() {
		out = append(out, fmt.Sprintf("%s %d", name, c.newest[name]))
	}
	return out
}

// Book returns the recipes that new runs may have, each in its newest version. It
// must not be changed.
func (s *Shelf) Book() recipe.Book { return s.now.Load().book }

// Newest returns the number of the newest version of a recipe in the Book.
func (s *Shelf) Newest(name string) int { return s.now.Load().newest[name] }

// Mark is another one whenever the Book is.
func (s *Shelf) Mark() string { return s.now.Load().mark }

// Of returns the recipe that a run is rendered by, and its version; nil where this
// program cannot read it, or it is not kept.
func (s *Shelf) Of(spec farm.Spec) (*recipe.Recipe, int) {
	c := s.now.Load()
	number := spec.RecipeVersion
	if number == 0 { // from before there were versions
		number = c.newest[spec.Recipe]
	}
	if r := c.versions[version{spec.Recipe, number}]; r != nil || spec.RecipeVersion != 0 {
		return r, number
	}
	return c.book[spec.Recipe], c.newest[spec.Recipe]
}

// At returns a recipe in one version, or nil.
func (s *Shelf) At(name string, number int) *recipe.Recipe {
	return s.now.Load().versions[version{name, number}]
}

// Item is a recipe that nodes have to know.
type Item struct {
	*recipe.Recipe
	Version int
	Newest  bool // nodes look for its renderer
}

// ForNodes returns what nodes have to know: the Book, and the older versions that
// open runs are rendered by.
func (s *Shelf) ForNodes(open []*farm.Run) []Item {
	c := s.now.Load()
	var out []Item
	seen := map[version]bool{}
	for _, name := range c.book.Names() {
		out = append(out, Item{c.book[name], c.newest[name], true})
		seen[version{name, c.newest[name]}] = true
	}
	looked := map[string]bool{} // no longer in the Book: the newest that a run has stands for them
	for _, run := range slices.Backward(open) {
		r, number := s.Of(run.Spec)
		key := version{run.Spec.Recipe, number}
		if r == nil || seen[key] {
			continue
		}
		seen[key] = true
		newest := c.book[run.Spec.Recipe] == nil && !looked[run.Spec.Recipe]
		looked[run.Spec.Recipe] = true
		out = append(out, Item{r, number, newest})
	}
	return out
}
