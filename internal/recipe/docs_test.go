package recipe

import (
	"os"
	"strings"
	"testing"
)

// TestTheGuideTellsTheTruth reads the recipes that docs/recipes.md shows, and looks that
// those at its end are those of the examples.
func TestTheGuideTellsTheTruth(t *testing.T) {
	guide, err := os.ReadFile("../../docs/recipes.md")
	if err != nil {
		t.Fatal(err)
	}
	read := 0
	for block := range strings.SplitSeq(string(guide), "```yaml\n") {
		text, _, _ := strings.Cut(block, "```")
		if strings.HasPrefix(text, "   recipe: 2") { // in a list
			text = strings.ReplaceAll("\n"+text, "\n   ", "\n")[1:]
		}
		if !strings.HasPrefix(text, "recipe: 2") {
			continue
		}
		text = strings.NewReplacer(
			"frame_file: '^frame(-?\\d*)\\.png$'    # names", "# names", // of the two ways, one
		).Replace(text)
		if _, err := Parse([]byte(strings.TrimSpace(text) + "\n")); err != nil {
			t.Errorf("%v in\n%s", err, text)
		}
		read++
	}
	if read != 4 {
		t.Errorf("the guide shows %d recipes", read)
	}
	for _, name := range []string{"openscad", "synfig"} {
		text, err := os.ReadFile("../../examples/recipes/" + name + ".yaml")
		if err != nil || !strings.Contains(string(guide), strings.TrimSpace(string(text))) {
			t.Errorf("the guide shows another recipe for %s: %v", name, err)
		}
	}
}
