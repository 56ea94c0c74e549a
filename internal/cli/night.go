package cli

import (
	"context"
	"fmt"
	"net/url"
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
		Use: "night", Short: "Say what went wrong in a night, what it cost, what was done about it, and what waits",
		Long: "Sums up the last night, or the one that goes on: which runs ended, what failed and what that cost,\n" +
			"what the farm has done about it by itself, and what waits for a person.",
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
	fmt.Fprintf(a.out, "From %s to %s\n\n%s\n", moment(v.From, now), moment(v.To, now), endedText(v.Ended))
	if v.Tries == 0 {
		fmt.Fprintln(a.out, "Nothing failed.")
	} else {
		some := ""
		if v.Some {
			some = "; of more, these are the newest"
		}
		fmt.Fprintf(
			a.out, "%s failed, which cost %s of nodes%s:\n\n", english.Plural(v.Tries, "try", "tries"),
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
		fmt.Fprintln(a.out, "\nWhat the farm has done by itself:")
		for _, d := range v.Deeds {
			fmt.Fprintf(a.out, "  %s  %s\n", clock(d.At, now), a.fit(inZone(d.Text, now), 130))
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
	a.tellPast("\nWhat waits for a person:", waits, now)
	a.tellPast("\nWhat needed one and is over:", over, now)
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

// endedText says how many runs ended, and names those that are not done.
func endedText(runs []wire.NightRun) string {
	if len(runs) == 0 {
		return "No run ended."
	}
	count, names := map[string]int{}, map[string][]string{}
	for _, r := range runs {
		count[r.State]++
		names[r.State] = append(names[r.State], r.Name)
	}
	var parts []string
	for _, state := range []string{"done", "done with gaps", "failed", "cancelled"} {
		if n := count[state]; n > 0 {
			text := fmt.Sprintf("%d %s", n, state)
			if state != "done" {
				text += " (" + someOf(names[state]) + ")"
			}
			parts = append(parts, text)
		}
	}
	return fmt.Sprintf("%s ended: %s.", english.Plural(len(runs), "run", ""), strings.Join(parts, ", "))
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
