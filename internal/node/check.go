package node

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/shirou/gopsutil/v4/disk"

	"vexillum/internal/core/farm"
	"vexillum/internal/recipe"
	"vexillum/internal/wire"
)

// check looks whether this node could really render something: it reads, writes and starts
// what a lease would.
func (e *errands) check(ctx context.Context, id int64, task wire.CheckTask) wire.ErrandTold {
	r, err := recipe.ParseKept([]byte(task.Recipe))
	if err != nil {
		return wire.ErrandTold{Error: fmt.Sprintf("%s cannot read the recipe: %v", e.a.me.Name, err)}
	}
	c := checking{e: e, r: r, task: task}
	c.scene(ctx)
	c.output()
	c.renderer(ctx)
	c.plugins()
	c.account()
	c.disk(ctx)
	if task.Frame != nil && !c.failed {
		c.frame(ctx, id)
	}
	return wire.ErrandTold{Checked: &wire.Checked{Answers: c.answers, Now: time.Now()}}
}

// checking gathers answers.
type checking struct {
	e       *errands
	r       *recipe.Recipe
	task    wire.CheckTask
	answers []wire.PreflightAnswer
	failed  bool
}

func (c *checking) passes(question, says string, args ...any) {
	c.answers = append(
		c.answers,
		wire.PreflightAnswer{Question: question, Passes: true, Says: fmt.Sprintf(says, args...)},
	)
}

func (c *checking) fails(question, remedy, says string, args ...any) {
	c.failed = true
	c.answers = append(
		c.answers, wire.PreflightAnswer{Question: question, Says: fmt.Sprintf(says, args...), Remedy: remedy},
	)
}

// scene looks at the scene with all that it needs, and compares its content.
func (c *checking) scene(ctx context.Context) {
	t := c.task
	if t.Scene == "" {
		c.passes(wire.AskScene, "nothing is read from a place")
		return
	}
	if t.SceneRoot == "" {
		c.fails(
			wire.AskScene,
			"give the place a path there with: vexillum place set",
			"the scene place has no path on %s",
			runtime.GOOS,
		)
		return
	}
	seen, err := c.e.a.pinned.See(ctx, t.SceneRoot, t.Scene, c.r, t.With)
	switch {
	case err != nil:
		c.fails(wire.AskScene, "mount the place there, or submit with --bundle", "%v", err)
	case t.SHA != "" && seen.SHA != t.SHA:
		c.fails(
			wire.AskScene,
			"let the storage catch up, or mount the same one there",
			"the scene has another content than where it was submitted",
		)
	case t.Pin != "" && seen.Pin != "" && seen.Pin != t.Pin:
		c.fails(
			wire.AskScene,
			"let the storage catch up, or mount the same one there",
			"a file that the scene needs has another content, or is not there",
		)
	case len(seen.Missing) > 0:
		c.fails(
			wire.AskScene,
			"put it there, or correct the scene",
			"%s is not there",
			strings.Join(seen.Missing[:min(3, len(seen.Missing))], ", "),
		)
	default:
		c.passes(wire.AskScene, "same content")
	}
}

// output writes a file where frames go, links it, reads it back and removes it.
func (c *checking) output() {
	root := c.task.OutputRoot
	if root == "" {
		c.passes(wire.AskOutput, "frames go to the service")
		return
	}
	remedy := "mount the place there and let the node process write to it"
	if err := markedBy(root, c.task.Mark); err != nil {
		// A node that does not see the place sends its frames to the service.
		c.passes(wire.AskOutput, "frames go to the service: %v", err)
		return
	}
	name := filepath.Join(root, fmt.Sprintf(".vexillum-check-%s-%d", c.e.a.me.Name, c.e.a.session))
	other := name + "-linked"
	defer func() {
		os.Remove(name)
		os.Remove(other)
	}()
	text := []byte("written to see whether that can be done\n")
	if err := os.WriteFile(name, text, 0o666); err != nil {
		c.fails(wire.AskOutput, remedy, "%s cannot be written to: %v", root, cause(err))
		return
	}
	if err := os.Link(name, other); err != nil {
		c.fails(
			wire.AskOutput, "mount it so that files can be linked; else a frame could be seen in part",
			"files in %s cannot be linked: %v", root, cause(err),
		)
		return
	}
	if back, err := os.ReadFile(other); err != nil || string(back) != string(text) {
		c.fails(wire.AskOutput, remedy, "what is written to %s does not come back as it was", root)
		return
	}
	if err := errors.Join(os.Remove(name), os.Remove(other)); err != nil {
		c.fails(wire.AskOutput, remedy, "files in %s cannot be removed: %v", root, cause(err))
		return
	}
	c.passes(wire.AskOutput, "writes, links and removes")
}

