package farm

import (
	"fmt"
	"time"
)

// Recipe is a recipe as the farm keeps it: a text in versions. What the text means
// is no matter of the farm.
type Recipe struct {
	Name      string
	Versions  []RecipeVersion // oldest first; at least one
	DroppedAt time.Time       // no new run may have it; zero: it was not dropped
}

// RecipeVersion is the text of a recipe as it was from some time on. It never
// changes: runs are rendered by the version that they were submitted with.
type RecipeVersion struct {
	Number int
	Text   string
	Origin RecipeOrigin
	By     string
	Note   string // why; may be empty
	At     time.Time
}

// RecipeOrigin is where a version of a recipe came from.
type RecipeOrigin string

// The origins of recipes.
const (
	RecipeShipped RecipeOrigin = "shipped" // with the program
	RecipeFolder  RecipeOrigin = "folder"  // that the service was started with
	RecipePerson  RecipeOrigin = "person"
)

// Newest returns the version that new runs get.
func (r *Recipe) Newest() RecipeVersion { return r.Versions[len(r.Versions)-1] }

// Dropped reports whether no new run may have the recipe.
func (r *Recipe) Dropped() bool { return !r.DroppedAt.IsZero() }

// Etag is the mark of what somebody has seen of the recipe.
func (r *Recipe) Etag() string {
	if r == nil {
		return ""
	}
	if r.Dropped() {
		return fmt.Sprintf("%d-dropped", r.Newest().Number)
	}
	return fmt.Sprint(r.Newest().Number)
}

// RecipeSet adds a version to a recipe, or makes the recipe. One that was dropped
// is there again.
type RecipeSet struct {
	Name    string       `json:"name"`
	Version int          `json:"version"` // one more than the newest
	Text    string       `json:"text"`
	Origin  RecipeOrigin `json:"origin"`
	By      string       `json:"by"`
	Note    string       `json:"note"`
	At      time.Time    `json:"at"`
}

// Kind implements [Record].
func (RecipeSet) Kind() Kind { return "recipe set" }

// About implements [Record].
func (r RecipeSet) About() About { return About{At: r.At} }

// Wakes implements [Record].
func (RecipeSet) Wakes() Wakes { return WakesAsks | WakesOrders }

func (r RecipeSet) apply(s *State) error { return s.PutRecipe(r) }

// PutRecipe adds a version to a recipe. A loader uses it too.
func (s *State) PutRecipe(r RecipeSet) error {
	known := s.Recipes[r.Name]
	if known == nil {
		known = &Recipe{Name: r.Name}
	}
	if r.Version != len(known.Versions)+1 {
		return fmt.Errorf("version %d of the recipe %s cannot follow on %d", r.Version, r.Name, len(known.Versions))
	}
	known.Versions = append(
		known.Versions,
		RecipeVersion{Number: r.Version, Text: r.Text, Origin: r.Origin, By: r.By, Note: r.Note, At: r.At},
	)
	known.DroppedAt = time.Time{}
	s.Recipes[r.Name] = known
	return nil
}

// RecipeDropped takes a recipe out of use. Runs that have it go on.
type RecipeDropped struct {
	Name string    `json:"name"`
	At   time.Time `json:"at"`
}

// Kind implements [Record].
func (RecipeDropped) Kind() Kind { return "recipe dropped" }

// About implements [Record].
func (r RecipeDropped) About() About { return About{At: r.At} }

// Wakes implements [Record].
func (RecipeDropped) Wakes() Wakes { return WakesOrders }

func (r RecipeDropped) apply(s *State) error {
	known := s.Recipes[r.Name]
	if known == nil {
		return fmt.Errorf("there is no recipe %s", r.Name)
	}
	known.DroppedAt = r.At
	return nil
}

// NodeFound reports which renderers a node has found, in a session that goes on.
type NodeFound struct {
	Node      NodeID     `json:"node"`
	Renderers []Renderer `json:"renderers"`
	Speed     float64    `json:"speed,omitempty"` // index measured again; 0: as before
	At        time.Time  `json:"at"`
}

// Kind implements [Record].
func (NodeFound) Kind() Kind { return "node found" }

// About implements [Record].
func (r NodeFound) About() About { return About{Node: r.Node, At: r.At} }

// Wakes implements [Record].
func (NodeFound) Wakes() Wakes { return WakesAsks }

func (r NodeFound) apply(s *State) error {
	n, err := s.node(r.Node)
	if err != nil {
		return err
	}
	n.Facts.Renderers = r.Renderers
	if r.Speed > 0 {
		n.Facts.Speed = r.Speed
	}
	return nil
}
