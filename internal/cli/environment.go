package cli

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/wire"
)

// environmentCommand says as whom renderers run and what they find in their
// environment.
func (a *app) environmentCommand() *cobra.Command {
	parent := &cobra.Command{
		Use: "environment", Short: "Say as whom renderers run, and with which variables",
		Long: "An environment is said for the farm, a recipe, a project, or a recipe in a project; for one launch the later of these\n" +
			"wins. Renderers started from then on have it.",
	}
	parent.AddCommand(a.environmentSetCommand(), list(a, "list", "List what is said", "/api/v1/environments",
		[]string{"FOR", "ACCOUNT", "GROUP", "MASK", "VARIABLES"}, func(e wire.Environment) []string {
			return []string{environmentOf(e), e.Account, e.Group, e.Mask, variablesText(e.Variables)}
		}))
	return parent
}

func environmentOf(e wire.Environment) string {
	switch {
	case e.Project == "" && e.Recipe == "":
		return "the farm"
	case e.Recipe == "":
		return "project " + e.Project
	case e.Project == "":
		return "recipe " + e.Recipe
	}
	return fmt.Sprintf("recipe %s in project %s", e.Recipe, e.Project)
}

func variablesText(variables map[string]string) string {
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(variables)) {
		parts = append(parts, name+"="+variables[name])
	}
	return strings.Join(parts, "  ")
}

func (a *app) environmentSetCommand() *cobra.Command {
	var in wire.EnvironmentChange
	account, group, mask := new(string), new(string), new(string)
	var sets, drops []string
	c := &cobra.Command{
		Use: "set", Short: "Say or change an environment; what is not named stays", Args: exactly(0, "no arguments"),
		Example: "  vexillum environment set --account render --group film --mask 002\n" +
			"  vexillum environment set --project salt-clock --set COLOUR_TABLE={scene_root}/tables/salt.csv",
	}
	f := c.Flags()
	f.StringVarP(&in.Project, "project", "p", "", "for this project alone")
	f.StringVar(&in.Recipe, "recipe", "", "for this recipe alone")
	f.StringVar(account, "account", "", "account that renderers run as; empty: as the node process does")
	f.StringVar(group, "group", "", "group that they and their files belong to; empty: the account's")
	f.StringVar(mask, "mask", "", "octal mask: permissions that new files do not get, such as 002; empty: the system's")
	f.StringArrayVar(&sets, "set", nil, "a variable, as NAME=VALUE; the value may hold placeholders such as {scene_root}")
	f.StringSliceVar(&drops, "drop", nil, "take a variable back")
	c.RunE = a.asking(func(ctx context.Context, cl *client.Client, _ []string) error {
		for name, p := range map[string]struct{ to, from **string }{
			"account": {&in.Account, &account}, "group": {&in.Group, &group}, "mask": {&in.Mask, &mask},
		} {
			if f.Changed(name) {
				*p.to = *p.from
			}
		}
		in.Variables = map[string]*string{}
		for _, s := range sets {
			name, value, ok := strings.Cut(s, "=")
			if !ok {
				return usageError{fmt.Errorf("--set %q: write it as NAME=VALUE", s)}
			}
			in.Variables[name] = &value
		}
		for _, name := range drops {
			in.Variables[name] = nil
		}
		var next wire.Environment
		if err := cl.Do(ctx, http.MethodPatch, "/api/v1/environments", in, &next); err != nil {
			return err
		}
		said := environmentText(wire.LeaseEnvironment{Account: next.Account, Group: next.Group, Mask: next.Mask, Variables: next.Variables})
		if said == "" {
			said = "nothing more is said"
		}
		fmt.Fprintf(a.out, "for %s: %s; renderers that start from now on have it\n", environmentOf(next), said)
		return nil
	})
	return c
}

// environmentText says as whom renderers run, and what they find.
func environmentText(e wire.LeaseEnvironment) string {
	parts := []string{named("account", e.Account), named("group", e.Group), named("mask", e.Mask), variablesText(e.Variables)}
	return strings.Join(slices.DeleteFunc(parts, func(s string) bool { return s == "" }), ", ")
}

func named(what, value string) string {
	if value == "" {
		return ""
	}
	return what + " " + value
}
