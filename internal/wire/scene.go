package wire

import "time"

// Folder is a folder of a project's scene place.
type Folder struct {
	Path    string        `json:"path"`    // in the place, with slashes; empty: all of it
	Entries []FolderEntry `json:"entries"` // folders first
	More    bool          `json:"more"`    // there are more than are shown
}

// FolderEntry is a file or a folder in it.
type FolderEntry struct {
	Name       string     `json:"name"`
	Folder     bool       `json:"folder"`
	Bytes      int64      `json:"bytes"`
	ModifiedAt *time.Time `json:"modified_at"`
	Recipes    []string   `json:"recipes"` // that read it as a scene
}

// Scene is what a scene says, and what may be chosen for it.
type Scene struct {
	Scene       string        `json:"scene"`
	Job         string        `json:"job"` // what a job of it is called where nobody says
	Recipe      string        `json:"recipe"`
	RecipeTitle string        `json:"recipe_title"`
	Mode        string        `json:"mode"`
	Picture     string        `json:"picture"`
	Shot        string        `json:"shot"`     // all frames of the animation; empty: not known
	File        string        `json:"file"`     // that told it; empty: none did
	ShotRun     string        `json:"shot_run"` // earlier run of the job that had it; empty: none tells
	Width       int           `json:"width"`
	Height      int           `json:"height"` // pixels; 0: it does not say
	Cameras     []string      `json:"cameras"`
	Layers      []string      `json:"layers"`
	Values      []SceneValue  `json:"values"`
	Passes      []ScenePass   `json:"passes"`
	Presets     []ScenePreset `json:"presets"`
	Remarks     []string      `json:"remarks"` // what is odd about it, in sentences
}

// SceneValue is a setting of the recipe that a job may choose.
type SceneValue struct {
	Name      string   `json:"name"`
	Kind      string   `json:"kind"` // integer, number, choice or text
	Default   string   `json:"default"`
	FromScene bool     `json:"from_scene"` // the scene says the default
	Least     *float64 `json:"least"`
	Most      *float64 `json:"most"`
	Choices   []string `json:"choices"`
	Help      string   `json:"help"`
	Needed    bool     `json:"needed"`
}

// ScenePass is a file that the renderer can write beside the picture.
type ScenePass struct {
	Name string `json:"name"`
	Help string `json:"help"`
}

// ScenePreset is a preset that a job of the scene may have.
type ScenePreset struct {
	Name    string `json:"name"`
	Version int    `json:"version"`
	Mine    bool   `json:"mine"` // it has it where nothing is said
}
