package cli

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/wire"
)

// diffCommand says how a run differs from what another was submitted with.
func (a *app) diffCommand() *cobra.Command {
	c := a.jsonFlag(&cobra.Command{
		Use:   "diff RUN [OTHER]",
		Short: "Say how a run differs from the one of its job before, or from another",
		Long: "Lists what the two were submitted with and is not alike: scene and its content, frames, size,\n" +
			"settings, recipe, needs. " + runNames,
		Example: "  vexillum diff salt_010\n  vexillum diff salt_010/final-2 salt_010/proof-1",
		Args:    between(1, 2, "the name of a run, or of two"),
	})
	c.RunE = a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
		run, err := findRun(ctx, cl, args[0])
		if err != nil {
			return err
		}
		path := fmt.Sprintf("/api/v1/runs/%d/differences", run.ID)
		if len(args) > 1 {
			other, err := findRun(ctx, cl, args[1])
			if err != nil {
				return err
			}
			path += fmt.Sprintf("?from=%d", other.ID)
		}
		out, err := get[wire.RunDifferences](ctx, cl, path)
		if err != nil {
			return err
		}
		if a.json {
			return a.printJSON(out)
		}
		a.tellDifferences(out)
		return nil
	})
	return c
}

func (a *app) tellDifferences(d wire.RunDifferences) {
	if len(d.Differences) == 0 {
		fmt.Fprintf(a.out, "%s was submitted with the same as %s.\n", d.Name, d.FromName)
		return
	}
	t, now := newTable(a.out, "", d.FromName, d.Name), time.Now()
	for _, x := range d.Differences {
		t.add(differenceText(x), cmp.Or(inZone(x.Was, now), "–"), cmp.Or(inZone(x.Is, now), "–"))
	}
	t.print()
}

// differenceText names what differs.
func differenceText(x wire.RunDifference) string {
	if x.Value {
		return "setting " + x.What
	}
	return x.What
}
