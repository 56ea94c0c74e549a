package node

import (
	"testing"
	"time"

	"vexillum/internal/core/triage"
	"vexillum/internal/recipe"
)

// TestAMissingFileIsNamedWhereverPOVRayBreaksLines: where the line ends depends on how long
// the path of the scene is.
func TestAMissingFileIsNamedWhereverPOVRayBreaksLines(t *testing.T) {
	book, err := recipe.Builtin()
	if err != nil {
		t.Fatal(err)
	}
	for _, said := range []string{
		"File '/a/broken.pov' line 4: Possible Parse Error: Cannot find\n file 'gone.inc', even after trying to append",
		"File '/ab/broken.pov' line 4: Possible Parse Error: Cannot\n find file 'gone.inc', even after trying",
		"File '/abc/broken.pov' line 4: Possible Parse Error:\n Cannot find file 'gone.inc', even after trying to",
		" Error: Cannot find file 'gone.inc', even after trying to append file type\n extension.",
		"Parse Error: Cannot open include file gone.inc.",
	} {
		r := newReader(book["povray"].Read, func(mark) {})
		r.Said(2, []byte(said+"\nFile '/a/broken.pov' line 4: Parse Error: Cannot open include file\n"), time.Now())
		if words, cause := r.words(); cause != triage.CauseMissingFile {
			t.Errorf("%q is taken for %q: %s", said, cause, words)
		}
	}
	r := newReader(book["povray"].Read, func(mark) {})
	r.Said(2, []byte("povray: cannot open the user configuration file\nParse Error: Expected 'vector'\n"), time.Now())
	if _, cause := r.words(); cause != triage.CauseScene {
		t.Errorf("a parse error is taken for %q", cause)
	}
}