// markedBy looks whether a folder holds the mark of the farm.
func markedBy(root, mark string) error {
	if mark == "" {
		return nil
	}
	if _, err := os.Stat(filepath.Join(root, mark)); err != nil {
		return fmt.Errorf("%s does not hold the mark of this farm", root)
	}
	return nil
}

func cause(err error) error {
	var of *fs.PathError
	if errors.As(err, &of) {
		return of.Err
	}
	var link *os.LinkError
	if errors.As(err, &link) {
		return link.Err
	}
	return err
}

// renderer starts the renderer and asks for its version.
func (c *checking) renderer(ctx context.Context) {
	path, err := programPath(c.r.Program)
	if err != nil {
		c.fails(wire.AskRenderer, "install it there, or correct the program in the recipe", "%v", err)
		return
	}
	switch found, _ := c.e.a.commands().probe(ctx, *c.r); {
	case found.Failed:
		c.fails(
			wire.AskRenderer, "run "+path+" there as a renderer would, and correct what it reports",
			"%s%s", found.Unfit, farm.Quoted(found.Printed),
		)
	case found.Unfit != "":
		c.fails(
			wire.AskRenderer, "install another version there, or change the bounds in the recipe", "%s", found.Unfit,
		)
	case found.Version == "":
		c.passes(wire.AskRenderer, "it is there")
	default:
		c.passes(wire.AskRenderer, "%s", found.Version)
	}
}

// plugins looks whether the files are there that the recipe names.
func (c *checking) plugins() {
	if len(c.r.Plugins) == 0 {
		return
	}
	var missing []string
	for _, name := range c.r.Plugins {
		name = recipe.Fill(name, map[string]string{"scene_root": c.task.SceneRoot})
		if _, err := os.Stat(name); err != nil {
			missing = append(missing, name)
		}
	}
	if len(missing) > 0 {
		c.fails(wire.AskPlugins, "install them there", "not there: %s", strings.Join(missing, ", "))
		return
	}
	c.passes(wire.AskPlugins, "all there")
}

// account looks whether the account and group are known that renderers run as.
func (c *checking) account() {
	s := c.task.LaunchSettings
	who, err := c.e.a.accounts.Resolve(s.Account, s.Group, 0)
	if err != nil {
		c.fails(
			wire.AskAccount, "create or allow it there, or choose another with: vexillum launch set", "%v", err,
		)
		return
	}
	if !who.Switched() {
		c.passes(wire.AskAccount, "that of the node process")
		return
	}
	c.passes(wire.AskAccount, "%s", strings.TrimSpace(who.Account+" "+who.Group))
}

// disk looks at the disk where frames are staged.
func (c *checking) disk(ctx context.Context) {
	usage, err := disk.UsageWithContext(ctx, c.e.a.staging())
	switch {
	case err != nil:
		c.passes(wire.AskDisk, "not known")
	case usage.Free < uint64(max(0, c.task.DiskBytes)):
		c.fails(
			wire.AskDisk, "make room there, or stage frames on another disk with: vexillum join --staging",
			"%s are free, and %s may be needed", humanize.IBytes(usage.Free), humanize.IBytes(uint64(c.task.DiskBytes)),
		)
	default:
		c.passes(wire.AskDisk, "%s free", humanize.IBytes(usage.Free))
	}
}

// frame renders one small frame, as a lease would, and throws it away.
func (c *checking) frame(ctx context.Context, id int64) {
	t, err := c.e.a.trialOf(ctx, *c.task.Frame)
	told := c.e.try(ctx, id, t, err, func(wire.ErrandTold) {})
	if told.Error != "" {
		c.fails(wire.AskFrame, "try it there with: vexillum recipe try --node "+c.e.a.me.Name, "%s", told.Error)
		return
	}
	for _, f := range told.Trial.Frames {
		if !f.Good {
			says := f.Cause
			if line, _, _ := strings.Cut(f.Message, "\n"); line != "" {
				says += ": " + line
			}
			c.fails(
				wire.AskFrame,
				"look at all that it says with: vexillum recipe try --node "+c.e.a.me.Name,
				"%s",
				says,
			)
			return
		}
		c.passes(wire.AskFrame, "%.1f s", f.StartupSeconds+f.RenderSeconds)
	}
}
