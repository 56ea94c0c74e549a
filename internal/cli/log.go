package cli

import (
	"context"
	"fmt"
	"math"
	"net/url"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/wire"
)

// logWish is which lines of a log somebody wants to see.
type logWish struct {
	search, before string
	lines, frame   int
	lease          int64
	itself, follow bool
}

func (w *logWish) bind(c *cobra.Command) {
	f := c.Flags()
	f.StringVarP(&w.search, "search", "s", "", "only lines that hold this, in large or small letters")
	f.IntVarP(&w.lines, "lines", "n", 100, "how many of the newest lines")
	f.IntVar(&w.frame, "frame", 0, "of a run: the lease that tried this frame last")
	f.Int64Var(&w.lease, "lease", 0, "only the renderers of this lease")
	f.StringVar(&w.before, "before", "", "only lines from before this time, such as 2031-03-04T05:06:07Z")
	f.BoolVar(&w.itself, "itself", false, "of a node: only what the node process itself says")
	f.BoolVarP(&w.follow, "follow", "f", false, "of a node: go on with new lines as they come")
}

// query returns the wish as it travels, but for the frame.
func (w *logWish) query() url.Values {
	query := url.Values{"limit": {fmt.Sprint(w.lines)}}
	if w.search != "" {
		query.Set("search", w.search)
	}
	if w.before != "" {
		query.Set("before", w.before)
	}
	if w.lease > 0 {
		query.Set("lease", fmt.Sprint(w.lease))
	}
	if w.itself {
		query.Set("of", "node")
	}
	return query
}

// logCommand shows what node processes and renderers say.
func (a *app) logCommand() *cobra.Command {
	var wish logWish
	c := a.jsonFlag(&cobra.Command{
		Use: "log NAME", Short: "Show, search or follow the log of renderers and node processes",
		Long: "NAME is a node, or a run as for show. What is said is kept for two weeks, also of nodes " +
			"that are gone.",
		Example: "  vexillum log kiln-03 --follow\n  vexillum log salt_010 --frame 77\n" +
			"  vexillum log kiln-03 --search 'cannot open'",
		Args: exactly(1, "the name of a node or run"),
	})
	wish.bind(c)
	c.RunE = a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
		query := wish.query()
		nodes, err := get[[]wire.Node](ctx, cl, "/api/v1/nodes")
		if err != nil {
			return err
		}
		names := map[int64]string{}
		of := int64(0)
		for _, n := range nodes {
			names[n.ID] = n.Name
			if n.Name == args[0] {
				of = n.ID
			}
		}
		path := fmt.Sprintf("/api/v1/nodes/%d/log", of)
		if of == 0 {
			if wish.follow || wish.itself {
				return usageError{fmt.Errorf("--follow and --itself are for nodes, and there is no node %s", args[0])}
			}
			run, err := findRun(ctx, cl, args[0])
			if err != nil {
				return err
			}
			path = fmt.Sprintf("/api/v1/runs/%d/log", run.ID)
			if c.Flags().Changed("frame") {
				query.Set("frame", fmt.Sprint(wish.frame))
			}
		} else if c.Flags().Changed("frame") {
			return usageError{fmt.Errorf("--frame is for runs, and %s is a node", args[0])}
		}
		out, err := get[wire.NodeLog](ctx, cl, path+"?"+query.Encode())
		if err != nil {
			return err
		}
		if !wish.follow && a.json {
			return a.printJSON(out)
		}
		a.asIs = true // what was said, and a time that can be given again
		if !wish.follow {
			a.printLog(out, wish.search, names, of == 0)
			return nil
		}
		a.printLines(out.Lines, wish.search, names, of == 0)
		query.Del("limit")
		query.Del("search")
		err = cl.Said(
			ctx, of, query.Encode(),
			func(lines []wire.LogLine) error {
				a.printLines(lines, wish.search, names, of == 0)
				return nil
			},
			func(err error) { fmt.Fprintln(a.err, "vexillum: the connection is lost; still trying:", err) },
		)
		if ctx.Err() != nil {
			return errStopped
		}
		return err
	})
	return c
}

// printLog prints a piece of a log, and how older lines are found.
func (a *app) printLog(out wire.NodeLog, search string, names map[int64]string, withNode bool) {
	if len(out.Lines) == 0 && !out.Older {
		fmt.Fprintln(a.out, "Nothing on record matches.")
		return
	}
	if out.Older && out.BackTo != nil {
		fmt.Fprintf(a.out, "… for older lines: --before %s\n", out.BackTo.Local().Format(time.RFC3339))
	}
	a.printLines(out.Lines, search, names, withNode)
}

