package cli

import (
	"context"
	"fmt"
	"net/http"

	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/wire"
)

// mendedCommand lets runs go on with their scenes as they are now.
func (a *app) mendedCommand() *cobra.Command {
	var in wire.Mending
	c := a.jsonFlag(&cobra.Command{
		Use: "mended RUN…", Short: "Say that the scenes of runs are mended: go on with them as they are now",
		Long: "After a scene, or a file that it needs, was repaired: says what has changed, tries parked frames again and\n" +
			"releases what the farm holds. Frames that are done stay, and are listed; --redo renders them again.\n\n" + runNames,
		Example: "  vexillum mended salt_010 --dry-run\n  vexillum mended salt_010 --redo",
		Args:    atLeast(1, "the names of runs"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			all := make([]wire.Mended, 0, len(args))
			for _, name := range args {
				run, err := findRun(ctx, cl, name)
				if err != nil {
					return err
				}
				var out wire.Mended
				path := fmt.Sprintf("/api/v1/runs/%d/mended", run.ID)
				if err := cl.Do(ctx, http.MethodPost, path, in, &out); err != nil {
					return err
				}
				if all = append(all, out); !a.json {
					a.tellMended(out)
				}
			}
			if a.json {
				return a.printJSON(all)
			}
			return nil
		}),
	})
	c.Flags().BoolVar(&in.Redo, "redo", false, "render the frames again that are done, too")
	c.Flags().BoolVar(&in.DryRun, "dry-run", false, "only say what has changed, and what would happen")
	return c
}

func (a *app) tellMended(m wire.Mended) {
	what := state(m.Run.State)
	if m.DryRun {
		what = "nothing is changed yet"
	}
	fmt.Fprintf(a.out, "%s  %s\n", m.Run.Name, what)
	for _, s := range m.Sentences {
		fmt.Fprintf(a.out, "  %s\n", s)
	}
}
