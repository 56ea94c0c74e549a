package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strings"

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"vexillum/internal/client"
	"vexillum/internal/wire"
)

// steering are the ways to steer runs: what they do, to which runs, and what
// that is called when it is done.
var steering = map[string]struct {
	short string
	fits  func(wire.Run) bool
	done  string
}{
	"hold": {
		"Give runs no more nodes; frames in flight finish",
		func(r wire.Run) bool { return r.EndedAt == nil && r.State != "held" }, "held",
	},
	"release": {"Let held runs go on", func(r wire.Run) bool { return r.State == "held" }, "released"},
	"cancel": {
		"End runs and all their renderers at once", func(r wire.Run) bool { return r.EndedAt == nil }, "cancelled",
	},
	"retry": {
		"Try the parked frames of runs again",
		func(r wire.Run) bool { return r.ParkedCount > 0 && r.State != "cancelled" }, "tried again",
	},
}

// steered says how runs are steered.
type steered struct {
	now, mine, yes, dryRun bool
	reason, project        string

	frames, cause, node string // of a retry
}

// steerCommand makes hold, release, cancel and retry.
func (a *app) steerCommand(what string) *cobra.Command {
	var s steered
	c := a.jsonFlag(&cobra.Command{
		Use: what + " RUN…", Short: steering[what].short,
		Long: steering[what].short + ". Name the runs, or choose all of a project or of your own for which it\n" +
			"makes sense. On a terminal you are asked before anything is lost.\n\n" + runNames,
		Example: fmt.Sprintf(
			"  vexillum %s salt_010 gannet_open/final-2\n  vexillum %s --project salt-clock --mine --dry-run", what,
			what,
		),
	})
	c.RunE = a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
		if what == "retry" {
			if err := refuseEmpty(c); err != nil {
				return err
			}
		}
		if s.frames != "" || s.cause != "" || s.node != "" {
			return a.retrySome(ctx, cl, args, s)
		}
		if chosen := s.project != "" || s.mine; chosen == (len(args) > 0) {
			return usageError{fmt.Errorf(
				"vexillum %s needs the names of runs, or --project or --mine without names; see vexillum %s --help",
				what, what,
			)}
		}
		found, err := a.chooseRuns(ctx, cl, what, args, s)
		if err != nil {
			return err
		}
		return a.steer(ctx, cl, what, found, len(args) == 0, s)
	})
	f := c.Flags()
	f.StringVarP(&s.project, "project", "p", "", "all runs of this project for which it makes sense")
	f.BoolVar(&s.mine, "mine", false, "all your own runs for which it makes sense")
	f.BoolVar(&s.dryRun, "dry-run", false, "only say what would happen")
	f.BoolVarP(&s.yes, "yes", "y", false, "do not ask")
	if what == "hold" || what == "cancel" {
		f.StringVar(&s.reason, "reason", "", "why, for those who look")
	}
	if what == "release" {
		f.BoolVar(&s.now, "now", false, "do not let them wait for other runs any more")
	}
	if what == "retry" {
		f.StringVarP(&s.frames, "frames", "f", "", "only these of the parked frames of the run")
		f.StringVar(&s.cause, "cause", "", "only frames that failed by this cause, such as \"no licence\"")
		f.StringVar(&s.node, "node", "", "only frames that failed on this node")
	}
	if what == "hold" {
		f.BoolVar(&s.now, "now", false, "stop frames in flight, too; their work is lost")
	}
	lists := map[string]lister{"project": projectList}
	if what == "retry" {
		lists["node"] = nodeList
	}
	a.completeFlags(c, lists)
	return c
}

// chooseRuns returns the runs that are named, or all for which an act makes sense.
func (a *app) chooseRuns(
	ctx context.Context, cl *client.Client, what string, args []string, s steered,
) ([]wire.Run, error) {
	var out []wire.Run
	for _, name := range args {
		run, err := findRun(ctx, cl, name)
		if err != nil {
			return nil, err
		}
		out = append(out, run)
	}
	if len(args) > 0 {
		return out, nil
	}
	query := url.Values{"size": {fmt.Sprint(mostListed)}}
	if s.project != "" {
		if err := knownProject(ctx, cl, s.project); err != nil {
			return nil, err
		}
		query.Set("project", s.project)
	}
	if s.mine {
		me, err := get[wire.Me](ctx, cl, "/api/v1/me")
		if err != nil {
			return nil, err
		}
		query.Set("owner", me.Name)
	}
	for page := 1; ; page++ {
		query.Set("page", fmt.Sprint(page))
		found, err := get[wire.QueuePage](ctx, cl, "/api/v1/queue?"+query.Encode())
		if err != nil {
			return nil, err
		}
		for _, r := range found.Runs {
			if steering[what].fits(r) {
				out = append(out, r)
			}
		}
		if page >= found.Pages {
			return out, nil
		}
	}
}

