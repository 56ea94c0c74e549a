package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vexillum/internal/core/drill"
	"vexillum/internal/core/simulate"
	"vexillum/internal/core/span"
	"vexillum/internal/drillfile"
	"vexillum/internal/fileschema"
)

// drillCommand plays a farm on paper.
func (a *app) drillCommand() *cobra.Command {
	var against, class string
	var seed uint64
	var count int
	var rehearsed, why, fromFarm bool
	c := &cobra.Command{
		Use: "drill [FILE]", Short: "Play a farm on paper through the real dealer",
		Long: "A drill file describes nodes, jobs and what their frames cost; docs/drills.md says how. Nothing is rendered. The dealer\n" +
			"sees what a real farm would show it and nothing else. The same file and seed give the same outcome " +
			"to the byte.",
		Example: "  vexillum drill examples/drills/unlike-speeds.yaml --against equal,fixed:5,claim\n" +
			"  vexillum drill --random range --seed 1 --count 48\n" +
			"  vexillum drill --from-farm > tonight.yaml && vexillum drill tonight.yaml",
		Args: cobra.MaximumNArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if fromFarm && len(args) == 0 && class == "" {
				return a.drillFromFarm(c.Context())
			}
			if fromFarm || (len(args) == 1) == (class != "") {
				return usageError{
					fmt.Errorf(
						"name a drill file, or a class of random farms with --random, or give --from-farm alone",
					),
				}
			}
			if class != "" {
				return a.drillRandom(c.Context(), class, seed, count, rehearsed)
			}
			return a.drillFile(c.Context(), args[0], against, why)
		},
	}
	f := c.Flags()
	f.StringVar(
		&against, "against", "", "also play ways of splitting by hand: equal, fixed:N, claim, with commas between",
	)
	f.BoolVar(&a.json, "json", false, "print JSON")
	f.BoolVar(&why, "why", false, "print each decision with its reason")
	f.StringVar(
		&class, "random", "", "play random farms of a class instead: "+strings.Join(drill.Classes(), ", ")+", or all",
	)
	f.Uint64Var(&seed, "seed", 1, "of the first random farm")
	f.IntVar(&count, "count", 48, "of random farms of each class")
	f.BoolVar(
		&fromFarm, "from-farm", false,
		"write the live farm as a drill file: its nodes, what is left of its queue, and the pace that was learned",
	)
	f.BoolVar(
		&rehearsed, "rehearsed", false, "each random farm has been played once before, and what was learned is known",
	)
	return c
}

// drillFromFarm prints the live farm as a drill file.
func (a *app) drillFromFarm(ctx context.Context) error {
	cl, err := a.client()
	if err != nil {
		return err
	}
	call, cancel := context.WithTimeout(ctx, readTimeout)
	defer cancel()
	var file strings.Builder
	if err := cl.Fetch(call, "/api/v1/drill", &file); err != nil {
		return err
	}
	if strings.Contains(file.String(), "\njobs: []") {
		return errors.New(
			"nothing in the queue has frames left, so there is nothing to play; submit a run first, or play " +
				"a drill file",
		)
	}
	_, err = os.Stdout.WriteString(file.String())
	return err
}

func (a *app) drillFile(ctx context.Context, path, against string, why bool) error {
	data, err := readInput(path, "a drill file")
	if err != nil {
		return err
	}
	farm, err := drillfile.Parse(data)
	var mistakes *fileschema.MistakesError
	if errors.As(err, &mistakes) {
		a.tellMistakes(path, mistakes)
		return outcome{exitFailed}
	}
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	var ways []drill.Way
	for text := range strings.SplitSeq(against, ",") {
		if text == "" {
			continue
		}
		w, err := drill.ParseWay(strings.TrimSpace(text))
		if err != nil {
			return usageError{err}
		}
		ways = append(ways, w)
	}
	r, err := drill.Run(farm, nil, ways, goesOn(ctx))
	if errors.Is(err, simulate.ErrStopped) {
		return errDrillStopped
	}
	if err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	if a.json {
		return json.NewEncoder(a.out).Encode(r)
	}
	a.printDrill(strings.TrimSuffix(filepath.Base(path), filepath.Ext(path)), r, why)
	return nil
}

var errDrillStopped = errors.New("the drill was stopped before its end; nothing was changed")

// goesOn reports for a play whether it is still wanted.
func goesOn(ctx context.Context) func() bool { return func() bool { return ctx.Err() == nil } }

