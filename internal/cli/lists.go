package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"

	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/wire"
)

func (a *app) nodeImportCommand() *cobra.Command {
	var dryRun bool
	c := a.jsonFlag(&cobra.Command{
		Use:   "import FILE|-",
		Short: "Announce nodes, and set what a list says about them",
		Long: "Reads a list of nodes as CSV; docs/nodes.md lists the columns. Nodes that are not there yet are announced: their\n" +
			"settings wait until the machine enrols under that name. All rows are checked first, and nothing is " +
			"half imported.",
		Example: "  vexillum nodes export > nodes.csv\n  vexillum nodes import nodes.csv --dry-run",
		Args:    exactly(1, "a CSV file"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			return a.sendFile(ctx, cl, http.MethodPost, "/api/v1/nodes.csv", "text/csv", args[0], dryRun)
		}),
	})
	c.Flags().BoolVar(&dryRun, "dry-run", false, "only say what would change")
	return c
}

// sendFile sends a file about nodes, and says what became of them.
func (a *app) sendFile(ctx context.Context, cl *client.Client, method, path, kind, file string, dryRun bool) error {
	data, err := readInput(file, "a list of nodes")
	if err != nil {
		return err
	}
	if dryRun {
		path += "?dry_run=true"
	}
	var out wire.NodesActed
	if err := cl.Send(ctx, method, path, kind, data, &out); err != nil {
		return err
	}
	return a.acted(out)
}

func (a *app) nodeExportCommand() *cobra.Command {
	return &cobra.Command{
		Use: "export", Short: "Write all nodes and their settings as CSV", Args: exactly(0, "no arguments"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, _ []string) error {
			return cl.Fetch(ctx, "/api/v1/nodes.csv", os.Stdout)
		}),
	}
}

func (a *app) nodeHoursCommand() *cobra.Command {
	var from, to string
	var dryRun bool
	c := &cobra.Command{
		Use:   "hours NAME",
		Short: "Read duty hours from a calendar file, or write one",
		Long: "Duty hours travel as iCalendar (RFC 5545): an event that repeats weekly is a time on duty of the week,\n" +
			"one that does not is an exception of its date.",
		Args: exactly(1, "a node"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			if (from == "") == (to == "") {
				return usageError{errors.New("give either --import FILE or --export FILE")}
			}
			n, err := findNode(ctx, cl, args[0])
			if err != nil {
				return err
			}
			path := fmt.Sprintf("/api/v1/nodes/%d/hours.ics", n.ID)
			if from != "" {
				return a.sendFile(ctx, cl, http.MethodPut, path, "text/calendar", from, dryRun)
			}
			file, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
			if err != nil {
				return fmt.Errorf("writing the calendar: %w", err)
			}
			err = cl.Fetch(ctx, path, file)
			if closing := file.Close(); err == nil {
				err = closing
			}
			if err != nil {
				_ = os.Remove(to)
			}
			return err
		}),
	}
	c.Flags().StringVar(&from, "import", "", "calendar file to read")
	c.Flags().StringVar(&to, "export", "", "calendar file to write; it must not exist yet")
	c.Flags().BoolVar(&dryRun, "dry-run", false, "only say what would change")
	return c
}
