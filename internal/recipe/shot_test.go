package recipe

import (
	"io/fs"
	"maps"
	"strings"
	"testing"
)

func TestWhatAFileBesideTheSceneTells(t *testing.T) {
	book, err := Builtin()
	if err != nil {
		t.Fatal(err)
	}
	povray := book["povray"]
	for name, c := range map[string]struct {
		text        string
		first, last int // last 0: none
		values      map[string]string
		says        string
	}{
		"options": {"; a comment\nInput_File_Name=a.pov\nInitial_Frame=1\r\nFinal_Frame = 30\r\n" +
			"Initial_Clock=0\nFinal_Clock=6.28\nCyclic_Animation=On\n", 1, 30, map[string]string{"clock_first": "0", "clock_last": "6.28", "cyclic": "on"}, ""},
		"no first frame": {"Final_Frame=25\n", 1, 25, nil, ""},
		"switches": {"+KFI0\n+KFF11\n+KI-1\n+KF2\n+KC\n", 0, 11, map[string]string{
			"clock_first": "-1", "clock_last": "2", "cyclic": "on",
		}, ""},
		"the last counts":   {"final_frame=10\nFINAL_FRAME=20\n", 1, 20, nil, ""},
		"commented out":     {";Final_Frame=10\n; Cyclic_Animation=on\n", 0, 0, nil, ""},
		"not cyclic":        {"Cyclic_Animation=off\nFinal_Frame=3\n", 1, 3, nil, ""},
		"a section's own":   {"Final_Frame=10\n[long]\nFinal_Frame=999\nFinal_Clock=9\n", 1, 10, nil, ""},
		"nothing of it":     {"Width=320\nHeight=200\n", 0, 0, nil, ""},
		"empty":             {"", 0, 0, nil, ""},
		"backwards":         {"Initial_Frame=9\nFinal_Frame=3\n", 0, 0, nil, "which is not a range"},
		"a clock of nobody": {"Final_Frame=3\nFinal_Clock=1.2.3\n", 0, 0, nil, "clock_last"},
	} {
		got, err := povray.ReadScene("shots/salt_010.pov", SceneReader{Read: func(name string) ([]byte, error) {
			if name != "shots/salt_010.ini" {
				return nil, fs.ErrNotExist
			}
			return []byte(c.text), nil
		}})
		if c.says != "" {
			if err == nil || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%s: %v", name, err)
			}
			continue
		}
		if err != nil || (got.Range != nil) != (c.last != 0) ||
			got.Range != nil && (got.Range.First != c.first || got.Range.Last != c.last) {
			t.Errorf("%s: %v, %v", name, got.Range, err)
		}
		if name == "nothing of it" && (got.Width != 320 || got.Height != 200) {
			t.Errorf("%s: %d×%d", name, got.Width, got.Height)
		}
		if c.values != nil && !maps.Equal(got.Values, c.values) || c.values == nil && len(got.Values) > 0 {
			t.Errorf("%s: tells %v", name, got.Values)
		}
	}
}

// TestAPOVRaySceneTellsByItsComments reads switches where there is no file beside it.
func TestAPOVRaySceneTellsByItsComments(t *testing.T) {
	book, err := Builtin()
	if err != nil {
		t.Fatal(err)
	}
	got, err := book["povray"].ReadScene("a.pov", SceneReader{Read: func(name string) ([]byte, error) {
		if name != "a.pov" {
			return nil, fs.ErrNotExist
		}
		return []byte("// A lamp\n//  Render with +W640 +H360 +KFF48 +KF2 +KC\n#declare A = -5 +W3;\n"), nil
	}})
	if err != nil || got.Range == nil || got.Range.First != 1 || got.Range.Last != 48 || got.Width != 640 ||
		got.Values["clock_last"] != "2" || got.Values["cyclic"] != "on" {
		t.Errorf("%+v, %v", got, err)
	}
}

func TestAPlaceholderThatWasReplacedIsNamed(t *testing.T) {
	text := "recipe: 1\nname: a\ntitle: A\nmode: range\nstop: kill\nprogram: a\n" +
		"probe: {arguments: [], version: '(a)'}\nscenes: ['.a']\npicture: png\nframe_file: '(a)'\n" +
		"arguments: ['{range_last}']\n"
	if _, err := Parse([]byte(text)); err == nil || !strings.Contains(err.Error(), "write {shot_last}") {
		t.Errorf("%v", err)
	}
}
