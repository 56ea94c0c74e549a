package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/wire"
)

// troubleCommand says what has failed.
func (a *app) troubleCommand() *cobra.Command {
	var by, cause, node string
	var since time.Duration
	c := a.jsonFlag(&cobra.Command{
		Use:   "trouble [RUN]",
		Short: "Say what has failed, by cause, node, recipe or run, and what to do about it",
		Long: "Puts together the failed tries that nobody has asked to be tried again, also those of frames that are done\n" +
			"since: first what has the most frames that are not done.",
		Example: "  vexillum trouble\n  vexillum trouble --by node --since 12h\n  vexillum trouble salt_010 --cause crash",
		Args:    cobra.MaximumNArgs(1),
	})
	c.RunE = a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
		if err := refuseEmpty(c); err != nil {
			return err
		}
		if c.Flags().Changed("since") && since <= 0 {
			return usageError{errors.New("--since is how long to look back, such as 12h")}
		}
		q := url.Values{}
		for name, value := range map[string]string{"by": by, "cause": cause, "node": node} {
			if value != "" {
				q.Set(name, value)
			}
		}
		if since > 0 {
			q.Set("since", time.Now().Add(-since).UTC().Format(time.RFC3339))
		}
		if len(args) == 1 {
			run, err := findRun(ctx, cl, args[0])
			if err != nil {
				return err
			}
			q.Set("run", fmt.Sprint(run.ID))
		}
		groups, err := get[[]wire.TroubleGroup](ctx, cl, "/api/v1/trouble?"+q.Encode())
		if err != nil {
			return err
		}
		if a.json {
			return a.printJSON(groups)
		}
		a.tellTrouble(groups)
		if node == "" || len(groups) == 0 {
			return nil
		}
		return a.tellElsewhere(ctx, cl, node)
	})
	c.Flags().StringVar(&by, "by", "", "put together by cause, node, recipe or run (default: cause)")
	c.Flags().StringVar(&cause, "cause", "", "only failures by this cause")
	c.Flags().StringVar(&node, "node", "", "only failures on this node")
	c.Flags().DurationVar(&since, "since", 0, "only failures of that long, such as 12h (default: all)")
	a.completeFlags(c, map[string]lister{"by": words("cause", "node", "recipe", "run"), "node": nodeList})
	return c
}

// tellTrouble says what has failed: a sentence for each group, the newest try, and what to do.
func (a *app) tellTrouble(groups []wire.TroubleGroup) {
	if len(groups) == 0 {
		fmt.Fprintln(a.out, "Nothing has failed that somebody would have to look at.")
		return
	}
	now := time.Now()
	for i, g := range groups {
		if i > 0 {
			fmt.Fprintln(a.out)
		}
		fmt.Fprintf(a.out, "%s  %s\n", strings.ToUpper(g.Key), g.Sentence)
		message, _, _ := strings.Cut(strings.TrimSpace(g.Last.Message), "\n")
		a.facts(
			"tries", fmt.Sprintf("%d, last %s on %s", g.Tries, moment(g.Last.At, now), g.Last.Node), "said",
			a.fit(message, 110), "to blame", blameText(g.Blame), "to mend it", g.Remedy,
		)
		for _, r := range g.Runs[:min(len(g.Runs), 5)] {
			line := "frames " + a.fit(r.Frames, 60)
			if r.Parked != "" {
				line += ", parked " + a.fit(r.Parked, 40) + "; once mended: vexillum retry " + r.Name
			}
			fmt.Fprintf(a.out, "  %s  %s\n", r.Name, line)
		}
		if more := len(g.Runs) - 5; more > 0 {
			fmt.Fprintf(a.out, "  and %s\n", english.Plural(more, "more run", ""))
		}
	}
}

// comparedShown is how many frames are shown that failed on a node.
const comparedShown = 12

// tellElsewhere says what came elsewhere of the frames that failed on a node.
func (a *app) tellElsewhere(ctx context.Context, cl *client.Client, name string) error {
	n, err := findNode(ctx, cl, name)
	if err != nil {
		return err
	}
	all, err := get[wire.NodeTrouble](ctx, cl, fmt.Sprintf("/api/v1/nodes/%d/trouble", n.ID))
	if err != nil || len(all.Frames) == 0 {
		return err
	}
	fmt.Fprintf(a.out, "\n%s  %s\n", strings.ToUpper(n.Name), all.Sentence)
	shown := all.Frames[:min(len(all.Frames), comparedShown)]
	var rows [][]string
	for _, f := range shown {
		elsewhere := failedText(f.Elsewhere, true)
		if f.GoodOn != "" {
			elsewhere = append(elsewhere, "done on "+f.GoodOn)
		}
		rows = append(rows, []string{
			fmt.Sprintf("%s %d", f.RunName, f.Frame), strings.Join(failedText(f.Tries, false), ", "),
			a.fit(strings.Join(elsewhere, ", "), 60), blameText(f.Blame),
		})
	}
	a.table([]string{"FRAME", "HERE", "ELSEWHERE", "TO BLAME"}, rows)
	if more := len(all.Frames) - len(shown) + all.More; more > 0 {
		fmt.Fprintf(a.out, "and %s\n", english.Plural(more, "more frame", ""))
	}
	return nil
}

// failedText says how tries failed: the cause, with how often, and on which node.
func failedText(tries []wire.Attempt, where bool) (out []string) {
	counts := map[string]int{}
	for _, t := range tries {
		what := t.Cause
		if where {
			what += " on " + t.Node
		}
		if counts[what]++; counts[what] == 1 {
			out = append(out, what)
		}
	}
	for i, what := range out {
		if n := counts[what]; n > 1 {
			out[i] = fmt.Sprintf("%d× %s", n, what)
		}
	}
	return out
}

// blameText says who is to blame, and how sure that is.
func blameText(b wire.Blame) string {
	if b.Who == "" {
		return ""
	}
	return b.Who + ": " + b.Text
}

// retrySome tries those parked frames again that fit what is said.
func (a *app) retrySome(ctx context.Context, cl *client.Client, args []string, s steered) error {
	if s.project != "" || s.mine {
		return usageError{errors.New("--project and --mine choose whole runs; leave them out, or name runs")}
	}
	in := wire.Retrying{Frames: s.frames, Cause: s.cause, Node: s.node, DryRun: s.dryRun}
	for _, name := range args {
		run, err := findRun(ctx, cl, name)
		if err != nil {
			return err
		}
		in.Runs = append(in.Runs, run.ID)
	}
	var out wire.Retried
	if err := cl.Do(ctx, http.MethodPost, "/api/v1/retries", in, &out); err != nil {
		return err
	}
	if a.json {
		return a.printJSON(out)
	}
	if len(out.Runs) == 0 {
		fmt.Fprintln(a.out, "No parked frame fits that; vexillum trouble shows what failed.")
		return nil
	}
	verb := english.PluralWord(out.Frames, "is", "are")
	if out.DryRun {
		verb = "would be"
	}
	for _, r := range out.Runs {
		fmt.Fprintf(a.out, "%s  frames %s\n", r.Name, r.Frames)
	}
	fmt.Fprintf(a.out, "%s %s tried again.\n", english.Plural(out.Frames, "frame", ""), verb)
	return nil
}
