package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"path/filepath"
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
	c.AddCommand(a.preflightWhenCommand())
	a.completeFlags(
		c,
		map[string]lister{
			"project": projectList, "recipe": recipeList, "run": runList,
			"nodes": nodeList, "without": nodeList, "pools": poolList,
		},
	)
	return c
}

// preflightText says what nodes have answered that were asked by themselves about a run.
func preflightText(p *wire.RunPreflight) string {
	if p == nil {
		return ""
	}
	text := fmt.Sprintf(
		"%d of %s %s, asked %s", p.Passing, english.Plural(p.Passing+p.Failing, "node", ""),
		english.PluralWord(p.Passing, "passes", "pass"), moment(p.At, time.Now()),
	)
	if p.Sentence != "" {
		text += ". " + p.Sentence
	}
	return text
}

// preflightWhenCommand says when nodes are asked by themselves.
func (a *app) preflightWhenCommand() *cobra.Command {
	var held bool
	night, zone := "", ""
	c := a.jsonFlag(&cobra.Command{
		Use: "when", Short: "Say when nodes are asked by themselves, or change it",
		Long: "Nodes that are ready are asked about each run that somebody holds, and in the evening about all that are open,\n" +
			"so that what would fail at night is mended by day. What they answer stands with the run; where some fail, it\n" +
			"needs a hand, and they are asked again every five minutes.",
		Example: "  vexillum preflight when --night 18:30 --zone Europe/Dublin\n  vexillum preflight when --held=false --night never",
		Args:    exactly(0, "no arguments"),
	})
	c.RunE = a.asking(func(ctx context.Context, cl *client.Client, _ []string) error {
		if err := refuseEmpty(c); err != nil {
			return err
		}
		rule, err := get[wire.PreflightRule](ctx, cl, "/api/v1/preflight-rule")
		if err != nil {
			return err
		}
		before := rule
		if c.Flags().Changed("held") {
			rule.Held = held
		}
		if c.Flags().Changed("night") {
			rule.Night = strings.TrimPrefix(night, "never")
			if rule.Zone == "" {
				rule.Zone = localZone()
			}
		}
		if zone != "" {
			rule.Zone = zone
		}
		if zone != "" && rule.Night == "" {
			return usageError{errors.New("--zone is of the evening; say when that is with --night")}
		}
		if rule != before {
			if err := cl.Do(ctx, http.MethodPut, "/api/v1/preflight-rule", rule, &rule); err != nil {
				return err
			}
		}
		if a.json {
			return a.printJSON(rule)
		}
		a.tellWhen(rule)
		return nil
	})
	c.Flags().BoolVar(&held, "held", true, "ask about runs that somebody holds")
	c.Flags().StringVar(&night, "night", "", "time of day, such as 18:30, to ask about all open runs; or never")
	c.Flags().StringVar(&zone, "zone", "", "time zone of that, such as Europe/Dublin (default: that of this machine)")
	return c
}

// localZone returns the name of the time zone of this machine, where it has one.
func localZone() string {
	if name := time.Local.String(); name != "Local" {
		return name
	}
	where, err := filepath.EvalSymlinks("/etc/localtime")
	if _, name, found := strings.Cut(where, "/zoneinfo/"); err == nil && found {
		return name
	}
	return ""
}

// tellWhen says when nodes are asked by themselves.
func (a *app) tellWhen(rule wire.PreflightRule) {
	held := "Nodes are asked about each run that somebody holds."
	if !rule.Held {
		held = "Nodes are not asked about runs that somebody holds."
	}
	fmt.Fprintln(a.out, held)
	if rule.Night == "" {
		fmt.Fprintln(a.out, "They are not asked before the night; say when they shall be with --night 18:30.")
		return
	}
	fmt.Fprintf(a.out, "They are asked about all open runs at %s (%s).\n", rule.Night, cmp.Or(rule.Zone, "UTC"))
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
