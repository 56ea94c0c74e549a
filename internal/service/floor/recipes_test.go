package floor

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/synctest"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/recipe"
	"vexillum/internal/service/fleet"
	"vexillum/internal/service/queue"
	"vexillum/internal/service/refusal"
	"vexillum/internal/service/shelf"
	"vexillum/internal/wire"
)

const glass = `recipe: 2
name: glass
title: Glass
mode: range
stop: kill
program: glass-render
probe: {arguments: ["-V"], version: 'Glass (\S+)'}
scenes: [".glass"]
picture: png
arguments: ["{scene}"]
frame_file: '^f(\d+)\.png$'
`

func parsed(t *testing.T, text string) *recipe.Recipe {
	t.Helper()
	r, err := recipe.Parse([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// TestRunsKeepTheirVersion: a recipe that is changed is in force for new runs, and
// nodes are told of it; a run that was submitted before is rendered as before.
func TestRunsKeepTheirVersion(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t)
		defer w.close()
		ctx := context.Background()
		n := w.join("kiln-01")
		known := w.Recipes.Mark()
		told := make(chan string, 1)
		go func() {
			o, err := w.Fleet.Orders(ctx, n, 1, fleet.OrdersAsked{Recipes: known})
			w.ok(err)
			told <- o.Recipes
		}()
		synctest.Wait()
		made, err := w.Setup.SetRecipe(ctx, parsed(t, glass), "first", "", nadia)
		w.ok(err)
		if made.Version != 1 || made.By != "nadia" || made.Text != glass || made.Versions[0].Note != "first" {
			t.Fatalf("made %+v", made)
		}
		if mark := <-told; mark == known || mark != w.Recipes.Mark() {
			t.Errorf("the node was told of %q, before it was %q", mark, known)
		}
		w.ok(w.Fleet.Found(ctx, n, 1, []farm.Renderer{{Recipe: "glass", Version: "4", Path: "/g"}}, 1.5))
		if speed := w.node(n).Speed; speed != 1.5 {
			t.Errorf("the speed index measured again is %v", speed)
		}
		id := w.submitScene("vase", "a.glass")
		if _, err := w.Setup.SetRecipe(
			ctx, parsed(t, strings.Replace(glass, `"{scene}"`, `"{scene}", "-v"`, 1)), "", made.Etag, nadia,
		); err != nil {
			t.Fatal(err)
		}
		a := w.askBriefly(n)
		if len(a.Leases) != 1 || a.Leases[0].Run != id || a.Leases[0].Version != 1 ||
			len(a.Leases[0].Recipe.Arguments) != 1 {
			t.Fatalf("leased %+v", a)
		}
		if items, err := w.Fleet.Recipes(ctx); err != nil || versions(items, "glass") != "2 1" {
			t.Errorf("nodes know %v, %v", items, err)
		}
		other := w.submitScene("vase", "a.glass")
		if spec, err := w.Queue.Spec(ctx, other); err != nil || spec.RecipeVersion != 2 {
			t.Errorf("a new run has version %d, %v", spec.RecipeVersion, err)
		}
		w.dropGlass()
	})
}

