package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"path"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/core/frames"
	"vexillum/internal/wire"
)

// mostMemory is more than any machine has.
const mostMemory = 64 << 40

func (a *app) submitCommand() *cobra.Command {
	var in wire.Submit
	var dimensions string
	var sets []string
	var follow bool
	var stall time.Duration
	var takes wire.Amounts
	var memory, due, startOn string
	c := a.jsonFlag(&cobra.Command{
		Use:   "submit SCENE",
		Short: "Render the frames of a scene",
		Long: "Puts a run into the queue and answers with a receipt. SCENE is a path inside the project's scene place; the\n" +
			"frames go into a folder of the run's own in its frame place, and never replace a file.",
		Example: "  vexillum submit salt-clock/salt_010.pov --project salt-clock --frames 1-120 --size 1920x1080",
		Args:    exactly(1, "the scene, as a path inside the project's scene place"),
		RunE: func(c *cobra.Command, args []string) error {
			if in.Scene = args[0]; in.Scene == "" {
				return usageError{errors.New("the scene is empty; give it as a path inside the project's scene place")}
			}
			if in.Job == "" {
				in.Job = strings.TrimSuffix(path.Base(in.Scene), path.Ext(in.Scene))
			}
			if _, err := frames.Parse(in.Frames); err != nil {
				return usageError{err}
			}
			if in.Shot != "" {
				if _, err := frames.ParseSpan(in.Shot); err != nil {
					return usageError{err}
				}
			}
			var err error
			if in.Width, in.Height, err = parseSize(dimensions); err != nil {
				return usageError{err}
			}
			if memory != "" {
				if takes.MemoryBytes, err = bytesOf(memory); err != nil {
					return usageError{fmt.Errorf("--memory %q: write it like 4GiB", memory)}
				}
			}
			if takes.Cores < 0 || takes.Devices < 0 || takes.MemoryBytes > mostMemory {
				return usageError{fmt.Errorf(
					"a lease takes 0 cores or more, 0 devices or more, and at most %s of memory", size(mostMemory),
				)}
			}
			if takes != (wire.Amounts{}) {
				in.Takes = &takes
			}
			if in.Due, err = parseDue(due, time.Now()); err != nil {
				return usageError{err}
			}
			if startOn != "" {
				n, err := strconv.Atoi(startOn)
				if startOn != "all" && (err != nil || n < 1) {
					return usageError{fmt.Errorf("--start-on %q: give a number of nodes, or all", startOn)}
				}
				in.StartOn = &n // 0: all
			}
			in.Stall = stall.Seconds()
			in.Values = map[string]string{}
			for _, s := range sets {
				name, value, ok := strings.Cut(s, "=")
				if !ok {
					return usageError{fmt.Errorf("--set %q: write it as name=value", s)}
				}
				in.Values[name] = value
			}
			cl, err := a.client()
			if err != nil {
				return err
			}
			receipt, err := submit(c.Context(), cl, in)
			if err != nil {
				return err
			}
			if a.json && !follow {
				return a.printJSON(receipt)
			}
			if a.json {
				if err := json.NewEncoder(a.out).Encode(receipt); err != nil { // a line, as the changes that follow
					return err
				}
			} else {
				a.receipt(receipt)
			}
			if !follow {
				return nil
			}
			run, err := get[wire.Run](c.Context(), cl, fmt.Sprintf("/api/v1/runs/%d", receipt.Run))
			if err != nil {
				return err
			}
			last, err := a.follow(c.Context(), cl, run)
			if err == nil && last.State != "done" {
				err = outcome{exitFailed}
			}
			return err
		},
	})
	f := c.Flags()
	f.StringVarP(&in.Project, "project", "p", "", "project (needed)")
	f.StringVarP(&in.Frames, "frames", "f", "", "frame range such as 1-180, 1-180/2 or 1,5,9-20 (needed)")
	f.StringVar(
		&in.Shot, "shot", "",
		"all frames of the animation, whatever part is rendered, such as 1-180 (default: as in the job's earlier runs, as a file beside the scene says, or the frames)",
	)
	f.StringVar(&in.Job, "job", "", "name of the job (default: the scene's name)")
	f.StringVar(&in.Kind, "kind", "final", "proof, final or correction")
	f.StringVar(&in.Recipe, "recipe", "", "recipe (default: by the scene's ending)")
	f.StringVar(&dimensions, "size", "1920x1080", "size of the pictures in pixels")
	f.StringVar(&in.Output, "output", "", "folder in the project's frame place (default: the job's name)")
	f.StringArrayVar(&sets, "set", nil, "a setting of the recipe, as name=value")
	f.StringSliceVar(
		&in.Passes, "passes", nil, "passes that the renderer writes beside the picture, such as depth,matte",
	)
	f.StringVar(
		&in.Needs, "needs", "", "what a node must be: an expression over traits, such as 'gpu && memory>=64GiB'",
	)
	f.StringVar(&in.Priority, "priority", "normal", "urgent (wranglers only), high, normal, low or filler")
	f.StringVar(
		&in.Ceiling, "ceiling", "",
		"the most nodes at once: a number, or a percentage of those that could take it, such as 50%",
	)
	f.IntVar(
		&takes.Cores, "cores", 0,
		"cores that a lease takes of a node; others may run beside it (default: as the recipe says, or the whole node)",
	)
	f.StringVar(&memory, "memory", "", "memory that a lease takes of a node, such as 4GiB")
	f.IntVar(&takes.Devices, "devices", 0, "graphics devices that a lease takes of a node")
	f.IntVar(&in.Tries, "tries", 3, "attempts a frame before it is parked")
	f.IntVar(&in.Chunk, "chunk", 0, "frames handed out together (default: the dealer chooses)")
	f.StringVar(&due, "due", "", "when it must be ready: 18:00, 'fri 18:00', '2031-03-04 18:00' or +3h")
	f.StringVar(
		&in.Sequence, "order", "",
		"of frames: forward, reverse, or scouts (a few spread over the range first); default: the dealer chooses",
	)
	f.BoolVar(&in.Wait, "wait", false, "with --order scouts: the rest waits until somebody releases the run")
	f.StringVar(
		&startOn, "start-on", "",
		"nodes that begin until the first frame is verified, or all (default: 3 for a new scene)",
	)
	f.DurationVar(
		&stall, "stall", 0,
		"how long a renderer may give no sign of life, such as 30m (default: as the recipe says, or as its frames are expected to take)",
	)
	f.BoolVar(&in.Held, "held", false, "put it into the queue, but hold it")
	f.BoolVar(&follow, "follow", false, "watch the run until it ends")
	f.BoolVar(&in.DryRun, "dry-run", false, "check all, and only show the receipt that would come")
	c.MarkFlagsMutuallyExclusive("follow", "dry-run")
	_ = c.MarkFlagRequired("project")
	_ = c.MarkFlagRequired("frames")
	a.completeFlags(c, map[string]lister{
		"project": projectList, "recipe": recipeList, "kind": words("proof", "final", "correction"),
		"order":    words("forward", "reverse", "scouts"),
		"priority": words("urgent", "high", "normal", "low", "filler"),
	})
	return c
}

