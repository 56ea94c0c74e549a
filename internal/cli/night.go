package cli

import (
	"cmp"
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/wire"
)

// nightCommand says what went wrong in a night.
func (a *app) nightCommand() *cobra.Command {
	var from, to, day, zone string
	c := a.jsonFlag(&cobra.Command{
		Use: "night", Short: "Report a night: runs that ended, outages, failures with their cost, and what waits for a person",
		Long: "Reports the last night, or the one in progress: runs that ended, with finish against due time and machine\n" +
			"hours; outages; failures and their cost; what was handled automatically; and what waits for a person.",
		Example: "  vexillum night\n  vexillum night --from 18:00 --to 09:00\n  vexillum night --day 2031-03-04",
		Args:    cobra.NoArgs,
	})
	c.RunE = a.asking(func(ctx context.Context, cl *client.Client, _ []string) error {
		if err := refuseEmpty(c); err != nil {
			return err
		}
		if zone == "" {
			zone = localZone()
		}
		q := url.Values{"from": {from}, "to": {to}, "day": {day}, "zone": {zone}}
		v, err := get[wire.Night](ctx, cl, "/api/v1/night?"+q.Encode())
		if err != nil {
			return err
		}
		if a.json {
			return a.printJSON(v)
		}
		a.tellNight(v)
		return nil
	})
	f := c.Flags()
	f.StringVar(&from, "from", "19:00", "time of day at which the night begins")
	f.StringVar(&to, "to", "08:00", "time of day at which it ends")
	f.StringVar(&day, "day", "", "date on which it began, such as 2031-03-04 (default: the last)")
	f.StringVar(&zone, "zone", "", "time zone of these (default: that of this machine)")
	return c
}

func (a *app) tellNight(v wire.Night) {
	now := time.Now()
	day := func(at time.Time) string { return at.Local().Format("Monday 2 January 2006, 15:04") }
	fmt.Fprintf(a.out, "From %s to %s\n", day(v.From), day(v.To))
	a.tellOutages(v.Outages, now)
	a.tellEnded(v.Ended, now)
	fmt.Fprintln(a.out)
	if v.Tries == 0 {
		fmt.Fprintln(a.out, "Nothing failed.")
	} else {
		some := ""
		if v.Some {
			some = "; of more, these are the newest"
		}
		fmt.Fprintf(
			a.out, "%s failed and cost %s of node time%s:\n\n", english.Plural(v.Tries, "try", "tries"),
			minutesText(v.Minutes), some,
		)
		t := newTable(a.out, "  cause", ">tries", ">frames", ">open", ">node time", "mostly to blame", "runs", "nodes")
		for _, c := range v.Causes {
			t.add(
				"  "+c.Cause, fmt.Sprint(c.Tries), fmt.Sprint(c.Frames), fmt.Sprint(c.Open), minutesText(c.Minutes),
				c.Blame,
				someOf(c.Runs), someOf(c.Nodes),
			)
		}
		t.print()
	}
	if len(v.Deeds) > 0 {
		fmt.Fprintln(a.out, "\nHandled automatically:")
		for _, d := range v.Deeds {
			times := ""
			if d.Times > 1 {
				times = fmt.Sprintf(" (%d times)", d.Times)
			}
			fmt.Fprintf(a.out, "  %s  %s%s\n", clock(d.At, now), a.fit(inZone(d.Text, now), 130), times)
		}
	}
	var waits, over []wire.PastHand
	for _, h := range v.Hands {
		if h.EndedAt == nil && h.ResolvedBy == "" {
			waits = append(waits, h)
		} else {
			over = append(over, h)
		}
	}
	a.tellPast("\nWaiting for a person:", waits, now)
	a.tellPast("\nResolved:", over, now)
	if len(waits) == 0 {
		fmt.Fprintln(a.out, "\nNothing waits for a person.")
	}
}

func (a *app) tellPast(heading string, list []wire.PastHand, now time.Time) {
	if len(list) == 0 {
		return
	}
	fmt.Fprintln(a.out, heading)
	for _, h := range list {
		by := handledBy(h)
		if by != "" {
			by = " (" + by + ")"
		}
		fmt.Fprintf(a.out, "  #%-4d %s  %s%s\n", h.ID, clock(h.RaisedAt, now), a.fit(inZone(h.Sentence, now), 110), by)
	}
}

// tellEnded lists the runs that ended: the late first, then those that did not end well.
func (a *app) tellEnded(runs []wire.NightRun, now time.Time) {
	if len(runs) == 0 {
		fmt.Fprintln(a.out, "\nNo run ended.")
		return
	}
	late := 0
	for _, r := range runs {
		if r.Late > 0 {
			late++
		}
	}
	heading := english.Plural(len(runs), "run", "") + " ended"
	if late > 0 {
		heading += fmt.Sprintf(", %d late", late)
	}
	fmt.Fprintf(a.out, "\n%s:\n\n", heading)
	rank := func(r wire.NightRun) int {
		switch {
		case r.Late > 0:
			return 0
		case r.State != "done":
			return 1
		}
		return 2
	}
	slices.SortStableFunc(runs, func(x, y wire.NightRun) int { return cmp.Compare(rank(x), rank(y)) })
	t := newTable(a.out, "  run", "state", ">frames", "ended", "due", "late", ">machine time")
	for _, r := range runs {
		due, delay := "", ""
		if r.Due != nil {
			due = clock(*r.Due, now)
		}
		if r.Late > 0 {
			delay = duration(time.Duration(r.Late) * time.Second)
		}
		took := time.Duration(r.Hours * float64(time.Hour)).Round(time.Second)
		t.add("  "+r.Name, r.State, fmt.Sprint(r.Frames), clock(r.EndedAt, now), due, delay, duration(took))
	}
	t.print()
}

// tellOutages lists the times in which the farm was not there.
func (a *app) tellOutages(outages []wire.NightOutage, now time.Time) {
	if len(outages) == 0 {
		return
	}
	fmt.Fprintln(a.out, "\nThe service was not available:")
	for _, o := range outages {
		fmt.Fprintf(
			a.out, "  %s to %s (%s): %s\n", clock(o.From, now), clock(o.To, now),
			duration(o.To.Sub(o.From).Round(time.Second)), o.Why,
		)
	}
}

// someOf names the first of a list, and how many more there are.
func someOf(list []string) string {
	const most = 4
	if len(list) <= most {
		return strings.Join(list, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(list[:most], ", "), len(list)-most)
}

// minutesText writes minutes of nodes: seconds where they are few, hours where they are many.
func minutesText(minutes float64) string {
	return duration(time.Duration(minutes * float64(time.Minute)).Round(time.Second))
}
