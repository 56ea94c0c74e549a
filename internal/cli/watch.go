package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"vexillum/internal/client"
	"vexillum/internal/wire"
)

// readTimeout bounds a question to the service.
const readTimeout = 15 * time.Second

// get asks the service for one thing.
func get[T any](ctx context.Context, c *client.Client, path string) (T, error) {
	var out T
	ctx, cancel := context.WithTimeout(ctx, readTimeout)
	defer cancel()
	return out, c.Do(ctx, http.MethodGet, path, nil, &out)
}

// runNames says how a run is named, for the help of commands.
const runNames = "RUN is a job (its newest run), a run such as salt_010/final-2, or a run's number as '#45'. A project may stand\n" +
	"before job or run: salt-clock/salt_010."

// findRun returns the run that a name means. A name that may mean several is
// refused.
func findRun(ctx context.Context, c *client.Client, name string) (wire.Run, error) {
	if strings.TrimSpace(name) == "" {
		return wire.Run{}, usageError{
			errors.New("the name of the run is empty; give one like salt_010, salt_010/final-2 or '#45'"),
		}
	}
	runs, err := get[[]wire.Run](ctx, c, "/api/v1/runs?name="+url.QueryEscape(name))
	if err != nil {
		return wire.Run{}, err
	}
	switch {
	case len(runs) == 1:
		return runs[0], nil
	case len(runs) > 1:
		meant := fmt.Sprintf("%q may mean %d runs; say which:", name, len(runs))
		for _, r := range runs {
			meant += fmt.Sprintf("\n  '#%d'  %s/%s  %s", r.ID, r.Project, r.Name, r.State)
		}
		return wire.Run{}, errors.New(meant)
	}
	if _, err := strconv.ParseInt(name, 10, 64); err == nil {
		return wire.Run{}, fmt.Errorf("there is no run called %q; a run's number is written '#%s'", name, name)
	}
	return wire.Run{}, fmt.Errorf("there is no run called %q; vexillum queue shows them", name)
}

// due says when a run must be ready, with a sign if it is forecast to miss that.
func dueText(r wire.Run, now time.Time) string {
	switch {
	case r.Due == nil:
		return ""
	case r.AtRisk:
		return clock(*r.Due, now) + " ▲ at risk"
	}
	return clock(*r.Due, now)
}

func finish(f wire.Forecast, now time.Time) string {
	switch {
	case !f.Known:
		return "–"
	case f.Median.Equal(*f.Late):
		return clock(*f.Median, now)
	}
	return clock(*f.Median, now) + " – " + clock(*f.Late, now)
}

// whyShort is the reason of a run, with its troubles first.
func whyShort(r wire.Run) string {
	if r.ParkedCount > 0 && r.EndedAt == nil {
		return fmt.Sprintf("%d parked (%s)", r.ParkedCount, r.Sets.Parked)
	}
	if r.State == "rendering" {
		return ""
	}
	return r.Why
}

func (a *app) showCommand() *cobra.Command {
	var whole bool
	c := a.jsonFlag(&cobra.Command{
		Use:   "show NAME",
		Short: "Show one run or one node in full",
		Long:  "NAME is a node or a run. " + runNames,
		Args:  exactly(1, "the name of a run or node"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			nodes, err := get[[]wire.Node](ctx, cl, "/api/v1/nodes")
			if err != nil {
				return err
			}
			run, err := findRun(ctx, cl, args[0])
			for _, n := range nodes {
				switch {
				case n.Name != args[0]:
				case err == nil:
					return fmt.Errorf(
						"%q is a node and a run; say which:\n  '#%d'  %s/%s  %s\n"+
							"  the node: vexillum nodes --where 'name==%s'",
						args[0], run.ID, run.Project, run.Name, run.State, n.Name,
					)
				default:
					return a.showNode(ctx, cl, n.ID)
				}
			}
			if err != nil {
				return err
			}
			most := 8
			if whole {
				most = math.MaxInt
			}
			log, err := historyOf(ctx, cl, run.ID, most)
			if err != nil {
				return err
			}
			if a.json && whole {
				return a.printJSON(log)
			}
			return a.showRun(run, log)
		}),
	})
	c.Flags().BoolVar(&whole, "history", false, "all that happened to the run, and why; with --json that alone")
	return c
}

// pageOfHistory is how many lines of a history are asked for at once.
const pageOfHistory = 1000

