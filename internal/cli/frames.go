package cli

import (
	"context"
	"fmt"
	"net/http"

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/core/frames"
	"vexillum/internal/wire"
)

// skipCommand gives frames of a run up.
func (a *app) skipCommand() *cobra.Command {
	c, in := a.framesCommand(
		"skip",
		"Give frames up, so that the run can end without them",
		"Gives frames of a run up that are parked, or not on a node: all parked ones where none are named.\n"+
			"The run ends done with gaps, and nobody is asked for them any more. vexillum retry takes that\n"+
			"back.",
		"  vexillum skip salt_010 --note \"cut from the film\"\n  vexillum skip salt_010 --frames 12,40-44 --dry-run",
	)
	c.Flags().StringVar(&in.Note, "note", "", "why, for those who look")
	return c
}

// parkCommand sets frames of a run aside.
func (a *app) parkCommand() *cobra.Command {
	c, in := a.framesCommand(
		"park",
		"Set frames aside for now; the rest goes on",
		"Parks frames of a run that are to do and not on a node, as if they had failed: the rest goes on,\n"+
			"and they wait for a person. vexillum retry has them rendered after all, and vexillum skip gives\n"+
			"them up.",
		"  vexillum park salt_010 --frames 12,40-44 --note \"the cache is simulated anew\"",
	)
	c.Flags().StringVar(&in.Note, "note", "", "why, for those who look")
	return c
}

// acceptCommand says that suspect frames are as they shall be.
func (a *app) acceptCommand() *cobra.Command {
	c, _ := a.framesCommand(
		"accept",
		"Say that suspect frames are as they shall be",
		"Accepts frames of a run in which something odd was found, once somebody has looked at them: all\n"+
			"that are suspect where none are named.",
		"  vexillum accept salt_010\n  vexillum accept salt_010 --frames 1-4",
	)
	return c
}

// framesCommand makes a command that decides about frames of one run.
func (a *app) framesCommand(do, short, long, example string) (*cobra.Command, *wire.FramesAct) {
	in := &wire.FramesAct{Do: do}
	c := a.jsonFlag(&cobra.Command{
		Use: do + " RUN", Short: short, Long: long + "\n\n" + runNames, Example: example,
		Args: exactly(1, "the name of a run"),
	})
	c.RunE = a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
		if err := refuseEmpty(c); err != nil {
			return err
		}
		if _, err := frames.Parse(in.Frames); in.Frames != "" && err != nil {
			return usageError{err}
		}
		run, err := findRun(ctx, cl, args[0])
		if err != nil {
			return err
		}
		var out wire.FramesActed
		if err := cl.Do(ctx, http.MethodPost, fmt.Sprintf("/api/v1/runs/%d/frame-acts", run.ID), in, &out); err != nil {
			return err
		}
		if a.json {
			return a.printJSON(out)
		}
		a.tellFramesActed(do, out)
		return nil
	})
	c.Flags().StringVarP(&in.Frames, "frames", "f", "", "only these frames, such as 12 or 12,40-44")
	c.Flags().BoolVar(&in.DryRun, "dry-run", false, "only say what would happen")
	return c, in
}

func (a *app) tellFramesActed(do string, out wire.FramesActed) {
	done := map[string]string{"park": "parked", "skip": "skipped", "accept": "accepted"}[do]
	verb := english.PluralWord(out.Count, "is", "are")
	if out.DryRun {
		verb = "would be"
	}
	fmt.Fprintf(
		a.out, "%s: %s %s %s %s.\n", out.Name, english.PluralWord(out.Count, "frame", "frames"), out.Frames, verb, done,
	)
}
