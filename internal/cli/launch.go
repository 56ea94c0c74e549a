package cli

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/wire"
)

// launchCommand sets the account and the variables that renderers are launched
// with.
func (a *app) launchCommand() *cobra.Command {
	parent := &cobra.Command{
		Use: "launch", Short: "Set the account and the variables that renderers are launched with",
		Long: "Account, group, file mask and variables can be set for the farm, a recipe, a project, or a recipe in a project. Where\n" +
			"several of these apply to a launch, the later wins. Renderers that start from then on get them.",
	}
	parent.AddCommand(a.launchSetCommand(), a.launchDropCommand(), list(
		a, "list", "List what is set", launchPath, []string{"FOR", "ACCOUNT", "GROUP", "MASK", "VARIABLES"},
		func(l wire.LaunchSettings) []string {
			return []string{l.For, l.Account, l.Group, l.Mask, variablesText(l.Variables)}
		},
	))
	return parent
}

const launchPath = "/api/v1/launch-settings"

func variablesText(variables map[string]string) string {
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(variables)) {
		parts = append(parts, name+"="+variables[name])
	}
	return strings.Join(parts, "  ")
}

func (a *app) launchSetCommand() *cobra.Command {
	var in wire.LaunchSettingsChange
	account, group, mask := new(string), new(string), new(string)
	var sets, drops []string
	c := &cobra.Command{
		Use: "set", Short: "Set some of it; what is not named stays", Args: exactly(0, "no arguments"),
		Example: "  vexillum launch set --account render --group film --mask 002\n" +
			"  vexillum launch set --project salt-clock --set COLOUR_TABLE={scene_root}/tables/salt.csv",
	}
	f := c.Flags()
	f.StringVarP(&in.Project, "project", "p", "", "for this project alone")
	f.StringVar(&in.Recipe, "recipe", "", "for this recipe alone")
	f.StringVar(account, "account", "", "account that renderers run as; empty: as the node process does")
	f.StringVar(group, "group", "", "group that they and their files belong to; empty: the account's")
	f.StringVar(mask, "mask", "", "octal mask: permissions that new files do not get, such as 002; empty: the system's")
	f.StringArrayVar(
		&sets, "set", nil, "a variable, as NAME=VALUE; the value may hold placeholders such as {scene_root}",
	)
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
		var next wire.LaunchSettings
		if err := cl.Do(ctx, http.MethodPatch, launchPath, in, &next); err != nil {
			return err
		}
		set := launchText(wire.LaunchValues{
			Account: next.Account, Group: next.Group, Mask: next.Mask, Variables: next.Variables,
		})
		fmt.Fprintf(
			a.out, "Launches for %s get: %s. This holds for renderers that start from now on.\n", next.For,
			cmp.Or(set, "nothing of their own"),
		)
		return nil
	})
	return c
}

func (a *app) launchDropCommand() *cobra.Command {
	var project, recipe string
	c := &cobra.Command{
		Use: "drop", Short: "Take all of it back for the farm, a project, a recipe, or both",
		Args: exactly(0, "no arguments"),
	}
	c.Flags().StringVarP(&project, "project", "p", "", "what is set for this project")
	c.Flags().StringVar(&recipe, "recipe", "", "what is set for this recipe")
	c.RunE = a.asking(func(ctx context.Context, cl *client.Client, _ []string) error {
		all, err := get[[]wire.LaunchSettings](ctx, cl, launchPath)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(
			all, func(l wire.LaunchSettings) bool { return l.Project == project && l.Recipe == recipe },
		)
		if i < 0 {
			fmt.Fprintln(a.out, "Nothing is set there; nothing to do.")
			return nil
		}
		query := url.Values{"project": {project}, "recipe": {recipe}}
		if err := cl.Do(ctx, http.MethodDelete, launchPath+"?"+query.Encode(), nil, nil); err != nil {
			return err
		}
		fmt.Fprintf(
			a.out, "Nothing is set for %s any more. This holds for renderers that start from now on.\n", all[i].For,
		)
		return nil
	})
	return c
}

// launchText puts launch settings in one line.
func launchText(e wire.LaunchValues) string {
	parts := []string{
		named("account", e.Account), named("group", e.Group), named("mask", e.Mask), variablesText(e.Variables),
	}
	return strings.Join(slices.DeleteFunc(parts, func(s string) bool { return s == "" }), ", ")
}

func named(what, value string) string {
	if value == "" {
		return ""
	}
	return what + " " + value
}
