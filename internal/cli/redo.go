package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"vexillum/internal/client"
	"vexillum/internal/core/frames"
	"vexillum/internal/wire"

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"
)

// redoCommand renders frames again that are done.
func (a *app) redoCommand() *cobra.Command {
	var in wire.Redo
	list := ""
	c := a.jsonFlag(&cobra.Command{
		Use: "redo RUN", Short: "Render done frames again",
		Long: "Renders frames of a run again. The old pictures stay until the new ones are verified; then they are kept in\n" +
			"the folder \"replaced\" beside them. What is chosen in several ways is put together.\n\n" + runNames,
		Example: "  vexillum redo salt_010 --frames 7,9-12\n  vexillum redo salt_010 --missing --dry-run\n" +
			"  vexillum redo salt_010 --suspect --node kiln-03",
		Args: exactly(1, "the name of a run"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			if list != "" {
				frames, err := reviewed(list)
				if err != nil {
					return err
				}
				in.Frames = strings.Trim(in.Frames+","+frames, ",")
			}
			if in.Frames == "" && !in.Suspect && in.Node == "" && !in.Missing {
				return usageError{errors.New("say which frames: --frames, --suspect, --node, --missing or --list")}
			}
			if _, err := frames.Parse(in.Frames); in.Frames != "" && err != nil {
				return usageError{err}
			}
			run, err := findRun(ctx, cl, args[0])
			if err != nil {
				return err
			}
			var out wire.Redone
			if err := cl.Do(ctx, http.MethodPost, fmt.Sprintf("/api/v1/runs/%d/redo", run.ID), in, &out); err != nil {
				return err
			}
			if a.json {
				return a.printJSON(out)
			}
			a.tellRedone(out)
			return nil
		}),
	})
	f := c.Flags()
	f.StringVarP(&in.Frames, "frames", "f", "", "frames to render again, such as 7 or 7,9-12")
	f.BoolVar(&in.Suspect, "suspect", false, "those that are suspect")
	f.StringVar(&in.Node, "node", "", "those that this node has rendered")
	f.BoolVar(&in.Missing, "missing", false, "those whose files are not there any more, or not whole")
	f.StringVar(
		&list,
		"list",
		"",
		"those of a review list: a file with frames, each line a range and any words behind it",
	)
	f.BoolVar(&in.DryRun, "dry-run", false, "only say which those are")
	a.completeFlags(c, map[string]lister{"node": nodeList})
	return c
}

func (a *app) tellRedone(r wire.Redone) {
	switch {
	case r.Count == 0:
		fmt.Fprintf(a.out, "%s has no such frame; nothing is rendered again.\n", r.Run.Name)
	case r.DryRun:
		fmt.Fprintf(
			a.out, "%s of %s would be rendered again: %s\n", english.Plural(r.Count, "frame", ""), r.Run.Name, r.Frames,
		)
	default:
		fmt.Fprintf(
			a.out, "%s  %s\n  Frames %s are rendered again; the old pictures stay until the new ones are verified.\n",
			r.Run.Name, state(r.Run.State), r.Frames,
		)
	}
}

// reviewed reads a review list: lines that begin with a frame or a range; words behind them,
// empty lines and lines that begin with # are for people.
func reviewed(name string) (string, error) {
	text, err := readInput(name, "a review list")
	if err != nil {
		return "", err
	}
	var out []string
	number := 0
	for line := range strings.Lines(string(text)) {
		number++
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		first := strings.TrimRight(strings.Fields(line)[0], ":,;")
		if _, err := frames.Parse(first); err != nil {
			return "", fmt.Errorf("%s:%d: %w", name, number, err)
		}
		out = append(out, first)
	}
	if len(out) == 0 {
		return "", fmt.Errorf("%s names no frame", name)
	}
	return strings.Join(out, ","), nil
}
