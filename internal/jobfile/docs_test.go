package jobfile

import (
	"os"
	"strings"
	"testing"
)

// TestTheExamplesOfTheDocs reads each job file that the documentation shows, and those of
// the demo.
func TestTheExamplesOfTheDocs(t *testing.T) {
	docs, err := os.ReadFile("../../docs/jobs.md")
	if err != nil {
		t.Fatal(err)
	}
	texts := map[string]string{}
	for i, part := range strings.Split(string(docs), "```yaml\n")[1:] {
		text, _, _ := strings.Cut(part, "```")
		texts[string(rune('a'+i))+" of the docs"] = text
	}
	for _, name := range []string{"flock.yaml", "tidal_pair.yaml"} {
		text, err := os.ReadFile("../../examples/pellmarsh/jobs/" + name)
		if err != nil {
			t.Fatal(err)
		}
		texts[name] = string(text)
	}
	if len(texts) < 3 {
		t.Fatalf("there are only %d", len(texts))
	}
	for name, text := range texts {
		file, err := Parse([]byte(text))
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if runs, wrong := file.Expand(); len(wrong) > 0 || len(runs) < 2 {
			t.Errorf("%s comes to %d runs: %v", name, len(runs), wrong)
		}
	}
}
