package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/core/frames"
	"vexillum/internal/jobfile"
	"vexillum/internal/node"
	"vexillum/internal/recipe"
	"vexillum/internal/scenefile"
	"vexillum/internal/wire"
)

// trying is what is said on the command line about a trial of a recipe.
type trying struct {
	frame, size, shot, keep string
	node, project           string
	set, passes             []string
}

func (t *trying) bind(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&t.frame, "frame", "1", "the frame to render, or several in a row such as 1-3")
	f.StringVar(
		&t.shot,
		"shot",
		"",
		"all frames of the animation (default: as a file beside the scene says, or those rendered)",
	)
	f.StringVar(
		&t.size, "size", "", "width and height of the picture in pixels (default: as the scene says, else 320x180)",
	)
	f.StringSliceVar(&t.passes, "passes", nil, "passes to write beside the picture")
	f.StringArrayVar(&t.set, "set", nil, "a setting of the recipe as name=value")
	f.StringVar(&t.node, "node", "", "try it on this node instead of here; any: on one that has nothing to do")
	f.StringVar(&t.project, "project", "", "with --node: the project in whose scene place the scene is")
	f.StringVar(&t.keep, "keep", "", "an empty folder that keeps what the renderer leaves")
}

// recipeTryCommand renders a frame by a recipe file. It needs no service.
func (a *app) recipeTryCommand() *cobra.Command {
	var t trying
	c := &cobra.Command{
		Use:   "try FILE SCENE",
		Short: "Render a frame by a recipe file, here or on a node, and show how its output is understood",
		Long: "Launches the renderer of a recipe on this machine, in an empty folder and without a service, as a\n" +
			"node would. Shows the launch line, what each line of output was taken for, and what came of it. FILE\n" +
			"is a recipe file or the name of a recipe that comes with the program. With --node the service lets a\n" +
			"node do it: the scene is then one of a project, and the launch has the account and the variables of\n" +
			"the project. The exit code is 1 if a frame has failed.",
		Example: "  vexillum recipe try glass.yaml vase.glass --frame 12\n" +
			"  vexillum recipe try povray clock.pov --size 640x360 --set quality=4\n" +
			"  vexillum recipe try glass.yaml shots/vase.glass --node kiln-03 --project salt-clock",
		Args: exactly(2, "a recipe file and a scene"),
	}
	t.bind(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		switch {
		case c.Flags().Changed("node"):
			return a.tryOnNode(c.Context(), t, args[0], args[1])
		case t.project != "":
			return usageError{errors.New("--project goes with --node; here the scene is a file on this machine")}
		}
		return a.tryRecipe(c.Context(), t, args[0], args[1])
	}
	return c
}

func (a *app) tryRecipe(ctx context.Context, t trying, file, scene string) error {
	trial, err := a.trialOf(ctx, t, file, scene)
	if err != nil {
		return err
	}
	if t.keep == "" {
		if trial.Folder, err = os.MkdirTemp("", "vexillum-try-"); err != nil {
			return fmt.Errorf("making a folder to render in: %w", err)
		}
		defer os.RemoveAll(trial.Folder)
	}
	trial.Launched = func(program string, arguments, _ []string) {
		a.tellLine(wire.TrialLine{Text: node.LaunchText(program, arguments), Launch: true})
	}
	trial.Heard = func(line, meaning string) { a.tellLine(wire.TrialLine{Text: line, Meaning: meaning}) }
	report, err := node.Try(ctx, trial)
	if err != nil {
		return fmt.Errorf("trying %s: %w", trial.Recipe.Name, err)
	}
	err = a.tellTrial(report.View(&trial))
	if t.keep != "" {
		fmt.Fprintf(a.out, "What the renderer left is in %s.\n", t.keep)
	}
	return err
}

// trialOf reads recipe, scene and settings.
func (a *app) trialOf(ctx context.Context, t trying, file, scene string) (out node.Trial, err error) {
	w, err := t.wanted(file, scene)
	if err != nil {
		return out, err
	}
	w.Run = scenefile.RunAsSelf
	if out, err = w.Trial(ctx); err != nil || t.keep == "" {
		return out, err
	}
	if out.Folder, err = filepath.Abs(t.keep); err != nil { // the renderer starts elsewhere
		return out, fmt.Errorf("finding the folder %s: %w", t.keep, err)
	}
	if entries, err := os.ReadDir(t.keep); err == nil && len(entries) > 0 {
		return out, fmt.Errorf("the folder %s is not empty; give one that is, or one that is not there yet", t.keep)
	}
	return out, os.MkdirAll(t.keep, 0o755)
}