// submit submits once, however often the line is cut meanwhile.
func submit(ctx context.Context, c *client.Client, in wire.Submit) (wire.Receipt, error) {
	ctx = client.Repeatable(ctx, uuid.NewString())
	var receipt wire.Receipt
	var err error
	for range 3 {
		call, cancel := context.WithTimeout(ctx, readTimeout)
		err = c.Do(call, http.MethodPost, "/api/v1/runs", in, &receipt)
		cancel()
		var unreachable *client.UnreachableError
		if !errors.As(err, &unreachable) {
			break
		}
	}
	return receipt, err
}

func (a *app) receipt(r wire.Receipt) {
	number := ""
	if r.DryRun {
		fmt.Fprintf(a.out, "%s  would be %s; nothing is submitted yet\n", r.Name, state(r.State))
	} else {
		fmt.Fprintf(a.out, "%s  %s\n", r.Name, state(r.State))
		number = fmt.Sprintf("#%d", r.Run)
	}
	a.facts(
		"number", number, "frames", fmt.Sprintf("%s (%d)", r.Frames, r.FrameCount), "shot", r.Shot,
		"output", r.Output,
	)
	for _, remark := range append(r.Remarks, r.Sentence) {
		fmt.Fprintf(a.out, "  %s\n", remark)
	}
	if r.DryRun {
		return
	}
	fmt.Fprintf(a.out, "  Watch it with: vexillum follow %s\n", r.Name)
}

// redoCommand renders frames again that are done.
func (a *app) redoCommand() *cobra.Command {
	var in wire.Redo
	c := a.jsonFlag(&cobra.Command{
		Use: "redo RUN --frames 7", Short: "Render done frames again",
		Long: "Renders frames of a run again. The old pictures stay until the new ones are verified; then they are kept in the\n" +
			"folder \"replaced\" beside them.\n\n" + runNames,
		Args: exactly(1, "the name of a run"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			if _, err := frames.Parse(in.Frames); err != nil {
				return usageError{err}
			}
			run, err := findRun(ctx, cl, args[0])
			if err != nil {
				return err
			}
			if err := cl.Do(ctx, http.MethodPost, fmt.Sprintf("/api/v1/runs/%d/redo", run.ID), in, &run); err != nil {
				return err
			}
			if a.json {
				return a.printJSON(run)
			}
			fmt.Fprintf(
				a.out,
				"%s  %s\n  Frames %s are rendered again; the old pictures stay until the new ones are verified.\n",
				run.Name, state(run.State), in.Frames,
			)
			return nil
		}),
	})
	c.Flags().StringVarP(&in.Frames, "frames", "f", "", "frames to render again, such as 7 or 7,9-12 (needed)")
	_ = c.MarkFlagRequired("frames")
	return c
}

func parseSize(text string) (width, height int, err error) {
	w, h, ok := strings.Cut(strings.ReplaceAll(text, "×", "x"), "x")
	width, err1 := strconv.Atoi(w)
	height, err2 := strconv.Atoi(h)
	if !ok || err1 != nil || err2 != nil || width < 1 || height < 1 {
		return 0, 0, fmt.Errorf("--size %q: write it like 1920x1080", text)
	}
	return width, height, nil
}

// inFlight says what becomes of the frames that were being rendered.
func inFlight(what string, now bool, r wire.Run) string {
	n := len(r.Nodes)
	switch {
	case n == 0:
		return ""
	case what == "cancel", what == "hold" && now:
		return fmt.Sprintf(": stopped on %s; frames in flight are lost", strings.Join(r.Nodes, ", "))
	case what == "hold" && n == 1:
		return fmt.Sprintf(": the frame in flight finishes first (%s)", r.Nodes[0])
	case what == "hold":
		return fmt.Sprintf(": %d frames in flight finish first (%s)", n, strings.Join(r.Nodes, ", "))
	}
	return ""
}
