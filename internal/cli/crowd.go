package cli

import (
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"vexillum/internal/crowd"
)

// crowdCommand loads a service with pretended nodes.
func (a *app) crowdCommand() *cobra.Command {
	var o crowd.Options
	var spoil bool
	c := &cobra.Command{
		Use:   "crowd URL",
		Short: "Pretend to be many nodes, to load a service",
		Long: "Pretends to be many nodes, and reports frames that were never rendered. A farm that has met a crowd " +
			"is spoiled.",
		Hidden: true,
		Args:   exactly(1, "the address of a service that may be spoiled"),
		RunE: func(c *cobra.Command, args []string) error {
			if !spoil {
				return usageError{
					errors.New(
						"a crowd reports frames that were never rendered; give --spoil-this-farm if the farm " +
							"may be spoiled",
					),
				}
			}
			o.Service = args[0]
			crowd, err := crowd.Join(c.Context(), o)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%d nodes have joined\n", o.Nodes)
			go func() {
				for c.Context().Err() == nil {
					select {
					case <-c.Context().Done():
					case <-time.After(5 * time.Second):
						f := crowd.Figures()
						fmt.Fprintf(
							a.out,
							"in 5 s: %d signs of life (99 %% within %v), %d leases (99 %% within %v), %d frames, %d calls failed\n",
							f.Beats, f.BeatP99.Round(100*time.Microsecond), f.Leases,
							f.AskP99.Round(100*time.Microsecond), f.Frames, f.Failed,
						)
					}
				}
			}()
			crowd.Run(c.Context())
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&o.Key, "key", "", "enrolment key with a use for each node")
	f.IntVar(&o.Nodes, "nodes", 2000, "nodes")
	f.DurationVar(&o.Beat, "beat", 5*time.Second, "between signs of life of a node")
	f.DurationVar(&o.Frame, "frame", 10*time.Second, "that a node of speed 1 pretends to render a frame")
	f.BoolVar(&spoil, "spoil-this-farm", false, "the farm may be spoiled")
	return c
}