// wanted reads what is said on the command line.
func (t *trying) wanted(file, scene string) (w node.Wanted, err error) {
	if w.Recipe, err = recipeOf(file); err != nil {
		return w, err
	}
	if scene == "" {
		return w, usageError{errors.New("the scene is empty; name a file")}
	}
	w.Scene, w.Passes, w.Values = scene, t.passes, map[string]string{}
	if w.Frames, err = frames.ParseSpan(t.frame); err != nil {
		return w, usageError{fmt.Errorf("--frame: %w", err)}
	}
	if t.shot != "" {
		shot, err := frames.ParseSpan(t.shot)
		if err != nil {
			return w, usageError{fmt.Errorf("--shot: %w", err)}
		}
		w.Shot = &shot
	}
	if t.size != "" {
		if w.Width, w.Height, err = jobfile.ParseSize(t.size); err != nil {
			return w, usageError{fmt.Errorf("--size: %w", err)}
		}
	}
	for _, text := range t.set {
		name, value, ok := strings.Cut(text, "=")
		if !ok {
			return w, usageError{fmt.Errorf("--set %q: write it as name=value", text)}
		}
		w.Values[name] = value
	}
	return w, nil
}

// recipeOf reads a recipe file, or finds one that comes with the program.
func recipeOf(name string) (*recipe.Recipe, error) {
	data, err := readInput(name, "a recipe file")
	if errors.Is(err, fs.ErrNotExist) && filepath.Ext(name) == "" {
		book, broken := recipe.Builtin()
		if broken != nil {
			return nil, broken
		}
		if r := book[name]; r != nil {
			return r, nil
		}
		return nil, fmt.Errorf(
			"there is no file %s, and no recipe of that name comes with the program; those that do are %s", name,
			strings.Join(book.Names(), ", "),
		)
	}
	if err != nil {
		return nil, err
	}
	r, err := recipe.Parse(data)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be used: %w", name, err)
	}
	return r, nil
}

// tellTrial says what came of a trial, and what no line has told.
func (a *app) tellTrial(t wire.Trial) error {
	fmt.Fprintln(a.out)
	failed := len(t.Frames) == 0
	for _, f := range t.Frames {
		failed = failed || !f.Good
		a.tellFrame(t, f)
	}
	if len(t.Frames) == 0 {
		fmt.Fprintln(a.out, "Nothing came of it: no frame has begun or was left behind.")
	}
	for _, what := range t.Notes {
		fmt.Fprintf(a.out, "note  %s\n", what)
	}
	if failed {
		return outcome{exitFailed}
	}
	return nil
}

// tellFrame says what came of one frame of a trial.
func (a *app) tellFrame(t wire.Trial, f wire.TrialFrame) {
	if !f.Good {
		first, rest, _ := strings.Cut(f.Message, "\n")
		fmt.Fprintf(a.out, "frame %d  failed: %s – %s\n", f.Frame, f.Cause, first)
		for line := range strings.SplitSeq(strings.TrimSpace(rest), "\n") {
			if line != "" {
				fmt.Fprintf(a.out, "  %s\n", line)
			}
		}
		return
	}
	start, seen, beside := "", "", ""
	if f.StartupSeconds >= 0.05 {
		start = fmt.Sprintf(", after %.1f s to start", f.StartupSeconds)
	}
	if t.Width > 0 {
		seen = fmt.Sprintf("%d×%d, ", t.Width, t.Height)
	}
	if len(f.Passes) > 0 {
		beside = " with " + english.WordSeries(f.Passes, "and")
	}
	fmt.Fprintf(
		a.out, "frame %d  good: %s%s%s, rendered in %.1f s%s\n", f.Frame, seen, size(f.Bytes), beside,
		f.RenderSeconds, start,
	)
	for _, l := range f.Layers {
		fmt.Fprintf(a.out, "  %s\n", l)
	}
	if f.Warning != "" {
		fmt.Fprintf(a.out, "  suspect: %s\n", f.Warning)
	}
}

// tellLine shows a line of a trial, and how it was understood.
func (a *app) tellLine(l wire.TrialLine) {
	switch {
	case l.Launch:
		fmt.Fprintf(a.out, "launch  %s\n", l.Text)
	case l.Meaning == "":
		fmt.Fprintf(a.out, "  %s\n", l.Text)
	default:
		fmt.Fprintf(a.out, "  %s\n    ^ %s\n", l.Text, l.Meaning)
	}
}

