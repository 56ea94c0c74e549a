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

// logCommand shows what node processes and renderers say.
func (a *app) logCommand() *cobra.Command {
	var search, before string
	var lines, frame int
	var lease int64
	var itself, followIt bool
	c := a.jsonFlag(&cobra.Command{
		Use: "log NAME", Short: "Show, search or follow the log of renderers and node processes",
		Long: "NAME is a node, or a run as for show. What is said is kept for two weeks, also of nodes " +
			"that are gone.",
		Example: "  vexillum log kiln-03 --follow\n  vexillum log salt_010 --frame 77\n" +
			"  vexillum log kiln-03 --search 'cannot open'",
		Args: exactly(1, "the name of a node or run"),
	})
	f := c.Flags()
	f.StringVarP(&search, "search", "s", "", "only lines that hold this, in large or small letters")
	f.IntVarP(&lines, "lines", "n", 100, "how many of the newest lines")
	f.IntVar(&frame, "frame", 0, "of a run: the lease that tried this frame last")
	f.Int64Var(&lease, "lease", 0, "only the renderers of this lease")
	f.StringVar(&before, "before", "", "only lines from before this time, such as 2031-03-04T05:06:07Z")
	f.BoolVar(&itself, "itself", false, "of a node: only what the node process itself says")
	f.BoolVarP(&followIt, "follow", "f", false, "of a node: go on with new lines as they come")
	c.RunE = a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
		query := url.Values{"limit": {fmt.Sprint(lines)}}
		if search != "" {
			query.Set("search", search)
		}
		if before != "" {
			query.Set("before", before)
		}
		if lease > 0 {
			query.Set("lease", fmt.Sprint(lease))
		}
		if itself {
			query.Set("of", "node")
		}
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
			if followIt || itself {
				return usageError{fmt.Errorf("--follow and --itself are for nodes, and there is no node %s", args[0])}
			}
			run, err := findRun(ctx, cl, args[0])
			if err != nil {
				return err
			}
			path = fmt.Sprintf("/api/v1/runs/%d/log", run.ID)
			if f.Changed("frame") {
				query.Set("frame", fmt.Sprint(frame))
			}
		} else if f.Changed("frame") {
			return usageError{fmt.Errorf("--frame is for runs, and %s is a node", args[0])}
		}
		out, err := get[wire.NodeLog](ctx, cl, path+"?"+query.Encode())
		if err != nil {
			return err
		}
		if a.json && !followIt {
			return a.printJSON(out)
		}
		if len(out.Lines) == 0 && !followIt && !out.Older {
			fmt.Fprintln(a.out, "Nothing on record matches.")
			return nil
		}
		a.asIs = true // what was said, and a time that can be given again
		if out.Older && !followIt && out.BackTo != nil {
			fmt.Fprintf(a.out, "… for older lines: --before %s\n", out.BackTo.Local().Format(time.RFC3339))
		}
		print := func(lines []wire.LogLine) error {
			for _, l := range lines {
				if search == "" || strings.Contains(strings.ToLower(l.Text), strings.ToLower(search)) {
					a.printLine(l, names, of == 0)
				}
			}
			return nil
		}
		_ = print(out.Lines)
		if !followIt {
			return nil
		}
		query.Del("limit")
		query.Del("search")
		err = cl.Said(
			ctx, of, query.Encode(), print,
			func(err error) { fmt.Fprintln(a.err, "vexillum: the connection is lost; still trying:", err) },
		)
		if ctx.Err() != nil { // the follower has seen enough
			return nil
		}
		return err
	})
	return c
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
