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
	// Strand makes the change although open runs use what it takes away.
	Strand bool `json:"strand,omitempty"`
	DryRun bool `json:"dry_run,omitempty"` // only look whether it could be made
}

// Project is a production.
type Project struct {
	Name    string  `json:"name"`
	Title   string  `json:"title"`
	Weight  float64 `json:"weight"`
	Scenes  string  `json:"scenes"`  // place
	Frames  string  `json:"frames"`  // place
	Names   string  `json:"names"`   // pattern of the names of delivered files
	Bundles bool    `json:"bundles"` // its scenes are sent with all that they need
	// those who belong to it, by the name they sign in with: artist or lead
	Members map[string]string `json:"members"`
	Closed  bool              `json:"closed"` // only its members see it and submit to it, and wranglers
	// machine hours of which people are told once they are used; 0: none
	BudgetHours float64 `json:"budget_hours"`
	SpentHours  float64 `json:"spent_hours"` // machine hours that its leases have taken up
	Etag        string  `json:"etag"`        // for If-Match
}

// ProjectChange makes a project or changes it. What is left out stays.
type ProjectChange struct {
	Title  *string  `json:"title,omitempty"`
	Weight *float64 `json:"weight,omitempty"`
	Scenes string   `json:"scenes,omitempty"` // place
	Frames string   `json:"frames,omitempty"` // place
	Names  *string  `json:"names,omitempty"`  // pattern of the names of delivered files; an empty one: as ever
	// its scenes are sent with all that they need, unless somebody says otherwise
	Bundles *bool `json:"bundles,omitempty"`
	// all that belong to it from now on, each an artist or a lead; it is then closed, unless
	// closed says otherwise
	Members map[string]string `json:"members,omitzero"`
	Closed  *bool             `json:"closed,omitempty"` // only its members see it and submit to it, and wranglers
	// machine hours of which people are told once they are used; 0: none
	BudgetHours *float64 `json:"budget_hours,omitempty"`
	// Strand makes the change although open runs use what it takes away.
	Strand bool `json:"strand,omitempty"`
	DryRun bool `json:"dry_run,omitempty"` // only look whether it could be made
}

// NewPool makes a pool, or changes it.
type NewPool struct {
	Projects []string `json:"projects"`        // that may use it; all when empty
	Alone    bool     `json:"alone,omitempty"` // its nodes exchange no pieces of bundles with others
}

// Recipe is a recipe as people see it in lists.
type Recipe struct {
	Name    string            `json:"name"`
	Title   string            `json:"title"`
	Mode    string            `json:"mode"`
	Scenes  []string          `json:"scenes"`
	Values  map[string]string `json:"values"`  // defaults
	Nodes   int               `json:"nodes"`   // online, that have it
	Role    string            `json:"role"`    // least role that may submit runs of it; empty: artist
	Version int               `json:"version"` // 0: as it ships, and not kept yet
	By      string            `json:"by"`
	Origin  string            `json:"origin"` // shipped, folder or person
	At      *time.Time        `json:"at"`
	Dropped bool              `json:"dropped"` // no new run may have it
	// by this service: it is of a newer form
	Unreadable bool `json:"unreadable"`
}

// RecipeDetail is a recipe with its text and all its versions.
type RecipeDetail struct {
	Recipe
	Text     string          `json:"text"`     // of the version that is shown
	Versions []RecipeVersion `json:"versions"` // newest first
	Etag     string          `json:"etag"`
}

// RecipeVersion is one version of a recipe.
type RecipeVersion struct {
	Number   int       `json:"number"`
	By       string    `json:"by"`
	Origin   string    `json:"origin"` // shipped, folder or person
	Note     string    `json:"note"`
	At       time.Time `json:"at"`
	OpenRuns int       `json:"open_runs"` // that are rendered by it
}

// RecipeChange adds a version to a recipe, or makes the recipe.
type RecipeChange struct {
	Text string `json:"text"` // the recipe file
	Note string `json:"note"` // why
}

// RecipeCheck says what is wrong with a recipe file.
type RecipeCheck struct {
	Name     string        `json:"name"` // that it gives its recipe; empty where it cannot be read
	Mistakes []FileMistake `json:"mistakes"`
}

// FileMistake is one thing that is wrong with a file that people write.
type FileMistake struct {
	Line   int    `json:"line"` // from 1; 0: of the file as a whole
	Column int    `json:"column"`
	Field  string `json:"field"`
	What   string `json:"what"`
}

// Preset is named settings that jobs may take over.
type Preset struct {
	Project  string          `json:"project"` // empty: any
	Recipe   string          `json:"recipe"`  // empty: any
	Name     string          `json:"name"`
	Text     string          `json:"text"` // of the newest version: YAML by the schema of presets
	Mine     bool            `json:"mine"` // own runs get it where nothing is said
	Dropped  bool            `json:"dropped"`
	Etag     string          `json:"etag"`
	Versions []PresetVersion `json:"versions"` // newest first
}

// PresetVersion is the text of a preset as it was from some time on.
type PresetVersion struct {
	Number int       `json:"number"`
	Text   string    `json:"text"`
	By     string    `json:"by"`
	Note   string    `json:"note"`
	At     time.Time `json:"at"`
}

// PresetChange makes a version of a preset.
type PresetChange struct {
	Text string `json:"text"`
	Note string `json:"note,omitempty"`
}

// PresetChoice says which preset own runs get where nothing is said.
type PresetChoice struct {
	Project string `json:"project,omitempty"` // empty: of any
	Recipe  string `json:"recipe,omitempty"`  // empty: of any
	Name    string `json:"name"`              // empty: none
}

// Rate is what machines cost while they work. All but kind and name empty: nothing is said.
type Rate struct {
	Kind     string  `json:"kind"`               // farm, pool or node
	Name     string  `json:"name,omitempty"`     // of the pool or node
	Watts    float64 `json:"watts,omitempty"`    // while it renders
	PerHour  float64 `json:"per_hour,omitempty"` // money for an hour of the machine
	Currency string  `json:"currency,omitempty"` // of the farm alone, as ISO 4217 has it
	Etag     string  `json:"etag,omitempty"`     // for If-Match; ignored in a change
}