// tryOnNode tries a recipe on a node of the farm.
func (a *app) tryOnNode(ctx context.Context, t trying, file, scene string) error {
	if t.keep != "" {
		return usageError{errors.New("--keep is for trials on this machine; nothing of one on a node is kept")}
	}
	if t.project == "" {
		return usageError{errors.New("--node: say with --project in whose scene place the scene is")}
	}
	w, err := t.wanted(file, scene)
	if err != nil {
		return err
	}
	in := wire.TryRecipe{
		Text: w.Recipe.Text(), Project: t.project, Scene: filepath.ToSlash(scene), Node: t.node,
		Frames: frames.Of(w.Frames).String(), Shot: t.shot, Width: w.Width, Height: w.Height, Values: w.Values,
		Passes: w.Passes,
	}
	if in.Node == anyNode {
		in.Node = ""
	}
	cl, err := a.client()
	if err != nil {
		return err
	}
	var trial wire.RecipeTrial
	if err := cl.Do(ctx, http.MethodPost, "/api/v1/recipe-trials", in, &trial); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "Trying %s on %s.\n", trial.Recipe, trial.Node)
	return a.followTrial(ctx, cl, trial)
}

// tryFrameCommand lets a node render a frame of a run by hand.
func (a *app) tryFrameCommand() *cobra.Command {
	var frame int
	var in wire.RenderByHand
	c := &cobra.Command{
		Use:   "try RUN --frame N",
		Short: "Render a frame again by hand at a node, and show its launch line and all that is said",
		Long: "Lets a node render a frame of a run just as on a lease: the same launch line, scene, settings and\n" +
			"account, also where the node is held or sidelined. Shows what each line of output was taken for,\n" +
			"and what came of it. Nothing is delivered, and it counts as no try. The exit code is 1 if the\n" +
			"frame has failed.\n\n" + runNames,
		Example: "  vexillum try salt_010 --frame 12                 # where it failed last\n" +
			"  vexillum try salt_010 --frame 12 --node kiln-03",
		Args: exactly(1, "the name of a run"),
	}
	c.RunE = a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
		if err := refuseEmpty(c); err != nil {
			return err
		}
		if !c.Flags().Changed("frame") {
			return usageError{
				errors.New("say which frame, such as --frame 12; vexillum trouble RUN shows what has failed"),
			}
		}
		run, err := findRun(ctx, cl, args[0])
		if err != nil {
			return err
		}
		var trial wire.RecipeTrial
		path := fmt.Sprintf("/api/v1/runs/%d/frames/%d/trials", run.ID, frame)
		if err := cl.Do(ctx, http.MethodPost, path, in, &trial); err != nil {
			return err
		}
		fmt.Fprintf(a.out, "Rendering frame %d of %s by hand on %s.\n", frame, run.Name, trial.Node)
		return a.followTrial(ctx, cl, trial)
	})
	c.Flags().IntVarP(&frame, "frame", "f", 0, "the frame to render")
	c.Flags().StringVar(&in.Node, "node", "", "the node that renders it (default: where it failed last)")
	return c
}

// followTrial shows a trial on a node until it has come to its end, and stops it if nobody
// waits any longer.
func (a *app) followTrial(ctx context.Context, cl *client.Client, trial wire.RecipeTrial) (err error) {
	for shown := 0; ; {
		for ; shown < len(trial.Lines); shown++ {
			a.tellLine(trial.Lines[shown])
		}
		switch {
		case trial.Error != "":
			return fmt.Errorf("trying %s on %s: %s", trial.Recipe, trial.Node, trial.Error)
		case trial.State == wire.TrialDone || trial.State == wire.TrialFailed:
			return a.tellTrial(trial.Trial)
		}
		select {
		case <-ctx.Done():
		case <-time.After(tryLook):
			err = patient(ctx, func() error {
				return cl.Do(ctx, http.MethodGet, "/api/v1/recipe-trials/"+trial.ID, nil, &trial)
			})
		}
		switch {
		case ctx.Err() != nil:
			return a.stopTrial(context.WithoutCancel(ctx), cl, trial)
		case err != nil:
			return err
		}
	}
}

// stopTrial ends a trial on a node that nobody waits for any more.
func (a *app) stopTrial(ctx context.Context, cl *client.Client, trial wire.RecipeTrial) error {
	ctx, cancel := context.WithTimeout(ctx, readTimeout)
	defer cancel()
	if err := cl.Do(ctx, http.MethodDelete, "/api/v1/recipe-trials/"+trial.ID, nil, nil); err != nil {
		return fmt.Errorf("stopping the trial on %s: %w", trial.Node, err)
	}
	fmt.Fprintf(a.err, "The trial on %s is stopped.\n", trial.Node)
	return outcome{exitStopped}
}

// tryLook is how often it is looked how far a trial on a node is.
const tryLook = 500 * time.Millisecond

// anyNode is what --node says where any node will do.
const anyNode = "any"
