package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/fileschema"
	"vexillum/internal/recipe"
	"vexillum/internal/wire"
)

// recipeCommand shows recipes and looks at files of them.
func (a *app) recipeCommand() *cobra.Command {
	parent := &cobra.Command{Use: "recipe", Short: "Recipes: how renderers are started, fed and read"}
	parent.AddCommand(
		a.recipeListCommand(), a.recipeShowCommand(), a.recipeAddCommand(), a.recipeDropCommand(),
		a.recipeCheckCommand(), a.recipeTryCommand(),
	)
	parent.AddCommand(a.stayCommands("recipe")...)
	return parent
}

func (a *app) recipeListCommand() *cobra.Command {
	return list(a, "list", "List the recipes: what can be rendered, and on how many nodes", "/api/v1/recipes",
		[]string{"RECIPE", "TITLE", "MODE", "SCENES", ">NODES", ">VERSION", "BY"}, func(r wire.Recipe) []string {
			return []string{
				r.Name, r.Title, r.Mode, strings.Join(r.Scenes, " "), fmt.Sprint(r.Nodes), fmt.Sprint(r.Version), r.By,
			}
		})
}

func recipePath(name string, query url.Values) string {
	path := "/api/v1/recipes/" + url.PathEscape(name)
	if len(query) > 0 {
		path += "?" + query.Encode()
	}
	return path
}

func (a *app) recipeShowCommand() *cobra.Command {
	version, text := 0, false
	c := a.jsonFlag(&cobra.Command{
		Use: "show NAME", Short: "Show a recipe: its settings and versions, or its text",
		Example: "  vexillum recipe show povray\n  vexillum recipe show povray --version 3 --text > povray.yaml",
		Args:    exactly(1, "the name of a recipe"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			query := url.Values{}
			if version != 0 {
				query.Set("version", fmt.Sprint(version))
			}
			r, err := get[wire.RecipeDetail](ctx, cl, recipePath(args[0], query))
			switch {
			case err != nil:
				return err
			case a.json:
				return a.printJSON(r)
			case text:
				fmt.Fprint(a.out, r.Text)
			default:
				a.showRecipe(r)
			}
			return nil
		}),
	})
	c.Flags().IntVar(&version, "version", 0, "show this version; the newest when left out")
	c.Flags().BoolVar(&text, "text", false, "print the recipe file alone")
	return c
}

// recipeAddCommand makes recipes, or gives them a further version.
func (a *app) recipeAddCommand() *cobra.Command {
	note := ""
	c := &cobra.Command{
		Use: "add FILE…", Short: "Add recipes to the farm, or a further version of them",
		Long: "Adds recipes to the farm. Where there is a recipe of that name it gets a further version. It is in\n" +
			"force at once for new runs, on all services and nodes; runs that were submitted before keep the\n" +
			"version that they have. A file may be - for standard input.",
		Example: "  vexillum recipe add glass.yaml --note 'reads the new kind of progress'",
		Args:    atLeast(1, "recipe files"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			for _, name := range args {
				if err := a.addRecipe(ctx, cl, name, note); err != nil {
					return err
				}
			}
			return nil
		}),
	}
	c.Flags().StringVar(&note, "note", "", "why, for those who look at its versions")
	return c
}

func (a *app) addRecipe(ctx context.Context, cl *client.Client, name, note string) error {
	data, err := readInput(name, "a recipe file")
	if err != nil {
		return err
	}
	data = bytes.ReplaceAll(data, []byte("\r\n"), []byte("\n"))
	r, err := recipe.Parse(data)
	if err != nil {
		var mistakes *fileschema.MistakesError
		if !errors.As(err, &mistakes) {
			return err
		}
		if _, err := a.checkRecipe(name, data); err != nil {
			return err
		}
		return fmt.Errorf("%s has %s; nothing was added", name, english.Plural(len(mistakes.Mistakes), "mistake", ""))
	}
	before, err := get[wire.RecipeDetail](ctx, cl, recipePath(r.Name, nil))
	var none *wire.Problem
	if err != nil && (!errors.As(err, &none) || none.Status != http.StatusNotFound) {
		return err
	}
	var out wire.RecipeDetail
	err = cl.Do(ctx, http.MethodPut, recipePath(r.Name, nil), wire.RecipeChange{Text: string(data), Note: note}, &out)
	if err != nil {
		return err
	}
	what := fmt.Sprintf("version %d of %s is in force for new runs", out.Version, out.Name)
	if before.Version == out.Version && !before.Dropped {
		what = fmt.Sprintf("%s is as in %s already: version %d", out.Name, name, out.Version)
	}
	fmt.Fprintln(a.out, what+".")
	return nil
}

