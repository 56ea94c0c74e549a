package wire

import "time"

// Licence is a counted right to run a renderer.
type Licence struct {
	Name         string     `json:"name"`
	Count        *int       `json:"count"` // null: nobody counts it
	Used         int        `json:"used"`
	Lowered      *int       `json:"lowered"` // reckoned with for a while, as a renderer found none
	LoweredUntil *time.Time `json:"lowered_until"`
	Recipes      []string   `json:"recipes"` // that need it
}

// NewLicence counts a licence.
type NewLicence struct {
	Count *int `json:"count"` // null: it is counted no more
}

// Place is a named storage root.
type Place struct {
	Name  string            `json:"name"`
	Paths map[string]string `json:"paths"` // by operating system: linux, darwin, windows
	Loads int               `json:"loads"` // launches that may load from it at the same moment; 0: any number
	// Mark is whether the folder holds the mark of the farm, where the service
	// runs: marked, not marked, not there, or not on this system.
	Mark   string `json:"mark"`
	Remark string `json:"remark,omitempty"` // of what was done just now, in a sentence
	Etag   string `json:"etag"`             // for If-Match
}

// PlaceChange makes a place or changes it. What is left out stays.
type PlaceChange struct {
	Paths map[string]string `json:"paths,omitempty"` // by operating system; an empty one is taken away
	Loads *int              `json:"loads,omitempty"`
}

// Project is a production.
type Project struct {
	Name   string  `json:"name"`
	Title  string  `json:"title"`
	Weight float64 `json:"weight"`
	Scenes string  `json:"scenes"` // place
	Frames string  `json:"frames"` // place
	Etag   string  `json:"etag"`   // for If-Match
}

// ProjectChange makes a project or changes it. What is left out stays.
type ProjectChange struct {
	Title  *string  `json:"title,omitempty"`
	Weight *float64 `json:"weight,omitempty"`
	Scenes string   `json:"scenes,omitempty"` // place
	Frames string   `json:"frames,omitempty"` // place
}

// NewPool makes a pool, or changes it.
type NewPool struct {
	Projects []string `json:"projects"` // that may use it; all when empty
}

// Recipe is a recipe as people see it.
type Recipe struct {
	Name   string            `json:"name"`
	Title  string            `json:"title"`
	Mode   string            `json:"mode"`
	Scenes []string          `json:"scenes"`
	Values map[string]string `json:"values"` // defaults
	Nodes  int               `json:"nodes"`  // that have it
}