// historyOf returns what happened to a run, the newest first: at most a number of lines.
func historyOf(ctx context.Context, cl *client.Client, run int64, most int) ([]wire.HistoryLine, error) {
	out := []wire.HistoryLine{}
	before := int64(0)
	for len(out) < most {
		ask := min(pageOfHistory, most-len(out))
		lines, err := get[[]wire.HistoryLine](
			ctx, cl, fmt.Sprintf("/api/v1/runs/%d/history?limit=%d&before=%d", run, ask, before),
		)
		if err != nil {
			return nil, err
		}
		out = append(out, lines...)
		if len(lines) < ask {
			break
		}
		before = lines[len(lines)-1].Seq
	}
	return out, nil
}

// whyCommand tells the reason for something.
func (a *app) whyCommand() *cobra.Command {
	var frame int
	c := a.jsonFlag(&cobra.Command{
		Use:   "why RUN [NODE]",
		Short: "Say why a run waits, why a node does not work on it, or where a frame is",
		Long:  "The answer is one sentence, with what would help. " + runNames,
		Args:  between(1, 2, "the name of a run or node, or of a run and a node"),
	})
	c.Flags().IntVar(&frame, "frame", 0, "ask about this frame")
	c.RunE = a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
		run, err := findRun(ctx, cl, args[0])
		if err != nil {
			return err
		}
		query := url.Values{}
		if len(args) > 1 {
			query.Set("node", args[1])
		}
		if c.Flags().Changed("frame") {
			query.Set("frame", fmt.Sprint(frame))
		}
		why, err := get[wire.Why](ctx, cl, fmt.Sprintf("/api/v1/runs/%d/why?%s", run.ID, query.Encode()))
		if err != nil {
			return err
		}
		if a.json {
			return a.printJSON(why)
		}
		fmt.Fprintln(a.out, why.Why)
		return nil
	})
	return c
}

// facts prints lines of a name and a value.
func (a *app) facts(lines ...string) {
	widest := 0
	for i := 0; i+1 < len(lines); i += 2 {
		if lines[i+1] != "" {
			widest = max(widest, len(lines[i]))
		}
	}
	for i := 0; i+1 < len(lines); i += 2 {
		if lines[i+1] != "" {
			fmt.Fprintf(a.out, "  %-*s  %s\n", widest, lines[i], lines[i+1])
		}
	}
}

// sceneText says which scene a run is of, and where that comes from.
func sceneText(r wire.Run) string {
	if r.Bundle == "" {
		return r.Scene
	}
	return fmt.Sprintf("%s of the bundle %.12s", r.Scene, r.Bundle)
}

// recipeText says by which version of which recipe a run renders.
func recipeText(r wire.Run) string {
	if r.RecipeVersion == 0 {
		return r.Recipe
	}
	return fmt.Sprintf("%s, version %d", r.Recipe, r.RecipeVersion)
}

