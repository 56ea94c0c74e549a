package farm

import (
	"reflect"
	"testing"
	"time"

	"vexillum/internal/core/frames"
)

// TestWhatDiffers changes each field that a run is submitted with: it is told, or is one
// of those that always differ or follow from others.
func TestWhatDiffers(t *testing.T) {
	base := Spec{
		Job: "salt_010", Kind: Final, Number: 1, Recipe: "povray", RecipeVersion: 2, Scene: "a.pov", SceneSHA: "aaaa", Pin: "cccc",
		Width: 640, Height: 360, Values: map[string]string{"quality": "9", "old": "1"}, Tries: 3, Owner: "nadia",
		Frames: frames.Of(frames.Span{First: 1, Last: 9}),
	}
	if d := base.Unlike(base); d != nil {
		t.Errorf("a run differs from itself by %v", d)
	}
	other := base
	other.Values = map[string]string{"quality": "4", "new": "2"}
	other.Width, other.Number, other.SceneSHA = 320, 2, "bbbb"
	want := []Difference{
		{"content of the scene", "aaaa", "bbbb", false}, {"size", "640×360", "320×360", false}, {"new", "", "2", true},
		{"old", "1", "", true}, {"quality", "9", "4", true},
	}
	if d := other.Unlike(base); !reflect.DeepEqual(d, want) {
		t.Errorf("it differs by %v, want %v", d, want)
	}
	// What always differs, or follows from what is told.
	silent := map[string]bool{
		"Job": true, "Project": true, "Number": true, "Output": true, "Mark": true, "Mode": true, "Picture": true,
		"Ending": true, "Once": true, "BundleBytes": true, "BundleBefore": true, "BundleNew": true, "SceneText": true,
		"StartOn": true, // the farm's own choice for a scene that is new
	}
	kind := reflect.TypeFor[Spec]()
	for i := range kind.NumField() {
		changed := base
		switch f := reflect.ValueOf(&changed).Elem().Field(i); f.Kind() {
		case reflect.String:
			f.SetString("another value")
		case reflect.Int, reflect.Int64:
			f.SetInt(77)
		case reflect.Float64:
			f.SetFloat(77)
		case reflect.Bool:
			f.SetBool(true)
		default: // looked at above, or one by one
			continue
		}
		name := kind.Field(i).Name
		if d := changed.Unlike(base); (len(d) == 0) != silent[name] {
			t.Errorf("%s is another, and is told by %v", name, d)
		}
	}
	for what, change := range map[string]func(s *Spec){
		"files besides": func(s *Spec) { s.With = []string{"luts/*.cube"} },
		"passes":        func(s *Spec) { s.Passes = []Pass{{Name: "depth"}} },
		"takes":         func(s *Spec) { s.Takes.Cores = 4 },
		"priority":      func(s *Spec) { s.Level = High },
		"ceiling":       func(s *Spec) { s.Ceiling, _ = ParseCeiling("50%") },
		"due":           func(s *Spec) { s.Due = time.Unix(1e9, 0) },
		"shot":          func(s *Spec) { s.Shot = Shot{First: 1, Last: 90, Source: ShotSaid} },
	} {
		changed := base
		change(&changed)
		if d := changed.Unlike(base); len(d) != 1 || d[0].What != what {
			t.Errorf("%s is another, and is told by %v", what, d)
		}
	}
}
