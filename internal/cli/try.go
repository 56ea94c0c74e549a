package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"vexillum/internal/core/frames"
	"vexillum/internal/node"
	"vexillum/internal/plainfile"
	"vexillum/internal/recipe"
)

// trying is what is said on the command line about a trial of a recipe.
type trying struct {
	frame, size, shot, keep string
	set                     []string
}

func (t *trying) bind(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&t.frame, "frame", "1", "the frame to render, or several in a row such as 1-3")
	f.StringVar(&t.shot, "shot", "", "all frames of the animation (default: as a file beside the scene says, or those rendered)")
	f.StringVar(&t.size, "size", "320x180", "width and height of the picture in pixels")
	f.StringArrayVar(&t.set, "set", nil, "a setting of the recipe as name=value")
	f.StringVar(&t.keep, "keep", "", "an empty folder that keeps what the renderer leaves")
}

// recipeTryCommand renders a frame by a recipe file. It needs no service.
func (a *app) recipeTryCommand() *cobra.Command {
	var t trying
	c := &cobra.Command{
		Use: "try FILE SCENE", Short: "Render a frame here by a recipe file, and show how its output is understood",
		Long: "Launches the renderer of a recipe on this machine, in an empty folder and without a service, as a node would.\n" +
			"Shows the launch line, what each line of output was taken for, and what came of it. FILE is a recipe file or\n" +
			"the name of a recipe that comes with the program. The exit code is 1 if a frame has failed.",
		Example: "  vexillum recipe try glass.yaml vase.glass --frame 12\n" +
			"  vexillum recipe try povray clock.pov --size 640x360 --set quality=4",
		Args: exactly(2, "a recipe file and a scene"),
	}
	t.bind(c)
	c.RunE = func(c *cobra.Command, args []string) error { return a.tryRecipe(c.Context(), t, args[0], args[1]) }
	return c
}

func (a *app) tryRecipe(ctx context.Context, t trying, file, scene string) error {
	trial, err := a.trialOf(t, file, scene)
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
		fmt.Fprintf(a.out, "launch  %s\n", commandLine(append([]string{program}, arguments...)))
	}
	trial.Heard = func(line, meaning string) {
		if meaning == "" {
			fmt.Fprintf(a.out, "  %s\n", line)
			return
		}
		fmt.Fprintf(a.out, "  %s\n    ^ %s\n", line, meaning)
	}
	report, err := node.Try(ctx, trial)
	if err != nil {
		return fmt.Errorf("trying %s: %w", trial.Recipe.Name, err)
	}
	return a.tellTrial(trial, report, t.keep)
}

// trialOf reads recipe, scene and settings.
func (a *app) trialOf(t trying, file, scene string) (out node.Trial, err error) {
	if out.Recipe, err = recipeOf(file); err != nil {
		return out, err
	}
	if out.Scene, err = filepath.Abs(scene); err != nil {
		return out, err
	}
	if info, err := os.Stat(out.Scene); err != nil || !info.Mode().IsRegular() {
		return out, fmt.Errorf("there is no scene file %s", scene)
	}
	if err := out.Recipe.CanRead(scene); err != nil {
		return out, err
	}
	if out.Frames, err = frames.ParseSpan(t.frame); err != nil {
		return out, usageError{fmt.Errorf("--frame: %w", err)}
	}
	if out.Width, out.Height, err = parseSize(t.size); err != nil {
		return out, usageError{err}
	}
	given := map[string]string{}
	for _, text := range t.set {
		name, value, ok := strings.Cut(text, "=")
		if !ok {
			return out, usageError{fmt.Errorf("--set %q: write it as name=value", text)}
		}
		given[name] = value
	}
	if out.Shot, err = shotOf(out, t.shot, given); err != nil {
		return out, err
	}
	if out.Values, err = out.Recipe.Complete(given); err != nil {
		return out, err
	}
	if t.keep == "" {
		return out, nil
	}
	out.Folder = t.keep
	if entries, err := os.ReadDir(t.keep); err == nil && len(entries) > 0 {
		return out, fmt.Errorf("the folder %s is not empty; give one that is, or one that is not there yet", t.keep)
	}
	return out, os.MkdirAll(t.keep, 0o755)
}

// recipeOf reads a recipe file, or finds one that comes with the program.
func recipeOf(name string) (*recipe.Recipe, error) {
	data, err := readBounded(name)
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

// mostShotFile bounds a file beside a scene that says about its animation.
const mostShotFile = 64 << 10

// shotOf returns the shot range: as it is said, as a file beside the scene says,
// or the frames that are rendered. What that file says of settings is added to
// those that are given.
func shotOf(t node.Trial, said string, given map[string]string) (frames.Span, error) {
	shot := t.Frames
	if name := t.Recipe.ShotFile(filepath.Base(t.Scene)); name != "" {
		text, err := plainfile.Read(filepath.Join(filepath.Dir(t.Scene), filepath.FromSlash(name)), mostShotFile)
		if err == nil {
			beside, err := t.Recipe.ReadShot(name, text)
			if err != nil {
				return shot, err
			}
			if beside.Range != nil {
				shot = *beside.Range
			}
			for setting, value := range beside.Values {
				if _, chosen := given[setting]; !chosen {
					given[setting] = value
				}
			}
		}
	}
	if said == "" {
		return shot, nil
	}
	shot, err := frames.ParseSpan(said)
	if err != nil {
		return shot, usageError{fmt.Errorf("--shot: %w", err)}
	}
	return shot, nil
}

// tellTrial says what came of a trial, what no line has told, and which folder is
// kept, if one is.
func (a *app) tellTrial(t node.Trial, report node.TrialReport, kept string) error {
	fmt.Fprintln(a.out)
	failed := len(report.Frames) == 0
	for _, f := range report.Frames {
		if !f.Good {
			failed = true
			first, rest, _ := strings.Cut(f.Message, "\n")
			fmt.Fprintf(a.out, "frame %d  failed: %s – %s\n", f.Frame, f.Cause, first)
			for line := range strings.SplitSeq(strings.TrimSpace(rest), "\n") {
				if line != "" {
					fmt.Fprintf(a.out, "  %s\n", line)
				}
			}
			continue
		}
		start := ""
		if f.Startup >= 0.05 {
			start = fmt.Sprintf(", after %.1f s to start", f.Startup)
		}
		fmt.Fprintf(
			a.out, "frame %d  good: %d×%d, %s, rendered in %.1f s%s\n", f.Frame, t.Width, t.Height, size(f.Bytes),
			f.Render, start,
		)
	}
	if len(report.Frames) == 0 {
		fmt.Fprintln(a.out, "Nothing came of it: no frame has begun or was left behind.")
	}
	if t.Recipe.NeedsShot() && t.Shot == t.Frames {
		fmt.Fprintf(
			a.out, "note  the animation is taken to be frame %v alone; give all its frames with --shot, as pictures depend on them\n",
			frames.Of(t.Frames),
		)
	}
	for _, what := range report.Missing {
		fmt.Fprintf(a.out, "note  %s\n", what)
	}
	if kept != "" {
		fmt.Fprintf(a.out, "What the renderer left is in %s.\n", kept)
	}
	if failed {
		return outcome{exitFailed}
	}
	return nil
}

// commandLine writes a program and its arguments as a shell would take them.
func commandLine(words []string) string {
	out := slices.Clone(words)
	for i, w := range out {
		if w == "" || strings.ContainsAny(w, " \t\"'\\$&|;<>()*?[]{}!#~`") {
			out[i] = "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
		}
	}
	return strings.Join(out, " ")
}