func (a *app) printLines(lines []wire.LogLine, search string, names map[int64]string, withNode bool) {
	for _, l := range lines {
		if search == "" || strings.Contains(strings.ToLower(l.Text), strings.ToLower(search)) {
			a.printLine(l, names, withNode)
		}
	}
}

func (a *app) printLine(l wire.LogLine, names map[int64]string, withNode bool) {
	who := "node"
	if l.Lease != 0 {
		who = fmt.Sprintf("lease %d", l.Lease)
	}
	if withNode {
		who = names[l.Node] + " " + who
	}
	mark := " "
	if l.Stream == 2 {
		mark = "!" // standard error
	}
	fmt.Fprintf(a.out, "%s  %-10s %s %s\n", l.At.Local().Format("2006-01-02T15:04:05.000Z07:00"), who, mark, l.Text)
}

// nodeUsageCommand shows what a node measured of itself.
func (a *app) nodeUsageCommand() *cobra.Command {
	var over string
	c := a.jsonFlag(&cobra.Command{
		Use: "usage NAME", Short: "Show how busy a node was over an hour, a day or ninety days",
		Args: exactly(1, "the name of a node"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			n, err := findNode(ctx, cl, args[0])
			if err != nil {
				return err
			}
			u, err := get[wire.Usage](
				ctx, cl, fmt.Sprintf("/api/v1/nodes/%d/usage?over=%s", n.ID, url.QueryEscape(over)),
			)
			if err != nil {
				return err
			}
			if a.json {
				return a.printJSON(u)
			}
			a.printUsage(n, u)
			return nil
		}),
	})
	c.Flags().StringVar(&over, "over", "1h", "1h (every 5 s), 24h (by the minute) or 90d (by the quarter of an hour)")
	return c
}

func (a *app) printUsage(n wire.Node, u wire.Usage) {
	if len(u.At) == 0 {
		fmt.Fprintf(a.out, "%s has not measured itself in that time.\n", n.Name)
		return
	}
	first, last := time.Unix(u.At[0], 0), time.Unix(u.At[len(u.At)-1], 0)
	fmt.Fprintf(
		a.out, "%s from %s to %s, every %v\n", n.Name, moment(first, time.Now()), moment(last, time.Now()),
		time.Duration(u.StepSeconds)*time.Second,
	)
	percent := func(v float64) string { return fmt.Sprintf("%.0f %%", 100*v) }
	amount := func(v float64) string { return humanize.IBytes(uint64(v)) }
	each := func(v float64) string { return humanize.IBytes(uint64(v)) + "/s" }
	t := newTable(a.out, "", ">LEAST", ">MEAN", ">MOST", "COURSE")
	line := func(name string, values []*float64, full float64, write func(float64) string) {
		least, most, sum, count := math.Inf(1), math.Inf(-1), 0.0, 0
		for _, v := range values {
			if v != nil {
				least, most, sum, count = min(least, *v), max(most, *v), sum+*v, count+1
			}
		}
		if count == 0 {
			return
		}
		if full == 0 {
			full = max(most, 1)
		}
		t.add(name, write(least), write(sum/float64(count)), write(most), course(values, full, 60))
	}
	line("processor", u.Processor, 1, percent)
	line("memory", u.Memory, float64(n.Memory), amount)
	for _, d := range u.Devices {
		line(d.ID, d.Busy, 1, percent)
	}
	line("load", u.Load, 0, func(v float64) string { return fmt.Sprintf("%.1f", v) })
	line("disk read", u.DiskRead, 0, each)
	line("disk written", u.DiskWritten, 0, each)
	line("received", u.Received, 0, each)
	line("sent", u.Sent, 0, each)
	line("disk free", u.DiskFree, 0, amount)
	line("swap", u.Swap, 0, amount)
	line("temperature", u.Temperature, 100, func(v float64) string { return fmt.Sprintf("%.0f °C", v) })
	t.print()
}

// course draws values as a row of blocks, each as high as the mean of its part.
func course(values []*float64, full float64, width int) string {
	levels := []rune(" ▁▂▃▄▅▆▇█")
	width = min(width, len(values))
	var b strings.Builder
	for i := range width {
		sum, count := 0.0, 0
		for _, v := range values[i*len(values)/width : (i+1)*len(values)/width] {
			if v != nil {
				sum, count = sum+*v, count+1
			}
		}
		if count == 0 {
			b.WriteRune('·')
			continue
		}
		part := min(max(sum/float64(count)/full, 0), 1)
		b.WriteRune(levels[int(math.Round(part*float64(len(levels)-1)))])
	}
	return b.String()
}