func (a *app) showRun(r wire.Run, log []wire.HistoryLine) error {
	if a.json {
		return a.printJSON(r)
	}
	now := time.Now()
	fmt.Fprintf(a.out, "%s  %s\n", r.Name, state(r.State))
	took := ""
	if r.StartedAt != nil && r.EndedAt != nil {
		took = duration(r.EndedAt.Sub(*r.StartedAt))
	}
	finishing := finish(r.Forecast, now)
	if !r.Forecast.Known {
		finishing += " (" + r.Forecast.Why + ")"
	}
	a.facts(
		"number", fmt.Sprintf("#%d", r.ID), "why", r.Why, "project", r.Project, "owner", r.Owner,
		"scene", sceneText(r), "preset", presetText(r.Preset), "preflight", preflightText(r.Preflight),
		"waits for", afterText(r.After),
		"recipe", recipeText(r), "renderer", r.Renderer, "passes", strings.Join(r.Passes, ", "), "needs", r.Needs,
		"priority", unless(r.Priority, "normal"), "ceiling", r.Ceiling, "order", r.Sequence, "scouts", r.Scouts,
		"takes", takesText(r), "launch with", launchText(r.LaunchSettings),
		"size", fmt.Sprintf("%d×%d", r.Width, r.Height), "frames", fmt.Sprintf("%s (%d)", r.Frames, r.FrameCount),
		"shot", r.Shot, "output", r.Output, zoned("finish"), finishing, zoned("due"), dueText(r, now), "took", took,
		"nodes", strings.Join(r.Nodes, ", "),
	)
	fmt.Fprintf(a.out, "\n  %s\n\n", ribbon(r, 72, colours(a.out)))
	for _, s := range []struct{ word, set string }{
		{"done", r.Sets.Done}, {"suspect", r.Sets.Suspect}, {"delivering", r.Sets.Delivering},
		{"verifying", r.Sets.Verifying}, {"rendering", r.Sets.Rendering},
		{"dealt", r.Sets.Dealt}, {"failed", r.Sets.Failed}, {"parked", r.Sets.Parked}, {"skipped", r.Sets.Skipped},
		{"to do", r.Sets.ToDo},
	} {
		if s.set != "" {
			fmt.Fprintf(a.out, "  %-13s %s\n", state(s.word), a.fit(s.set, 90))
		}
	}
	for _, t := range r.Troubles {
		fmt.Fprintf(a.out, "\n  frame %d failed %s%s:\n", t.Frame, times(len(t.Failed)), zoned(""))
		for _, f := range t.Failed {
			line, _, _ := strings.Cut(f.Message, "\n")
			fmt.Fprintf(a.out, "    %s  %-11s %s: %s\n", clock(f.At, now), f.Node, f.Cause, a.fit(line, 70))
		}
	}
	for _, s := range r.Suspects {
		fmt.Fprintf(a.out, "\n  frame %d is suspect: %s\n", s.Frame, a.fit(s.Why, 90))
	}
	if len(log) > 0 {
		fmt.Fprintf(a.out, "\n  %s\n", zoned("newest first"))
		for i := len(log) - 1; i >= 0; i-- {
			fmt.Fprintf(a.out, "  %s  %-11s %s\n", clock(log[i].At, now), log[i].Node, a.fit(log[i].Reason, 92))
		}
	}
	return nil
}

func (a *app) followCommand() *cobra.Command {
	return a.jsonFlag(&cobra.Command{
		Use:   "follow RUN",
		Short: "Watch a run until it ends; the exit code tells how",
		Long: "Watches a run until it ends. The exit code is 0 if every frame is done and 1 otherwise. With --json each change\n" +
			"is a line.\n\n" + runNames,
		Args: exactly(1, "the name of a run"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			run, err := findRun(ctx, cl, args[0])
			if err != nil {
				return err
			}
			last, err := a.follow(ctx, cl, run)
			if err != nil {
				return err
			}
			if last.State != "done" {
				return outcome{exitFailed}
			}
			return nil
		}),
	})
}

// errEnded ends the stream of changes of a run that has ended.
var errEnded = errors.New("the run has ended")

// follow shows a run's progress until it ends and returns it as it then is.
func (a *app) follow(ctx context.Context, c *client.Client, run wire.Run) (wire.Run, error) {
	show, done := a.progress(run)
	if a.json {
		show, done = a.lines(), func() {}
	}
	show(run, "")
	if run.State == "held" && !a.json {
		show(run, run.Name+" is held: nothing happens until somebody releases it, with: vexillum release "+run.Name)
	}
	var err error
	if run.EndedAt == nil {
		err = c.Events(ctx, 0, func(farm *client.Farm, e client.Event) error {
			if slices.Contains(e.Runs, run.ID) {
				run = farm.Runs[run.ID]
				show(run, "")
			}
			if run.EndedAt != nil {
				return errEnded
			}
			return nil
		}, func(error) { show(run, "the service is away; waiting for it") })
	}
	done()
	if err != nil && !errors.Is(err, errEnded) {
		return run, err
	}
	if a.json {
		return run, nil
	}
	took := ""
	if run.StartedAt != nil && run.EndedAt != nil {
		took = " in " + duration(run.EndedAt.Sub(*run.StartedAt))
	}
	fmt.Fprintf(a.out, "%s  %s%s: %s\n", run.Name, state(run.State), took, run.Why)
	return run, nil
}

// lines shows each change of a run as a line of JSON: its state and what is done.
func (a *app) lines() func(wire.Run, string) {
	last := ""
	return func(r wire.Run, _ string) {
		data, err := json.Marshal(map[string]any{
			"run": r.ID, "name": r.Name, "state": r.State, "done": r.DoneCount,
			"frames": r.FrameCount, "parked": r.ParkedCount, "why": r.Why, "ended_at": r.EndedAt,
		})
		if line := string(data); err == nil && line != last {
			last = line
			fmt.Fprintln(a.out, line)
		}
	}
}

