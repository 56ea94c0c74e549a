package cli

import (
	"context"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/wire"
)

// Runs that are listed at first.
const (
	listedEnded = 10
	listedFound = 50
	mostListed  = 500
)

func (a *app) queueCommand() *cobra.Command {
	var all, mine, down bool
	var search, project, owner, due, sort string
	var states []string
	c := a.jsonFlag(&cobra.Command{
		Use:   "queue",
		Short: "Show the runs: rendering, waiting, and the newest that ended",
		Long: "Shows the runs in the order in which they are dealt, then the newest that ended. With a search or a filter it\n" +
			"looks among all runs there ever were.",
		Example: "  vexillum queue --state rendering,queued --project salt-clock\n" +
			"  vexillum queue --search 'tidal cancelled' --all\n  vexillum queue --mine --due 24h",
		Args: exactly(0, "no arguments"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, _ []string) error {
			query := url.Values{}
			for name, value := range map[string]string{
				"search": search, "project": project, "owner": owner, "due": due, "sort": sort,
				"state": strings.Join(states, ","),
			} {
				if value != "" {
					query.Set(name, value)
				}
			}
			if mine {
				me, err := get[wire.Me](ctx, cl, "/api/v1/me")
				if err != nil {
					return err
				}
				query.Set("owner", me.Name)
			}
			if down {
				query.Set("down", "true")
			}
			if len(query) == 0 && !all {
				return a.queueNow(ctx, cl)
			}
			return a.queueFound(ctx, cl, query, all)
		}),
	})
	f := c.Flags()
	f.BoolVar(&all, "all", false, "list all that match, however many")
	f.StringVar(&search, "search", "", "words that must all be in the name, project, owner, scene or reason")
	f.StringVarP(&project, "project", "p", "", "only those of this project")
	f.StringVar(&owner, "owner", "", "only those of this person")
	f.BoolVar(&mine, "mine", false, "only your own")
	f.StringSliceVar(&states, "state", nil, "only in these states, or open or ended")
	f.StringVar(&due, "due", "", "only those due: 'at risk', within 24h or 7d, any or none")
	f.StringVar(
		&sort, "sort", "",
		"by name, project, owner, priority, state, done, due, submitted or ended (default: as they are dealt)",
	)
	f.BoolVar(&down, "down", false, "sort the other way round")
	a.completeFlags(
		c,
		map[string]lister{
			"project": projectList, "owner": ownerList, "state": words(runStates...),
			"due":  words("at risk", "24h", "7d", "any", "none"),
			"sort": words("name", "project", "owner", "priority", "state", "done", "due", "submitted", "ended"),
		},
	)
	return c
}

// runStates are the states of runs, as they can be asked for.
var runStates = []string{
	"open", "ended", "rendering", "queued", "held", "waiting", "done", "done with gaps", "failed", "cancelled",
}

// queueNow shows what is in the queue, and the newest runs that ended.
func (a *app) queueNow(ctx context.Context, cl *client.Client) error {
	runs, err := get[[]wire.Run](ctx, cl, "/api/v1/runs")
	if err != nil {
		return err
	}
	if a.json {
		return a.printJSON(runs)
	}
	if len(runs) == 0 {
		fmt.Fprintln(
			a.out, "The queue is empty. Submit a scene with: vexillum submit SCENE --project NAME --frames 1-120",
		)
		return nil
	}
	var shown []wire.Run
	ended := 0
	for _, r := range runs {
		if r.EndedAt != nil {
			if ended++; ended > listedEnded {
				continue
			}
		}
		shown = append(shown, r)
	}
	a.runTable(shown, false)
	if ended > listedEnded {
		fmt.Fprintln(a.out, "More have ended; --all shows them, and --search finds some.")
	}
	return nil
}

// queueFound shows runs among all that there ever were.
func (a *app) queueFound(ctx context.Context, cl *client.Client, query url.Values, all bool) error {
	if project := query.Get("project"); project != "" {
		if err := knownProject(ctx, cl, project); err != nil {
			return err
		}
	}
	query.Set("size", fmt.Sprint(listedFound))
	if all {
		query.Set("size", fmt.Sprint(mostListed))
	}
	runs := []wire.Run{}
	total := 0
	for page := 1; ; page++ {
		query.Set("page", fmt.Sprint(page))
		found, err := get[wire.QueuePage](ctx, cl, "/api/v1/queue?"+query.Encode())
		if err != nil {
			return err
		}
		runs, total = append(runs, found.Runs...), found.Total
		if !all || page >= found.Pages {
			break
		}
	}
	if a.json {
		return a.printJSON(runs)
	}
	if len(runs) == 0 {
		fmt.Fprintln(a.out, "No run matches.")
		return nil
	}
	a.runTable(runs, true)
	if total > len(runs) {
		fmt.Fprintf(a.out, "%d of %d; --all lists them all\n", len(runs), total)
	}
	return nil
}

// runTable prints runs, a line each.
func (a *app) runTable(runs []wire.Run, owners bool) {
	now := time.Now()
	header := []string{"RUN", "PROJECT", "STATE", ">DONE", ">FRAMES", zoned("FINISH"), zoned("DUE"), "NODES", "WHY"}
	if owners {
		header[7] = "OWNER"
	}
	t := newTable(a.out, header...)
	for _, r := range runs {
		nodes := a.fit(strings.Join(r.Nodes, " "), 18)
		if owners {
			nodes = r.Owner
		}
		when := finish(r.Forecast, now)
		if r.EndedAt != nil {
			when = clock(*r.EndedAt, now)
		}
		t.add(
			r.Name, r.Project, state(r.State), fmt.Sprint(r.DoneCount), fmt.Sprint(r.FrameCount), when, dueText(r, now),
			nodes, inZone(whyShort(r), now),
		)
	}
	t.print()
}
