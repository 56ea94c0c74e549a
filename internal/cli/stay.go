package cli

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/wire"
)

// stayCommands hold and release a place, a recipe or a pool as a whole.
func (a *app) stayCommands(kind string) []*cobra.Command {
	set := func(in *wire.Stay) func(*cobra.Command, []string) error {
		return a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			in.Kind, in.Name = kind, args[0]
			var done wire.StayDone
			if err := cl.Do(ctx, http.MethodPut, "/api/v1/stays", in, &done); err != nil {
				return err
			}
			fmt.Fprintln(a.out, strings.ToUpper(done.Sentence[:1])+done.Sentence[1:]+".")
			return nil
		})
	}
	name := exactly(1, "the name of a "+kind)
	hold, release := wire.Stay{Held: true}, wire.Stay{}
	h := &cobra.Command{
		Use: "hold NAME", Short: "Begin nothing new with a " + kind + "; frames in flight finish", Args: name,
		RunE: set(&hold),
	}
	h.Flags().StringVar(&hold.Reason, "reason", "", "why, for those who look")
	h.Flags().BoolVar(&hold.DryRun, "dry-run", false, "only say what would happen")
	every := 30 * time.Second
	r := &cobra.Command{
		Use: "release NAME", Short: "Go on with a " + kind + " that was held: at once, or in steps", Args: name,
	}
	r.Flags().
		IntVar(&release.Step, "step", 0, "nodes that may begin at once, and again after each --every (default: all)")
	r.Flags().DurationVar(&every, "every", every, "time between steps")
	r.Flags().BoolVar(&release.DryRun, "dry-run", false, "only say what would happen")
	act := set(&release)
	r.RunE = func(c *cobra.Command, args []string) error {
		if release.Step > 0 {
			release.EverySeconds = int(every.Round(time.Second).Seconds())
		}
		return act(c, args)
	}
	return []*cobra.Command{h, r}
}