// dropGlass takes the recipe out of use: no new run, but those that are open.
func (w *world) dropGlass() {
	w.t.Helper()
	ctx := context.Background()
	_, err := w.Setup.SetRecipe(ctx, parsed(w.t, glass), "", "1", nadia)
	if no := (*refusal.Refusal)(nil); !errors.As(err, &no) || no.Kind != refusal.Changed {
		w.t.Errorf("a change of what is not there any more: %v", err)
	}
	for range 2 {
		w.ok(w.Setup.DropRecipe(ctx, "glass", nadia))
	}
	if _, err := w.Queue.CheckSubmission(queue.Submission{Spec: sceneSpec("vase", "a.glass")}); err == nil ||
		!strings.Contains(err.Error(), `no recipe reads scenes that end in ".glass"`) {
		w.t.Errorf("a run of a recipe that was dropped: %v", err)
	}
	items, err := w.Fleet.Recipes(ctx)
	if err != nil || versions(items, "glass") != "2 1" {
		w.t.Errorf("nodes know %v, %v", items, err)
	}
	all, err := w.Setup.Recipes(ctx, true)
	if i := slices.IndexFunc(all, func(r wire.Recipe) bool { return r.Name == "glass" }); err != nil || i < 0 ||
		!all[i].Dropped || all[i].Version != 2 || all[i].Nodes != 1 {
		w.t.Errorf("with those that were dropped: %+v, %v", all, err)
	}
	if in, err := w.Setup.Recipes(ctx, false); err != nil ||
		slices.ContainsFunc(in, func(r wire.Recipe) bool { return r.Name == "glass" }) {
		w.t.Errorf("%+v, %v", in, err)
	}
	old, err := w.Setup.Recipe(ctx, "glass", 1)
	if err != nil || old.Text != glass || old.Versions[1].OpenRuns != 1 || old.Versions[0].OpenRuns != 1 {
		w.t.Errorf("%+v, %v", old, err)
	}
	if again, err := w.Setup.SetRecipe(ctx, parsed(w.t, glass), "back", "", nadia); err != nil || again.Version != 3 ||
		again.Dropped {
		w.t.Errorf("brought back: %+v, %v", again, err)
	}
}

// TestWhatShipsGivesWay: recipes that ship are taken in once, follow the program as
// long as nobody has written others, and what was dropped stays so.
func TestWhatShipsGivesWay(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t)
		defer w.close()
		ctx := context.Background()
		newer := strings.Replace(glass, "title: Glass", "title: Glass 2", 1)
		ship := func(text string, origin farm.RecipeOrigin) (version int, title string) {
			t.Helper()
			w.ok(w.Setup.Ship(ctx, recipe.Book{"glass": parsed(t, text)}, origin, "vexillum"))
			r, err := w.Setup.Recipe(ctx, "glass", 0)
			w.ok(err)
			return r.Version, r.Title
		}
		for i, step := range []struct {
			text    string
			origin  farm.RecipeOrigin
			version int
			title   string
		}{
			{glass, farm.RecipeShipped, 1, "Glass"},
			{glass, farm.RecipeShipped, 1, "Glass"},
			{newer, farm.RecipeShipped, 2, "Glass 2"},
			{glass, farm.RecipeShipped, 2, "Glass 2"}, // an older service has taken over
			{glass, farm.RecipeFolder, 3, "Glass"},
			{newer + "# again\n", farm.RecipeShipped, 3, "Glass"}, // somebody's own counts
		} {
			if version, title := ship(step.text, step.origin); version != step.version || title != step.title {
				t.Errorf("step %d: version %d %q, want %d %q", i, version, title, step.version, step.title)
			}
		}
		_, err := w.Setup.SetRecipe(ctx, parsed(t, newer), "", "", nadia)
		w.ok(err)
		if version, _ := ship(glass, farm.RecipeFolder); version != 4 {
			t.Errorf("a folder that has not changed made version %d", version)
		}
		w.ok(w.Setup.DropRecipe(ctx, "glass", nadia))
		w.ok(w.Setup.Ship(ctx, recipe.Book{"glass": parsed(t, glass)}, farm.RecipeFolder, "merlin"))
		if r, err := w.Setup.Recipe(ctx, "glass", 0); err != nil || !r.Dropped {
			t.Errorf("what was dropped is %+v, %v", r, err)
		}
	})
}

func versions(items []shelf.Item, name string) string {
	var out []string
	for _, i := range items {
		if i.Name == name {
			out = append(out, fmt.Sprint(i.Version))
		}
	}
	return strings.Join(out, " ")
}

func sceneSpec(job, scene string) farm.Spec {
	return farm.Spec{Job: job, Project: "salt-clock", Scene: scene, Frames: frames.Of(frames.Span{First: 1, Last: 4})}
}

func (w *world) submitScene(job, scene string) farm.RunID {
	w.t.Helper()
	sub, err := w.Queue.CheckSubmission(queue.Submission{Spec: sceneSpec(job, scene), Actor: "nadia"})
	w.ok(err)
	out, err := w.Queue.Submit(context.Background(), sub)
	w.ok(err)
	return farm.RunID(out.Run.ID)
}
