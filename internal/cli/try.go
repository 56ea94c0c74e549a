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

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/node"
	"vexillum/internal/picture"
	"vexillum/internal/recipe"
	"vexillum/internal/scenefile"
)

// trying is what is said on the command line about a trial of a recipe.
type trying struct {
	frame, size, shot, keep string
	set, passes             []string
}

func (t *trying) bind(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&t.frame, "frame", "1", "the frame to render, or several in a row such as 1-3")
	f.StringVar(&t.shot, "shot", "", "all frames of the animation (default: as a file beside the scene says, or those rendered)")
	f.StringVar(
		&t.size, "size", "", "width and height of the picture in pixels (default: as the scene says, else 320x180)",
	)
	f.StringSliceVar(&t.passes, "passes", nil, "passes to write beside the picture")
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
func (a *app) trialOf(ctx context.Context, t trying, file, scene string) (out node.Trial, err error) {
	if out.Recipe, err = recipeOf(file); err != nil {
		return out, err
	}
	if scene == "" {
		return out, usageError{errors.New("the scene is empty; name a file on this machine")}
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
	size := t.size
	if size == "" {
		size = "320x180"
	}
	if out.Width, out.Height, err = parseSize(size); err != nil {
		return out, usageError{err}
	}
	if out.Passes, err = out.Recipe.ChoosePasses(t.passes); err != nil {
		return out, err
	}
	given := map[string]string{}
	for _, text := range t.set {
		name, value, ok := strings.Cut(text, "=")
		if !ok {
			return out, usageError{fmt.Errorf("--set %q: write it as name=value", text)}
		}
		given[name] = value
	}
	if err := shotOf(ctx, &out, t.shot, given); err != nil {
		return out, err
	}
	if t.size == "" && out.Told.Width > 0 {
		out.Width, out.Height = out.Told.Width, out.Told.Height
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

// shotOf returns the shot range: as it is said, as the scene or a file beside it
// says, or the frames that are rendered. What is said there of settings is added to
// those that are given.
func shotOf(ctx context.Context, t *node.Trial, said string, given map[string]string) error {
	t.Shot = t.Frames
	root, err := os.OpenRoot(filepath.Dir(t.Scene))
	if err != nil {
		return fmt.Errorf("opening the folder of the scene: %w", err)
	}
	defer root.Close()
	scene := filepath.Base(t.Scene)
	told, err := t.Recipe.ReadScene(scene, scenefile.Reader(ctx, root, scene))
	if err != nil {
		return err
	}
	t.Told = told
	if told.Range != nil {
		t.Shot = *told.Range
	}
	for setting, value := range told.Values {
		if _, chosen := given[setting]; !chosen {
			given[setting] = value
		}
	}
	if said == "" {
		return nil
	}
	if t.Shot, err = frames.ParseSpan(said); err != nil {
		return usageError{fmt.Errorf("--shot: %w", err)}
	}
	return nil
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
		seen := ""
		if t.Recipe.Picture != farm.Data {
			seen = fmt.Sprintf("%d×%d, ", t.Width, t.Height)
		}
		beside := ""
		if len(f.Beside) > 0 {
			beside = " with " + english.WordSeries(f.Beside, "and")
		}
		fmt.Fprintf(
			a.out, "frame %d  good: %s%s%s, rendered in %.1f s%s\n", f.Frame, seen, size(f.Bytes), beside, f.Render,
			start,
		)
		for _, l := range f.Layers {
			fmt.Fprintf(a.out, "  %s\n", layerText(l))
		}
		if f.Warning != "" {
			fmt.Fprintf(a.out, "  suspect: %s\n", f.Warning)
		}
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

// layerText names a layer of an OpenEXR picture.
func layerText(l picture.Layer) string {
	text := "channels " + strings.Join(l.Channels, " ")
	if l.Name != "" {
		text = "layer " + l.Name + ": " + text
	}
	if l.Part != "" {
		text = "part " + l.Part + ", " + text
	}
	return text
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
