package cli

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/node"
	"vexillum/internal/recipe"
	"vexillum/internal/wire"
)

// nodeProbeCommand lets nodes look for renderers again.
func (a *app) nodeProbeCommand() *cobra.Command {
	var sel selection
	c := a.jsonFlag(&cobra.Command{
		Use: "probe [NAME…]", Short: "Let nodes look for their renderers again, and show what they found",
		Long: "Runs the probe of every recipe on the nodes, and shows the renderers found and what each failed probe\n" +
			"printed. Nodes repeat failed probes at growing intervals; this does it at once. The exit code is 1 if a\n" +
			"probe failed or a node did not answer.",
		Example: "  vexillum nodes probe kiln-03\n  vexillum nodes probe --pool graphics",
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			in, err := sel.read(ctx, cl, args)
			if err != nil {
				return err
			}
			var probed []wire.NodeProbe
			if err := cl.Do(ctx, http.MethodPost, "/api/v1/node-probes", in, &probed); err != nil {
				return err
			}
			if a.json {
				err = a.printJSON(probed)
			} else {
				a.printProbes(probed)
			}
			if err == nil && slices.ContainsFunc(probed, probeFailed) {
				err = outcome{exitFailed}
			}
			return err
		}),
	})
	c.Flags().StringVarP(&sel.where, "where", "w", "", "the nodes that this expression over traits picks")
	c.Flags().StringVar(&sel.pool, "pool", "", "the members of this pool")
	return c
}

// probeFailed reports whether a node did not answer, or a probe failed there.
func probeFailed(p wire.NodeProbe) bool {
	return p.Error != "" || slices.ContainsFunc(p.Renderers, func(r wire.Renderer) bool { return r.Failed })
}

func (a *app) printProbes(probed []wire.NodeProbe) {
	if len(probed) == 0 {
		fmt.Fprintln(a.out, "No node is picked.")
		return
	}
	t := newTable(a.out, "NODE", "RECIPE", "VERSION", "RESULT")
	for _, p := range probed {
		switch {
		case p.Error != "":
			t.add(p.Name, "", "", p.Error)
		case len(p.Renderers) == 0:
			t.add(p.Name, "", "", "no renderer found")
		}
		for _, r := range p.Renderers {
			result := "found at " + r.Path
			if r.Unfit != "" {
				result = "cannot be used: " + r.Unfit
			}
			t.add(p.Name, r.Recipe, r.Version, result)
		}
	}
	t.print()
	for _, p := range probed {
		for _, r := range p.Renderers {
			if r.Printed != "" {
				fmt.Fprintf(a.out, "\n%s on %s (%s) printed:\n%s\n", r.Recipe, p.Name, r.Path, indented(r.Printed))
			}
		}
	}
}

// indented sets the lines of a text off from the left margin.
func indented(text string) string {
	return "  " + strings.ReplaceAll(strings.TrimSpace(text), "\n", "\n  ")
}

// probeHere runs the probe of a recipe on this machine, prints what came of it, and reports
// whether the renderer can be used. A machine without the program passes: others may have it.
func (a *app) probeHere(ctx context.Context, r *recipe.Recipe) (fine bool, err error) {
	got, there, err := node.ProbeHere(ctx, *r)
	switch {
	case err != nil:
		return false, err
	case !there:
		fmt.Fprintf(
			a.out, "probe: not run; none of its programs is on this machine (%s)\n",
			strings.Join(r.Program.Here(), ", "),
		)
	case got.Unfit != "":
		fmt.Fprintf(a.out, "probe: %s cannot be used: %s\n", got.Path, got.Unfit)
		if got.Printed != "" {
			fmt.Fprintf(a.out, "it printed:\n%s\n", indented(got.Printed))
		}
		return false, nil
	case got.Version == "":
		fmt.Fprintf(a.out, "probe: %s is there\n", got.Path)
	default:
		fmt.Fprintf(a.out, "probe: %s is version %s\n", got.Path, got.Version)
	}
	return true, nil
}