// knownProject refuses the name of a project that is not there.
func knownProject(ctx context.Context, cl *client.Client, name string) error {
	_, err := oneProject(ctx, cl, name)
	return err
}

// steer does it to each run, after a yes where that is needed.
func (a *app) steer(
	ctx context.Context, cl *client.Client, what string, runs []wire.Run, chosen bool, s steered,
) error {
	if a.json && (len(runs) == 0 || s.dryRun) { // nothing was done: the runs as they are
		return a.printJSON(append([]wire.Run{}, runs...))
	}
	if len(runs) == 0 {
		fmt.Fprintf(a.out, "None of these runs can be %s; nothing was changed.\n", steering[what].done)
		return nil
	}
	lost := 0
	for _, r := range runs {
		if what == "cancel" || what == "hold" && s.now {
			lost += r.InFlight
		}
	}
	if s.dryRun {
		for _, r := range runs {
			fmt.Fprintf(a.out, "%s would be %s%s\n", r.Name, steering[what].done, inFlight(what, s.now, r))
		}
		return nil
	}
	if !s.yes && (lost > 0 || chosen) {
		if err := a.askFirst(what, runs, lost, chosen, s.now); err != nil {
			return err
		}
	}
	failed, steeredRuns := 0, []wire.Run{}
	for _, before := range runs {
		query := url.Values{}
		if s.now {
			query.Set("now", "true")
		}
		if s.reason != "" {
			query.Set("reason", s.reason)
		}
		run := before
		err := cl.Do(
			ctx, http.MethodPost, fmt.Sprintf("/api/v1/runs/%d/%s?%s", run.ID, what, query.Encode()), nil, &run,
		)
		switch {
		case err != nil && len(runs) == 1:
			return err
		case err != nil:
			failed++
			fmt.Fprintf(a.err, "vexillum: %s: %v\n", before.Name, err)
		case a.json:
			steeredRuns = append(steeredRuns, run)
		default:
			fmt.Fprintf(a.out, "%s  %s%s\n", run.Name, state(run.State), inFlight(what, s.now, before))
		}
	}
	if err := a.printSteered(steeredRuns, len(runs) == 1 && !chosen); err != nil {
		return err
	}
	if failed > 0 {
		return fmt.Errorf("%d of %d runs could not be %s", failed, len(runs), steering[what].done)
	}
	return nil
}

// printSteered prints for a program what became of runs: the one that was named,
// or a list.
func (a *app) printSteered(runs []wire.Run, one bool) error {
	switch {
	case !a.json:
		return nil
	case one && len(runs) == 1:
		return a.printJSON(runs[0])
	}
	return a.printJSON(runs)
}

// askFirst asks whether runs shall be steered.
func (a *app) askFirst(what string, runs []wire.Run, lost int, chosen, now bool) error {
	var lines []string
	for _, r := range runs {
		lines = append(lines, fmt.Sprintf("%s would be %s%s", r.Name, steering[what].done, inFlight(what, now, r)))
	}
	question := fmt.Sprintf("%s would be %s", english.Plural(len(runs), "run", ""), steering[what].done)
	if lost > 0 {
		question += fmt.Sprintf("; %s in flight would be lost", english.Plural(lost, "frame", ""))
	}
	return a.agree(lines, question, chosen)
}

// agree asks for a yes on a terminal, after it has said what would be done to
// each. Elsewhere what was named is done, and what was only picked needs --yes.
func (a *app) agree(lines []string, question string, picked bool) error {
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		if picked {
			return usageError{fmt.Errorf("%s; give --yes to do it, or --dry-run to see more", question)}
		}
		return nil
	}
	for _, line := range lines {
		fmt.Fprintln(a.err, line)
	}
	fmt.Fprintf(a.err, "%s. Type yes to go on: ", question)
	said, _ := bufio.NewReader(os.Stdin).ReadString('\n')
	if strings.TrimSpace(strings.ToLower(said)) != "yes" {
		return errors.New("nothing was changed")
	}
	return nil
}
