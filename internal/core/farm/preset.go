package farm

import (
	"cmp"
	"fmt"
	"slices"
	"time"
)

// PresetKey names a preset: settings that jobs of a project and recipe may take over.
type PresetKey struct {
	Project string `json:"project"` // empty: of any project
	Recipe  string `json:"recipe"`  // empty: of any recipe
	Name    string `json:"name"`
}

// String writes it for people.
func (k PresetKey) String() string {
	return cmp.Or(k.Project, "any project") + ", " + cmp.Or(k.Recipe, "any recipe") + ": " + k.Name
}

// Preset is named settings in versions. What its text means is no matter of the farm.
type Preset struct {
	PresetKey
	Versions  []PresetVersion // oldest first; at least one
	DroppedAt time.Time       // no new run may have it; zero: it was not dropped
}

// PresetVersion is the text of a preset as it was from some time on. It never changes.
type PresetVersion struct {
	Number int
	Text   string
	By     string
	Note   string // why; may be empty
	At     time.Time
}

// Newest returns the version that new runs get.
func (p *Preset) Newest() PresetVersion { return p.Versions[len(p.Versions)-1] }

// Dropped reports whether no new run may have the preset.
func (p *Preset) Dropped() bool { return !p.DroppedAt.IsZero() }

// Etag is the mark of what somebody has seen of the preset.
func (p *Preset) Etag() string {
	switch {
	case p == nil:
		return ""
	case p.Dropped():
		return fmt.Sprintf("%d-dropped", p.Newest().Number)
	}
	return fmt.Sprint(p.Newest().Number)
}

// PresetUse says from which preset a run has its settings, and what it has otherwise.
type PresetUse struct {
	PresetKey
	Version int      `json:"version"`
	Changed []string `json:"changed,omitempty"` // names of fields, and values.name
}

// Preset returns the preset of a name that a run of a project and recipe gets: that of both
// before that of the project before that of the recipe. Nil: there is none.
func (s *State) Preset(project, recipe, name string) *Preset {
	for _, key := range presetKeys(project, recipe, name) {
		if p := s.Presets[key]; p != nil && !p.Dropped() {
			return p
		}
	}
	return nil
}

func presetKeys(project, recipe, name string) []PresetKey {
	return []PresetKey{{project, recipe, name}, {project, "", name}, {"", recipe, name}, {"", "", name}}
}

// ChosenPreset returns the preset that a person's runs of a project and recipe get where
// nothing is said; nil: none.
func (s *State) ChosenPreset(person, project, recipe string) *Preset {
	for _, key := range presetKeys(project, recipe, "") {
		if name := s.PresetChoices[PresetChoice{person, key.Project, key.Recipe}]; name != "" {
			if p := s.Preset(project, recipe, name); p != nil {
				return p
			}
		}
	}
	return nil
}

// PresetsFor returns the presets that a run of a project and recipe may have, by name.
func (s *State) PresetsFor(project, recipe string) (out []*Preset) {
	for key, p := range s.Presets {
		if s.Preset(project, recipe, key.Name) == p {
			out = append(out, p)
		}
	}
	slices.SortFunc(out, func(a, b *Preset) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// PresetSet adds a version to a preset, or makes the preset. One that was dropped is there
// again.
type PresetSet struct {
	Of      PresetKey `json:"of"`
	Version int       `json:"version"` // one more than the newest
	Text    string    `json:"text"`
	By      string    `json:"by"`
	Note    string    `json:"note"`
	At      time.Time `json:"at"`
}

// Kind implements [Record].
func (PresetSet) Kind() Kind { return "preset set" }

// About implements [Record].
func (r PresetSet) About() About { return About{At: r.At} }

// Wakes implements [Record].
func (PresetSet) Wakes() Wakes { return 0 }

func (r PresetSet) apply(s *State) error { return s.PutPreset(r) }

// PutPreset adds a version to a preset. A loader uses it too.
func (s *State) PutPreset(r PresetSet) error {
	known := s.Presets[r.Of]
	if known == nil {
		known = &Preset{PresetKey: r.Of}
	}
	if r.Version != len(known.Versions)+1 {
		return fmt.Errorf("version %d of the preset %s cannot follow on %d", r.Version, r.Of, len(known.Versions))
	}
	known.Versions = append(
		known.Versions, PresetVersion{Number: r.Version, Text: r.Text, By: r.By, Note: r.Note, At: r.At},
	)
	known.DroppedAt = time.Time{}
	s.Presets[r.Of] = known
	return nil
}

// PresetDropped takes a preset out of use. Runs that have it go on.
type PresetDropped struct {
	Of PresetKey `json:"of"`
	At time.Time `json:"at"`
}

// Kind implements [Record].
func (PresetDropped) Kind() Kind { return "preset dropped" }

// About implements [Record].
func (r PresetDropped) About() About { return About{At: r.At} }

// Wakes implements [Record].
func (PresetDropped) Wakes() Wakes { return 0 }

func (r PresetDropped) apply(s *State) error {
	known := s.Presets[r.Of]
	if known == nil {
		return fmt.Errorf("there is no preset %s", r.Of)
	}
	known.DroppedAt = r.At
	return nil
}

// PresetChoice is whose runs of what get a preset where nothing is said.
type PresetChoice struct {
	Person  string `json:"person"`
	Project string `json:"project"` // empty: any
	Recipe  string `json:"recipe"`  // empty: any
}

// PresetChosen says which preset a person's runs get where nothing is said.
type PresetChosen struct {
	For  PresetChoice `json:"for"`
	Name string       `json:"name"` // empty: none any more
	At   time.Time    `json:"at"`
}

// Kind implements [Record].
func (PresetChosen) Kind() Kind { return "preset chosen" }

// About implements [Record].
func (r PresetChosen) About() About { return About{At: r.At} }

// Wakes implements [Record].
func (PresetChosen) Wakes() Wakes { return 0 }

func (r PresetChosen) apply(s *State) error {
	if r.Name == "" {
		delete(s.PresetChoices, r.For)
		return nil
	}
	s.PresetChoices[r.For] = r.Name
	return nil
}
