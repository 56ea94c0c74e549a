package farm

import (
	"reflect"
	"testing"

	"vexillum/internal/core/frames"
)

// TestWhatDiffers changes each field that a run is submitted with: it is told, or is one
// of those that always differ or follow from others.
func TestWhatDiffers(t *testing.T) {
	base := Spec{
		Job: "salt_010", Kind: Final, Number: 1, Recipe: "povray", RecipeVersion: 2, Scene: "a.pov", SceneSHA: "aaaa",
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
	// Fields that follow from others, or that always differ.
	silent := map[string]bool{
		"Job": true, "Project": true, "Number": true, "Output": true, "Mark": true, "Mode": true, "Picture": true,
		"Ending": true, "Scouts": true, "Wait": true, "StartOn": true, "Stall": true, "Once": true, "Licence": true,
		"BundleBytes": true, "BundleBefore": true, "BundleNew": true, "With": true, "SceneText": true, "Shot": true,
		"Values": true, "Passes": true, "Takes": true, "Terms": true, "Frames": true, "Sequence": true,
	}
	kind := reflect.TypeFor[Spec]()
	for i := range kind.NumField() {
		changed := base
		switch f := reflect.ValueOf(&changed).Elem().Field(i); f.Kind() {
		case reflect.String:
			f.SetString("another value")
		case reflect.Int:
			f.SetInt(77)
		default:
			continue
		}
		if d := changed.Unlike(base); (len(d) == 0) != silent[kind.Field(i).Name] && kind.Field(i).Name != "Sequence" {
			t.Errorf("%s is another, and is told by %v", kind.Field(i).Name, d)
		}
	}
}
