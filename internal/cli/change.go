package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/wire"
)

// runChange is what is said on the command line about a change of a run.
type runChange struct {
	priority, ceiling, due, before string
	renderer, memory, needs        string
	cores                          int
	first, last, back              bool
	now, yes, dryRun               bool
}

func (r *runChange) bind(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&r.priority, "priority", "", "urgent, high, normal, low or filler")
	f.StringVar(&r.ceiling, "ceiling", "", "the most nodes at once: a number or a percentage; none removes it")
	f.StringVar(
		&r.due, "due", "", "when it must be ready: 18:00, 'fri 18:00', '2031-03-04 18:00' or +3h; none removes it",
	)
	f.StringVar(
		&r.renderer, "renderer", "", "version of the renderer that further frames come from; any: whichever there is",
	)
	f.StringVar(&r.memory, "memory", "", "memory that further leases take of a node, such as 8GiB; none: no limit")
	f.IntVar(&r.cores, "cores", 0, "cores that further leases take of a node; 0: the whole node")
	f.StringVar(&r.needs, "needs", "", "what a node must be for further leases, such as 'memory>=64GiB'; none removes it")
	f.BoolVar(&r.first, "first", false, "before all others of its priority")
	f.BoolVar(&r.last, "last", false, "after all others of its priority")
	f.BoolVar(&r.back, "back", false, "back to its turn, by its project's share of the farm")
	f.StringVar(&r.before, "before", "", "just before another run of the same priority")
	f.BoolVar(&r.now, "now", false, "stop frames in flight of less urgent runs for it; their work is lost")
	f.BoolVar(&r.yes, "yes", false, "with --now: stop them even though work is lost")
	f.BoolVar(&r.dryRun, "dry-run", false, "only say what would happen")
	c.MarkFlagsMutuallyExclusive("first", "last", "back", "before")
}

// read returns the change as it travels.
func (r *runChange) read(ctx context.Context, c *cobra.Command, cl *client.Client) (wire.RunChange, error) {
	in := wire.RunChange{Now: r.now, DryRun: r.dryRun}
	if c.Flags().Changed("priority") {
		in.Priority = &r.priority
	}
	if c.Flags().Changed("ceiling") {
		in.Ceiling = new(strings.TrimPrefix(r.ceiling, "none"))
	}
	if c.Flags().Changed("due") {
		at, err := parseDue(strings.TrimPrefix(r.due, "none"), time.Now())
		if err != nil {
			return in, usageError{err}
		}
		in.Due = &at
	}
	if c.Flags().Changed("renderer") {
		if r.renderer == "" {
			return in, usageError{errors.New("--renderer is empty; give a version, or any")}
		}
		if r.renderer == "any" {
			r.renderer = ""
		}
		in.Renderer = &r.renderer
	}
	if c.Flags().Changed("memory") {
		bytes := int64(0)
		if r.memory != "none" {
			var err error
			if bytes, err = bytesOf(r.memory); err != nil {
				return in, usageError{fmt.Errorf("--memory %q: write it like 4GiB", r.memory)}
			}
		}
		in.MemoryBytes = &bytes
	}
	if c.Flags().Changed("cores") {
		in.Cores = &r.cores
	}
	if c.Flags().Changed("needs") {
		in.Needs = new(strings.TrimPrefix(r.needs, "none"))
	}
	for put, wanted := range map[string]bool{"first": r.first, "last": r.last, "back": r.back} {
		if wanted {
			in.Put = &put
		}
	}
	if r.before != "" {
		other, err := findRun(ctx, cl, r.before)
		if err != nil {
			return in, err
		}
		in.Before = &other.ID
	}
	return in, nil
}

// changeCommand changes what may be changed of a run while it renders.
func (a *app) changeCommand() *cobra.Command {
	var change runChange
	c := a.jsonFlag(&cobra.Command{
		Use:   "change RUN",
		Short: "Change a run's priority, ceiling, due time, place in the queue, or what its leases take and need",
		Long: "Takes effect within seconds. Nodes that a more urgent run needs finish their frames in flight first.\n" +
			"With --now those are stopped: the command says what would be lost, and does it with --yes. --dry-run\n" +
			"says what would happen and changes nothing.",
		Example: "  vexillum change salt_010 --priority urgent --dry-run\n" +
			"  vexillum change salt_010 --ceiling 50% --due 'fri 18:00'\n" +
			"  vexillum change salt_010 --memory 8GiB --needs 'memory>=64GiB'\n" +
			"  vexillum change salt_010 --before tidal_ceiling",
		Args: exactly(1, "the name of a run"),
	})
	change.bind(c)
	c.RunE = a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
		run, err := findRun(ctx, cl, args[0])
		if err != nil {
			return err
		}
		in, err := change.read(ctx, c, cl)
		if err != nil {
			return err
		}
		path := fmt.Sprintf("/api/v1/runs/%d", run.ID)
		var done wire.RunChanged
		if in.Now && !in.DryRun && !change.yes { // what it throws away is said before
			first := in
			first.DryRun = true
			if err := cl.Do(ctx, http.MethodPatch, path, first, &done); err != nil {
				return err
			}
			if done.Stops > 0 {
				return fmt.Errorf(
					"nothing is changed yet: %s\ngive the command again with --yes to do it", done.Sentence,
				)
			}
		}
		if err := cl.Do(ctx, http.MethodPatch, path, in, &done); err != nil {
			return err
		}
		if a.json {
			return a.printJSON(done)
		}
		would := ""
		if in.DryRun {
			would = "would change: "
		}
		fmt.Fprintf(a.out, "%s  %s%s\n", run.Name, would, done.Sentence)
		return nil
	})
	return c
}

