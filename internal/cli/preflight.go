package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/wire"
)

// preflightCommand asks each node whether it could really render something.
func (a *app) preflightCommand() *cobra.Command {
	var s submission
	var in wire.Preflighting
	run := ""
	c := a.jsonFlag(&cobra.Command{
		Use:   "preflight [SCENE]",
		Short: "Ask each node whether it could really render something",
		Long: "Asks each node that may take part: does it read the scene, with the same content, write where frames go,\n" +
			"start the renderer in a version that will do, have the account, memory and disk, and the right time? Also of\n" +
			"nodes that are at work; nothing is submitted. Takes what submit takes, or a run with --run. The exit code is 1\n" +
			"where a node fails.",
		Example: "  vexillum preflight shots/salt_010.pov --project salt-clock\n  vexillum preflight --run salt_010 --frame",
		Args:    cobra.MaximumNArgs(1),
	})
	c.RunE = a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
		if err := refuseEmpty(c); err != nil {
			return err
		}
		switch {
		case run != "" && len(args) > 0:
			return usageError{errors.New("give either a scene, or a run with --run")}
		case run != "":
			found, err := findRun(ctx, cl, run)
			if err != nil {
				return err
			}
			in.Run = found.ID
		default:
			submit, err := s.described(c, args)
			if err != nil {
				return err
			}
			in.Submit = &submit
		}
		in.Nodes = s.nodes
		var out wire.Preflight
		call, cancel := context.WithTimeout(ctx, 2*time.Minute)
		defer cancel()
		if err := cl.Do(call, http.MethodPost, "/api/v1/preflights", in, &out); err != nil {
			return err
		}
		if a.json {
			if err := a.printJSON(out); err != nil {
				return err
			}
		} else {
			a.tellPreflight(out)
		}
		if out.Failing > 0 || out.Passing == 0 {
			return outcome{exitFailed}
		}
		return nil
	})
	s.bind(c)
	c.Flags().StringVar(&run, "run", "", "a run that is in the queue, instead of a scene")
	c.Flags().BoolVar(&in.Frame, "frame", false, "render one small frame on each node as well; nothing of it is kept")
	for _, name := range []string{"follow", "dry-run", "bundle", "incomplete", "folder", "preflight"} {
		_ = c.Flags().MarkHidden(name)
	}
	delete(c.Flag("project").Annotations, cobra.BashCompOneRequiredFlag)
	a.completeFlags(
		c,
		map[string]lister{
			"project": projectList, "recipe": recipeList, "run": runList,
			"nodes": nodeList, "without": nodeList, "pools": poolList,
		},
	)
	return c
}

// tellPreflight shows the matrix: rows with the same answers as one, and what fails in
// sentences.
func (a *app) tellPreflight(p wire.Preflight) {
	if len(p.Nodes) == 0 {
		fmt.Fprintf(a.out, "No node may take part in %s as it is; vexillum submit --dry-run says why.\n", p.Name)
		return
	}
	t := newTable(a.out, append([]string{"NODES"}, upper(p.Questions)...)...)
	type row struct {
		names []string
		cells []string
	}
	var rows []*row
	known := map[string]*row{}
	for _, n := range p.Nodes {
		cells := []string{}
		for _, answer := range n.Answers {
			cells = append(cells, answerText(answer))
		}
		key := strings.Join(cells, "|")
		if known[key] == nil {
			known[key] = &row{cells: cells}
			rows = append(rows, known[key])
		}
		known[key].names = append(known[key].names, n.Name)
	}
	for _, r := range rows {
		name := r.names[0]
		if more := len(r.names) - 1; more > 0 {
			name += fmt.Sprintf(" and %d more", more)
		}
		t.add(append([]string{name}, r.cells...)...)
	}
	t.print()
	told := map[string]bool{}
	for _, n := range p.Nodes {
		for _, answer := range n.Answers {
			if answer.Passes {
				continue
			}
			text := fmt.Sprintf("  %s, %s: %s.", n.Name, answer.Question, answer.Says)
			if answer.Remedy != "" {
				text += " To mend it: " + answer.Remedy + "."
			}
			if !told[text] {
				told[text] = true
				fmt.Fprintln(a.out, text)
			}
		}
	}
	fmt.Fprintf(
		a.out, "%d of %s %s (%.1f s).\n", p.Passing, english.Plural(len(p.Nodes), "node", ""),
		english.PluralWord(p.Passing, "passes", "pass"), p.Seconds,
	)
	if p.Left > 0 {
		fmt.Fprintf(a.out, "%s were not asked.\n", english.Plural(p.Left, "further node", ""))
	}
}

// answerText writes a cell: a mark and a word, never a mark alone.
func answerText(a wire.PreflightAnswer) string {
	if a.Skipped {
		return "– not asked"
	}
	if !a.Passes {
		return "✗ no"
	}
	says := a.Says
	if len(says) > 24 {
		says = "yes"
	}
	return "✓ " + says
}

func upper(list []string) (out []string) {
	for _, text := range list {
		out = append(out, strings.ToUpper(text))
	}
	return out
}