// table prints rows below a header.
func (a *app) table(header []string, rows [][]string) {
	t := newTable(a.out, header...)
	for _, row := range rows {
		t.add(row...)
	}
	t.print()
}

func (a *app) printDrill(name string, r *drill.Report, why bool) {
	fmt.Fprintf(a.out, "%s is done after %s (seed %d)\n\n", name, seconds(r.Finish), r.Seed)
	rows := [][]string{}
	for _, j := range r.Jobs {
		rows = append(
			rows,
			[]string{
				j.Name, seconds(j.Finish), seconds(j.Bound), fmt.Sprintf("%.3f", j.Ratio), fmt.Sprint(j.Launches),
				j.State,
			},
		)
	}
	a.table([]string{"JOB", "FINISH", "LOWER BOUND", "RATIO", "LAUNCHES", "STATE"}, rows)
	fmt.Fprintln(a.out)
	frames := map[string]int{}
	for _, t := range r.Attempts {
		if t.Result == "done" {
			frames[t.Node]++
		}
	}
	rows = rows[:0]
	const most = 40
	for i, n := range r.Nodes {
		if i == most {
			break
		}
		rows = append(
			rows,
			[]string{
				n.Name, fmt.Sprint(frames[n.Name]), seconds(n.Present), fmt.Sprintf("%.1f %%", 100*n.Idle),
				bar(1-n.Idle, 30),
			},
		)
	}
	a.table([]string{"NODE", "FRAMES", "THERE FOR", "IDLE", "AT WORK"}, rows)
	if rest := len(r.Nodes) - most; rest > 0 {
		fmt.Fprintf(a.out, "and %d nodes more\n", rest)
	}
	if len(r.Against) > 0 {
		fmt.Fprintln(a.out)
		rows = rows[:0]
		for _, w := range r.Against {
			rows = append(rows, []string{w.Way, seconds(w.Finish), fmt.Sprintf("%.3f", w.Ratio)})
		}
		a.table([]string{"BY HAND", "FINISH", "OURS TO THEIRS"}, rows)
	}
	if why {
		fmt.Fprintln(a.out)
		width := 0 // of the names of jobs, where there are several
		for _, j := range r.Jobs {
			width = max(width, len(j.Name))
		}
		for _, t := range r.Told {
			if len(r.Jobs) > 1 {
				fmt.Fprintf(a.out, "%10.1f  %-*s  %s\n", t.At, width, t.Job, t.Reason)
				continue
			}
			fmt.Fprintf(a.out, "%10.1f  %s\n", t.At, t.Reason)
		}
	}
}

// bar draws a part of a whole.
func bar(part float64, width int) string {
	n := int(part*float64(width) + 0.5)
	return strings.Repeat("█", min(width, max(0, n))) + strings.Repeat("░", width-min(width, max(0, n)))
}

// seconds writes a time span of a play.
func seconds(s float64) string {
	d := span.Of(s)
	if d < 10*time.Minute {
		return d.Round(100 * time.Millisecond).String()
	}
	return d.Round(time.Second).String()
}

func (a *app) drillRandom(ctx context.Context, class string, seed uint64, count int, rehearsed bool) error {
	if count < 1 || count > 100_000 {
		return usageError{fmt.Errorf("--count must be a number of farms from 1 to 100000")}
	}
	classes := []string{class}
	if class == "all" {
		classes = drill.Classes()
	}
	var out []drill.Spread
	for _, class := range classes {
		s, err := drill.Many(class, seed, count, rehearsed, goesOn(ctx))
		if errors.Is(err, simulate.ErrStopped) {
			return errDrillStopped
		}
		if err != nil {
			return err
		}
		out = append(out, s)
	}
	if a.json {
		return json.NewEncoder(a.out).Encode(out)
	}
	rows := [][]string{}
	for _, s := range out {
		rows = append(
			rows,
			[]string{
				s.Class, fmt.Sprint(s.Count), fmt.Sprintf("%.3f", s.Mean), fmt.Sprintf("%.3f", s.P90),
				fmt.Sprintf("%.3f", s.Worst), fmt.Sprint(s.Seed),
			},
		)
	}
	fmt.Fprintln(a.out, "finish to lower bound")
	a.table([]string{"CLASS", "FARMS", "MEAN", "90 OF 100", "WORST", "ITS SEED"}, rows)
	return nil
}