// progress returns how a run's progress is shown: as a live bar on a
// terminal, as plain lines elsewhere.
func (a *app) progress(run wire.Run) (show func(wire.Run, string), done func()) {
	if !colours(a.out) {
		last := ""
		return func(r wire.Run, note string) {
			line := fmt.Sprintf(
				"%s  %s  %d of %d  %s %s", r.Name, r.State, r.DoneCount, r.FrameCount, zoned("finish"),
				finish(r.Forecast, time.Now()),
			)
			if note != "" {
				line = note
			}
			key := fmt.Sprint(r.State, r.DoneCount, r.ParkedCount, note)
			if key != last {
				last = key
				fmt.Fprintln(a.out, line)
			}
		}, func() {}
	}
	now, note := run, ""
	p := mpb.New(mpb.WithOutput(os.Stdout), mpb.WithWidth(48), mpb.WithRefreshRate(150*time.Millisecond))
	bar := p.New(int64(run.FrameCount), mpb.BarStyle().Lbound("▕").Filler("█").Tip("▌").Padding("·").Rbound("▏"),
		mpb.PrependDecorators(
			decor.Any(func(decor.Statistics) string { return now.Name + "  " + state(now.State) + "  " }),
		),
		mpb.AppendDecorators(
			decor.Any(func(decor.Statistics) string {
				if note != "" {
					return "  " + note
				}
				text := fmt.Sprintf("  %d of %d", now.DoneCount, now.FrameCount)
				if now.ParkedCount > 0 {
					text += fmt.Sprintf(", %d parked", now.ParkedCount)
				}
				if now.Forecast.Known {
					text += "  " + zoned("finish") + " " + finish(now.Forecast, time.Now())
				} else if now.Forecast.Why != "" {
					text += "  " + now.Forecast.Why
				}
				if len(now.Nodes) > 0 {
					text += "  on " + strings.Join(now.Nodes, ", ")
				}
				return text
			}),
		),
	)
	return func(r wire.Run, n string) {
			now, note = r, n
			bar.SetCurrent(int64(r.DoneCount))
		}, func() {
			bar.Abort(false)
			p.Wait()
		}
}

func (a *app) sheetCommand() *cobra.Command {
	var to string
	c := &cobra.Command{
		Use:   "sheet NAME",
		Short: "Save the contact sheet of a run as a PNG",
		Args:  exactly(1, "the name of a run"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			run, err := findRun(ctx, cl, args[0])
			if err != nil {
				return err
			}
			if to == "" {
				to = fmt.Sprintf("%s-%s-%d.png", run.Job, run.Kind, run.Number)
			}
			if err := saveSheet(ctx, cl, run, to); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s: %d frames of %s\n", to, run.DoneCount, run.Name)
			return nil
		}),
	}
	c.Flags().StringVarP(&to, "to", "o", "", "file to write (default: JOB-KIND-NUMBER.png)")
	return c
}

func saveSheet(ctx context.Context, c *client.Client, run wire.Run, to string) error {
	file, err := os.Create(to)
	if err != nil {
		return fmt.Errorf("writing the contact sheet: %w", err)
	}
	err = c.Fetch(ctx, fmt.Sprintf("/api/v1/runs/%d/contact-sheet", run.ID), file)
	return errors.Join(err, file.Close())
}

// takesText says what a lease of a run takes of its node; nothing where that
// is all and nobody knows how much memory.
func takesText(r wire.Run) string {
	var parts []string
	if r.Takes.Cores > 0 {
		parts = append(parts, english.Plural(r.Takes.Cores, "core", ""))
	}
	if r.Takes.MemoryBytes > 0 {
		parts = append(parts, size(r.Takes.MemoryBytes))
	}
	if r.Takes.Devices > 0 {
		parts = append(parts, english.Plural(r.Takes.Devices, "graphics device", ""))
	}
	text := strings.Join(parts, ", ")
	if r.MemoryPeak > 0 {
		if text == "" {
			text = "the whole node"
		}
		text += fmt.Sprintf("; a launch grows to %s", size(r.MemoryPeak))
	}
	return text
}

// unless returns a text, or nothing for one that goes without saying.
func unless(text, plain string) string {
	if text == plain {
		return ""
	}
	return text
}