// parseDue reads a time of day, with a weekday or a date before it, or a time
// span from now, and writes it as RFC 3339 does.
func parseDue(text string, now time.Time) (string, error) {
	wrong := fmt.Errorf("%q is not a time: write it like 18:00, 'fri 18:00', '2031-03-04 18:00' or +3h", text)
	write := func(t time.Time) (string, error) { return t.UTC().Format(time.RFC3339), nil }
	if text == "" {
		return "", nil
	}
	if span, ok := strings.CutPrefix(text, "+"); ok {
		d, err := time.ParseDuration(span)
		if err != nil || d <= 0 {
			return "", wrong
		}
		return write(now.Add(d))
	}
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return write(t)
	}
	if t, err := time.ParseInLocation("2006-01-02 15:04", text, now.Location()); err == nil {
		return write(t)
	}
	day, clock, named := strings.Cut(text, " ")
	if !named {
		day, clock = "", text
	}
	t, err := time.ParseInLocation("15:04", clock, now.Location())
	if err != nil {
		return "", wrong
	}
	for ahead := range 8 {
		at := time.Date(now.Year(), now.Month(), now.Day()+ahead, t.Hour(), t.Minute(), 0, 0, now.Location())
		if at.After(now) && (day == "" || strings.EqualFold(day, at.Weekday().String()[:3])) {
			return write(at)
		}
	}
	return "", wrong
}

// licenceSet says what came of a count of licences: a name that no recipe uses limits nothing.
func licenceSet(name string, count int, all []wire.Licence) string {
	var needed []string
	for _, l := range all {
		switch {
		case len(l.Recipes) == 0:
		case l.Name == name:
			return fmt.Sprintf(
				"The licence %s is counted: %d, for %s.", name, count, english.WordSeries(l.Recipes, "and"),
			)
		default:
			needed = append(needed, l.Name)
		}
	}
	text := fmt.Sprintf("The licence %s is counted: %d. No recipe needs one of that name, so it limits nothing", name, count)
	if len(needed) > 0 {
		text += "; recipes need " + english.WordSeries(needed, "and")
	}
	return text + "."
}

// licenceCommand counts licences.
func (a *app) licenceCommand() *cobra.Command {
	parent := &cobra.Command{Use: "licence", Short: "Count the licences that renderers need"}
	var count int
	set := &cobra.Command{Use: "set NAME", Short: "Set how many there are", Args: exactly(1, "the name of a licence"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			if count < 0 {
				return usageError{fmt.Errorf("--count %d: there are 0 licences or more", count)}
			}
			err := a.put(ctx, "/api/v1/licences/"+url.PathEscape(args[0]), wire.NewLicence{Count: &count}, nil)
			if err != nil {
				return err
			}
			all, err := get[[]wire.Licence](ctx, cl, "/api/v1/licences")
			if err == nil {
				fmt.Fprintln(a.out, licenceSet(args[0], count, all))
			}
			return err
		})}
	set.Flags().IntVar(&count, "count", 0, "how many (needed)")
	_ = set.MarkFlagRequired("count")
	drop := &cobra.Command{
		Use: "drop NAME", Short: "Stop counting a licence: it limits nothing then",
		Args: exactly(1, "the name of a licence"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			if err := cl.Do(
				ctx, http.MethodPut, "/api/v1/licences/"+url.PathEscape(args[0]), wire.NewLicence{}, nil,
			); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "The licence %s is no longer counted; it limits nothing.\n", args[0])
			return nil
		}),
	}
	parent.AddCommand(
		set, drop,
		list(a, "list", "Licences, how many are used, and which recipes need them", "/api/v1/licences",
			[]string{"LICENCE", "COUNT", "USED", "LOWERED TO", "RECIPES"}, func(l wire.Licence) []string {
				counted, reckoned := "not counted", ""
				if l.Count != nil {
					counted = strconv.Itoa(*l.Count)
				}
				if l.Lowered != nil {
					reckoned = fmt.Sprintf("%d until %s", *l.Lowered, moment(*l.LoweredUntil, time.Now()))
				}
				return []string{l.Name, counted, strconv.Itoa(l.Used), reckoned, strings.Join(l.Recipes, ", ")}
			}),
	)
	return parent
}