func (a *app) recipeDropCommand() *cobra.Command {
	return &cobra.Command{
		Use: "drop NAME", Short: "Take a recipe out of use for new runs; open ones go on",
		Long: "Takes a recipe out of use: no new run may have it. Open runs go on with it, and its versions stay;\n" +
			"adding it again brings it back.",
		Args: exactly(1, "the name of a recipe"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			r, err := get[wire.RecipeDetail](ctx, cl, recipePath(args[0], nil))
			if err != nil {
				return err
			}
			open := 0
			for _, v := range r.Versions {
				open += v.OpenRuns
			}
			if err := cl.Do(ctx, http.MethodDelete, recipePath(args[0], nil), nil, nil); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "No new run may have the recipe %s", args[0])
			if open > 0 {
				fmt.Fprintf(a.out, "; %s", english.Plural(open, "open run goes on with it", "open runs go on with it"))
			}
			fmt.Fprintln(a.out, ".")
			return nil
		}),
	}
}

// recipeCheckCommand says what is wrong with recipe files. It needs no service.
func (a *app) recipeCheckCommand() *cobra.Command {
	return &cobra.Command{
		Use: "check FILE…", Short: "List mistakes in recipe files, with line and column, and run their probes",
		Long: "Reads recipe files as a service would, and lists every mistake with its line and column. If a file has\n" +
			"none and its program is on this machine, its probe is run as a node would run it. It needs no service.\n" +
			"A file may be - for standard input. The exit code is 1 if a file has a mistake or its probe fails.",
		Example: "  vexillum recipe check glass.yaml\n  vexillum recipe check recipes/*.yaml",
		Args:    atLeast(1, "recipe files"),
		RunE: func(c *cobra.Command, args []string) error {
			bad := 0
			for _, name := range args {
				data, err := readInput(name, "a recipe file")
				if err != nil {
					return err
				}
				r, err := a.checkRecipe(name, data)
				if err != nil {
					return err
				}
				fine := r != nil
				if fine {
					if fine, err = a.probeHere(c.Context(), r); err != nil {
						return err
					}
				}
				if !fine {
					bad++
				}
			}
			if bad == 0 {
				return nil
			}
			if len(args) > 1 {
				fmt.Fprintf(a.out, "\n%s of %d cannot be used.\n", english.Plural(bad, "file", ""), len(args))
			}
			return outcome{exitFailed}
		},
	}
}

// checkRecipe prints the mistakes in one file, a line each, and returns the recipe; nil if there
// are any.
func (a *app) checkRecipe(name string, data []byte) (*recipe.Recipe, error) {
	r, err := recipe.Parse(data)
	var mistakes *fileschema.MistakesError
	switch {
	case err == nil:
		fmt.Fprintf(a.out, "%s: %s is fine: %s\n", name, r.Name, r.Title)
		return r, nil
	case errors.As(err, &mistakes):
		a.tellMistakes(name, mistakes)
		return nil, nil
	}
	return nil, err
}

// tellMistakes prints what is wrong with a file, a line each.
func (a *app) tellMistakes(name string, of *fileschema.MistakesError) {
	for _, m := range of.Mistakes {
		fmt.Fprintf(a.out, "%s:%s\n", name, placedText(m))
	}
}

// placedText writes a mistake behind the name of its file, as editors read it.
func placedText(m fileschema.Mistake) string {
	text := m.What
	if m.Field != "" {
		text = m.Field + ": " + text
	}
	if m.At.Line == 0 {
		return " " + text
	}
	return fmt.Sprintf("%d:%d: %s", m.At.Line, m.At.Column, text)
}

// showRecipe prints a recipe with the settings that jobs may give, and its versions.
func (a *app) showRecipe(r wire.RecipeDetail) {
	fmt.Fprintf(a.out, "%s  %s\n", r.Name, r.Title)
	if r.Dropped {
		fmt.Fprintln(a.out, "It was dropped: no new run may have it.")
	}
	role := "everybody who may submit runs"
	if r.Role != "" {
		role = "people with the role " + r.Role + ", or a higher one"
	}
	a.facts(
		"mode", r.Mode, "scenes", strings.Join(r.Scenes, " "), "nodes", english.Plural(r.Nodes, "has it", "have it"),
		"for", role,
	)
	if len(r.Values) > 0 {
		fmt.Fprintln(a.out)
		t := newTable(a.out, "SETTING", "WHEN LEFT OUT")
		for _, name := range slices.Sorted(maps.Keys(r.Values)) {
			t.add(name, r.Values[name])
		}
		t.print()
	}
	if len(r.Versions) == 0 {
		return
	}
	fmt.Fprintln(a.out)
	t := newTable(a.out, ">VERSION", "SINCE", "BY", ">OPEN RUNS", "NOTE")
	for _, v := range r.Versions {
		t.add(fmt.Sprint(v.Number), clock(v.At, time.Now()), versionBy(v), fmt.Sprint(v.OpenRuns), v.Note)
	}
	t.print()
}

// versionBy says where a version of a recipe came from.
func versionBy(v wire.RecipeVersion) string {
	switch v.Origin {
	case "shipped":
		return "shipped with vexillum"
	case "folder":
		return "from a folder of " + v.By
	}
	return v.By
}
