package api

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"vexillum/internal/wire"
)

// TestRecipesAreWrittenHere writes a recipe as a wrangler would, with mistakes first.
func TestRecipesAreWrittenHere(t *testing.T) {
	w := newWorld(t)
	var ours wire.RecipeDetail
	w.must("GET", "/api/v1/recipes/povray", nil, &ours)
	if ours.Version != 1 || ours.Origin != "shipped" || len(ours.Versions) != 1 ||
		!strings.HasPrefix(ours.Text, "recipe: ") {
		t.Fatalf("what ships: %+v", ours)
	}
	bad := strings.Replace(ours.Text, "stop: ", "stopp: ", 1) + "arguments2: x\n"
	status, body := w.call(w.tokens[wrangler], "PUT", "/api/v1/recipes/povray", wire.RecipeChange{Text: bad})
	var p wire.Problem
	if err := json.Unmarshal(body, &p); err != nil || status != http.StatusUnprocessableEntity ||
		len(p.Mistakes) != 3 || p.Mistakes[1].Line == 0 || p.Field != "text" {
		t.Errorf("%d %s", status, body)
	}
	var check wire.RecipeCheck
	w.as(viewer, "POST", "/api/v1/recipe-check", wire.RecipeChange{Text: bad}, &check)
	if len(check.Mistakes) != 3 || check.Name != "" {
		t.Errorf("checked: %+v", check)
	}
	good := strings.Replace(ours.Text, "title: ", "title: Our ", 1)
	status, body = w.call(w.tokens[wrangler], "PUT", "/api/v1/recipes/vase", wire.RecipeChange{Text: good})
	if status != http.StatusUnprocessableEntity || !strings.Contains(string(body), "named povray, not vase") {
		t.Errorf("under another name: %d %s", status, body)
	}
	var made wire.RecipeDetail
	w.as(wrangler, "PUT", "/api/v1/recipes/povray", wire.RecipeChange{Text: good, Note: "ours"}, &made)
	if made.Version != 2 || made.By != "wrangler" || made.Versions[0].Note != "ours" ||
		!strings.HasPrefix(made.Title, "Our ") {
		t.Errorf("%+v", made)
	}
	w.as(wrangler, "PUT", "/api/v1/recipes/povray", wire.RecipeChange{Text: good}, &made)
	if made.Version != 2 {
		t.Errorf("the same again made version %d", made.Version)
	}
	if w.as(wrangler, "GET", "/api/v1/recipes/povray?version=1", nil, &made); made.Text != ours.Text {
		t.Errorf("version 1 is %q now", made.Text)
	}
	for path, says := range map[string]string{
		"/api/v1/recipes/povray?version=9": "there is no version 9",
		"/api/v1/recipes/none":             "the recipes are: command, movie, povray",
		"/api/v1/recipes/povray?version=x": "version",
	} {
		if status, body := w.call(w.tokens[viewer], "GET", path, nil); status < 400 ||
			!strings.Contains(string(body), says) {
			t.Errorf("%s: %d %s", path, status, body)
		}
	}
}
