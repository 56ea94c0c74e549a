package api

import (
	"fmt"
	"strings"
	"testing"

	"vexillum/internal/recipe"
	"vexillum/internal/wire"
)

// TestWhoTriesARecipe asks for trials on machines that may and may not be used for them.
func TestWhoTriesARecipe(t *testing.T) {
	w := newWorld(t)
	book, err := recipe.Builtin()
	if err != nil {
		t.Fatal(err)
	}
	in := wire.TryRecipe{Text: book["practice"].Text(), Project: "salt-clock", Scene: "a.practice"}
	try := func(change func(*wire.TryRecipe), status int, says string) {
		t.Helper()
		asked := in
		change(&asked)
		got, body := w.call(w.tokens[wrangler], "POST", "/api/v1/recipe-trials", asked)
		if got != status || !strings.Contains(string(body), says) {
			t.Errorf("%+v: %d %s, want %d and %q", asked, got, body, status, says)
		}
	}
	same := func(*wire.TryRecipe) {}
	named := func(r *wire.TryRecipe) { r.Node = "kiln-01" }
	try(same, 409, "no node is ready")
	try(named, 409, "kiln-01 is silent; choose a node that is online")
	run, _, _ := w.atWork()
	w.must("POST", fmt.Sprintf("/api/v1/runs/%d/cancel", run.ID), nil, nil)
	try(same, 202, `"state":"waits"`)
	for says, change := range map[string]func(*wire.TryRecipe){
		"the recipe cannot be used":  func(r *wire.TryRecipe) { r.Text = "recipe: 2" },
		"the scene is empty":         func(r *wire.TryRecipe) { r.Scene = "" },
		"leads elsewhere":            func(r *wire.TryRecipe) { r.Scene = "../a.practice" },
		"reads scenes that end in":   func(r *wire.TryRecipe) { r.Scene = "a.pov" },
		"at most 20 frames":          func(r *wire.TryRecipe) { r.Frames = "1-21" },
		"each side must be 1 to":     func(r *wire.TryRecipe) { r.Width = 99_999_999 },
		`there is no node \"kiln-77`: func(r *wire.TryRecipe) { r.Node = "kiln-77" },
		`there is no project \"nope`: func(r *wire.TryRecipe) { r.Project = "nope" },
		`"field":"shot"`:             func(r *wire.TryRecipe) { r.Shot = "nine" },
		`"field":"passes"`:           func(r *wire.TryRecipe) { r.Passes = []string{"nope"} },
	} {
		try(change, 422, says)
	}
	w.must(
		"POST",
		"/api/v1/node-acts",
		wire.NodeAct{Do: "hold", Selection: wire.Selection{Where: "name==kiln-01"}},
		nil,
	)
	try(same, 409, "no node is ready")
	try(named, 202, `"node":"kiln-01"`) // a machine that is held may be tried by name
	w.must(
		"POST", "/api/v1/node-changes",
		wire.NodeChange{Selection: wire.Selection{Where: "name==kiln-01"}, Permit: []string{"account=nadia"}}, nil,
	)
	w.must(
		"PATCH",
		"/api/v1/launch-settings",
		wire.LaunchSettingsChange{Project: "salt-clock", Account: new("nadia")},
		nil,
	)
	w.as(aNode, "POST", "/node/v1/start", wire.Start{Facts: wire.Facts{
		OS: "linux", Speed: 1, Renderers: []wire.Renderer{{Recipe: "practice"}}, Means: &wire.Means{Account: "render", RendersAs: "render", Permits: []string{"account=nadia"}},
	}}, nil)
	try(named, 409, "cannot start them under another account")
}
