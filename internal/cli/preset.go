package cli

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/fileschema"
	"vexillum/internal/jobfile"
	"vexillum/internal/wire"
)

// presetCommand sets presets: settings that jobs may take over.
func (a *app) presetCommand() *cobra.Command {
	parent := &cobra.Command{
		Use: "preset", Short: "Set presets: named settings that jobs may take over",
		Long: "A preset holds settings of jobs: size, values of the recipe, needs, tries, ceilings, and what a proof has\n" +
			"otherwise. It is of a project and a recipe, of either, or of all.",
	}
	parent.AddCommand(
		a.presetListCommand(), a.presetShowCommand(), a.presetSetCommand(), a.presetDropCommand(), a.presetUseCommand(),
	)
	return parent
}

// presetScope are the flags that say of what a preset is.
type presetScope struct{ project, recipe string }

func (s *presetScope) bind(a *app, c *cobra.Command) {
	c.Flags().StringVarP(&s.project, "project", "p", "", "of this project (default: of any)")
	c.Flags().StringVar(&s.recipe, "recipe", "", "of this recipe (default: of any)")
	a.completeFlags(c, map[string]lister{"project": projectList, "recipe": recipeList})
}

func (s *presetScope) path(name string) string {
	query := url.Values{}
	if s.project != "" {
		query.Set("project", s.project)
	}
	if s.recipe != "" {
		query.Set("recipe", s.recipe)
	}
	path := "/api/v1/presets/" + url.PathEscape(name)
	if len(query) > 0 {
		path += "?" + query.Encode()
	}
	return path
}

func (a *app) presetListCommand() *cobra.Command {
	return list(
		a, "list", "List the presets", "/api/v1/presets",
		[]string{"PRESET", "PROJECT", "RECIPE", ">VERSION", "BY", "MINE"}, func(p wire.Preset) []string {
			mine := ""
			if p.Mine {
				mine = "yes"
			}
			return []string{
				p.Name, cmp.Or(p.Project, "any"), cmp.Or(p.Recipe, "any"), fmt.Sprint(p.Versions[0].Number),
				p.Versions[0].By, mine,
			}
		},
	)
}

func (a *app) presetShowCommand() *cobra.Command {
	var of presetScope
	version := 0
	c := a.jsonFlag(&cobra.Command{
		Use: "show NAME", Short: "Print the text of a preset", Args: exactly(1, "the name of a preset"),
		Example: "  vexillum preset show final --project salt-clock > final.yaml",
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			all, err := get[[]wire.Preset](ctx, cl, "/api/v1/presets")
			if err != nil {
				return err
			}
			for _, p := range all {
				if p.Name != args[0] || p.Project != of.project || p.Recipe != of.recipe {
					continue
				}
				if a.json {
					return a.printJSON(p)
				}
				for _, v := range p.Versions {
					if version == 0 || v.Number == version {
						fmt.Fprint(a.out, v.Text)
						return nil
					}
				}
				return fmt.Errorf(
					"the preset %s has no version %d; the newest is %d",
					p.Name,
					version,
					p.Versions[0].Number,
				)
			}
			return fmt.Errorf("there is no such preset; vexillum preset list shows them, with their project and recipe")
		}),
	})
	of.bind(a, c)
	c.Flags().IntVar(&version, "version", 0, "show this version; the newest when left out")
	return c
}

func (a *app) presetSetCommand() *cobra.Command {
	var of presetScope
	note := ""
	c := a.jsonFlag(&cobra.Command{
		Use: "set NAME FILE", Short: "Make a preset, or a further version of it",
		Long: "Makes a preset from a file of settings in YAML; - is standard input. Runs that were submitted before keep\n" +
			"what they have.",
		Example: "  printf 'values: {quality: 11}\\nproof: {every: 12, scale: 50%%, values: {quality: 4}}\\n' |\n" +
			"    vexillum preset set final - --project salt-clock",
		Args: exactly(2, "a name and a file, or - for standard input"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			data, err := readInput(args[1], "a file of settings")
			if err != nil {
				return err
			}
			data = bytes.ReplaceAll(data, []byte("\r\n"), []byte("\n"))
			var mistakes *fileschema.MistakesError
			if _, err := jobfile.ParsePreset(data); errors.As(err, &mistakes) {
				a.tellMistakes(args[1], mistakes)
				return fmt.Errorf("%s has mistakes; nothing was changed", args[1])
			}
			var out wire.Preset
			err = cl.Do(ctx, http.MethodPut, of.path(args[0]), wire.PresetChange{Text: string(data), Note: note}, &out)
			switch {
			case err != nil:
				return err
			case a.json:
				return a.printJSON(out)
			}
			fmt.Fprintf(a.out, "Version %d of %s is in force for new runs.\n", out.Versions[0].Number, out.Name)
			return nil
		}),
	})
	of.bind(a, c)
	c.Flags().StringVar(&note, "note", "", "why, for those who look at its versions")
	return c
}

func (a *app) presetDropCommand() *cobra.Command {
	var of presetScope
	c := &cobra.Command{
		Use: "drop NAME", Short: "Take a preset out of use for new runs", Args: exactly(1, "the name of a preset"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			if err := cl.Do(ctx, http.MethodDelete, of.path(args[0]), nil, nil); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "The preset %s is for no new run any more.\n", args[0])
			return nil
		}),
	}
	of.bind(a, c)
	return c
}

func (a *app) presetUseCommand() *cobra.Command {
	var of presetScope
	c := &cobra.Command{
		Use: "use NAME", Short: "Let your own runs have a preset where nothing is said; none takes it back",
		Args: exactly(1, "the name of a preset, or none"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			in := wire.PresetChoice{Project: of.project, Recipe: of.recipe, Name: args[0]}
			if in.Name == "none" {
				in.Name = ""
			}
			if err := cl.Do(ctx, http.MethodPut, "/api/v1/preset-choice", in, nil); err != nil {
				return err
			}
			if in.Name == "" {
				fmt.Fprintln(a.out, "Your runs have no preset of their own choice there any more.")
				return nil
			}
			fmt.Fprintf(a.out, "Your runs have the preset %s where nothing else is said.\n", in.Name)
			return nil
		}),
	}
	of.bind(a, c)
	return c
}

// presetText says from which preset a run has its settings.
func presetText(p *wire.RunPreset) string {
	if p == nil {
		return ""
	}
	text := fmt.Sprintf("%s, version %d", p.Name, p.Version)
	if len(p.Changed) > 0 {
		text += "; changed here: " + strings.Join(p.Changed, ", ")
	}
	return text
}

// afterText names the runs that a run waits for, or has waited for.
func afterText(after []wire.RunAfter) string {
	var parts []string
	for _, a := range after {
		text := a.Name
		if a.Frames {
			text += " (frame by frame)"
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, ", ")
}
