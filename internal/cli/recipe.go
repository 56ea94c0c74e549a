package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/plainyaml"
	"vexillum/internal/recipe"
	"vexillum/internal/wire"
)

// recipeCommand shows recipes and looks at files of them.
func (a *app) recipeCommand() *cobra.Command {
	parent := &cobra.Command{Use: "recipe", Short: "List and check recipes: how renderers are started and read"}
	parent.AddCommand(a.recipeListCommand(), a.recipeShowCommand(), a.recipeCheckCommand(), a.recipeTryCommand())
	parent.AddCommand(a.stayCommands("recipe")...)
	return parent
}

func (a *app) recipeListCommand() *cobra.Command {
	return list(a, "list", "List the recipes: what can be rendered, and on how many nodes", "/api/v1/recipes",
		[]string{"RECIPE", "TITLE", "MODE", "SCENES", ">NODES"}, func(r wire.Recipe) []string {
			return []string{r.Name, r.Title, r.Mode, strings.Join(r.Scenes, " "), fmt.Sprint(r.Nodes)}
		})
}

func (a *app) recipeShowCommand() *cobra.Command {
	return a.jsonFlag(&cobra.Command{
		Use: "show NAME", Short: "Show one recipe in full", Args: exactly(1, "the name of a recipe"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			all, err := get[[]wire.Recipe](ctx, cl, "/api/v1/recipes")
			if err != nil {
				return err
			}
			i := slices.IndexFunc(all, func(r wire.Recipe) bool { return r.Name == args[0] })
			if i < 0 {
				return fmt.Errorf("there is no recipe %q; vexillum recipe list shows them", args[0])
			}
			if a.json {
				return a.printJSON(all[i])
			}
			a.showRecipe(all[i])
			return nil
		}),
	})
}

// recipeCheckCommand says what is wrong with recipe files. It needs no service.
func (a *app) recipeCheckCommand() *cobra.Command {
	return &cobra.Command{
		Use: "check FILE…", Short: "Say what is wrong with recipe files, with line and column",
		Long: "Looks at recipe files as a service would, and names every mistake with its line and column. It needs no\n" +
			"service. A file may be - for standard input. The exit code is 1 if any file has a mistake.",
		Example: "  vexillum recipe check glass.yaml\n  vexillum recipe check recipes/*.yaml",
		Args:    atLeast(1, "recipe files"),
		RunE: func(_ *cobra.Command, args []string) error {
			bad := 0
			for _, name := range args {
				fine, err := a.checkRecipe(name)
				if err != nil {
					return err
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

// checkRecipe prints what is wrong with one file, a line each, and reports whether
// nothing is.
func (a *app) checkRecipe(name string) (fine bool, err error) {
	data, err := readBounded(name)
	if err != nil {
		return false, err
	}
	r, err := recipe.Parse(data)
	var mistakes *recipe.MistakesError
	switch {
	case err == nil:
		fmt.Fprintf(a.out, "%s: %s is fine: %s\n", name, r.Name, r.Title)
		return true, nil
	case errors.As(err, &mistakes):
		for _, m := range mistakes.Mistakes {
			fmt.Fprintf(a.out, "%s:%s\n", name, placedText(m))
		}
		return false, nil
	}
	return false, err
}

// placedText writes a mistake behind the name of its file, as editors read it.
func placedText(m recipe.Mistake) string {
	text := m.What
	if m.Field != "" {
		text = m.Field + ": " + text
	}
	if m.At.Line == 0 {
		return " " + text
	}
	return fmt.Sprintf("%d:%d: %s", m.At.Line, m.At.Column, text)
}

// readBounded reads a file, or standard input for -, up to what a recipe may have.
func readBounded(name string) ([]byte, error) {
	in := os.Stdin
	if name != "-" {
		file, err := os.Open(name)
		if err != nil {
			return nil, fmt.Errorf("reading the recipe: %w", err)
		}
		defer file.Close()
		in = file
	}
	data, err := io.ReadAll(io.LimitReader(in, plainyaml.MostBytes+1))
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", name, err)
	}
	return data, nil
}

// showRecipe prints a recipe with the settings that jobs may give.
func (a *app) showRecipe(r wire.Recipe) {
	fmt.Fprintf(a.out, "%s  %s\n", r.Name, r.Title)
	a.facts("mode", r.Mode, "scenes", strings.Join(r.Scenes, " "), "nodes", fmt.Sprintf("%d have it", r.Nodes))
	if len(r.Values) == 0 {
		return
	}
	fmt.Fprintln(a.out)
	t := newTable(a.out, "SETTING", "WHEN LEFT OUT")
	for _, name := range slices.Sorted(maps.Keys(r.Values)) {
		t.add(name, r.Values[name])
	}
	t.print()
}
