package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"vexillum/internal/client"
	"vexillum/internal/core/frames"
	"vexillum/internal/jobfile"
	"vexillum/internal/wire"
)

// mostMemory is more than any machine has.
const mostMemory = 64 << 40

// submission are the flags of a submit.
type submission struct {
	in         wire.Submit
	dimensions string
	sets       []string

	nodes, without, pools []string

	takes        wire.Amounts
	memory       string
	due, startOn string
	stall        time.Duration
	follow       bool

	scale, proofScale string
	after             []string
	afterFrames       []string

	bundle, incomplete bool
	gather             bundling
}

func (a *app) submitCommand() *cobra.Command {
	var s submission
	c := a.jsonFlag(&cobra.Command{
		Use:   "submit [SCENE]",
		Short: "Render the frames of a scene",
		Long: "Puts a run into the queue and answers with a receipt. SCENE is a path inside the project's scene place; the\n" +
			"frames go into a folder of the run's own in its frame place, and never replace a file. With --bundle,\n" +
			"SCENE is a file on this machine, and all that it needs goes along.",
		Example: "  vexillum submit salt-clock/salt_010.pov --project salt-clock --frames 1-120 --size 1920x1080\n" +
			"  vexillum submit shots/vase.glass --bundle --folder . --project salt-clock --frames 1-48\n" +
			"  vexillum submit --recipe movie --from salt_010 --project salt-clock --set fps=25",
		RunE: func(c *cobra.Command, args []string) error {
			scene, err := s.scene(c, args)
			if err != nil {
				return err
			}
			in, err := s.read(scene)
			if err != nil {
				return err
			}
			if !c.Flags().Changed("bundle") && scene != "" {
				if s.bundle, err = a.bundles(c.Context(), in); err != nil {
					return err
				}
			}
			if s.bundle {
				if err := a.bundleUp(c.Context(), s.gather, &in, s.incomplete); err != nil {
					return err
				}
				return a.submitAndFollow(c.Context(), in, s.follow)
			}
			if in.With, err = s.gather.withNames(); err != nil {
				return err
			}
			for _, of := range []string{"folder", "incomplete"} {
				if c.Flags().Changed(of) {
					return usageError{fmt.Errorf("--%s is about a bundle; add --bundle, or leave it out", of)}
				}
			}
			err = a.submitAndFollow(c.Context(), in, s.follow)
			var p *wire.Problem
			if errors.As(err, &p) && p.Field == "scene" && isLocalScene(in.Scene) == nil {
				return fmt.Errorf("%w; that scene is on this machine: --bundle sends it, with all that it needs", err)
			}
			return err
		},
	})
	s.bind(c)
	a.completeFlags(c, map[string]lister{
		"project": projectList, "recipe": recipeList, "kind": words("proof", "final", "correction"),
		"order":    words("forward", "reverse", "scouts"),
		"priority": words("urgent", "high", "normal", "low", "filler"),
		"nodes":    nodeList, "without": nodeList, "pools": poolList,
	})
	return c
}

// bundles reports whether a scene is to be sent because its project says so.
func (a *app) bundles(ctx context.Context, in wire.Submit) (bool, error) {
	cl, err := a.client()
	if err != nil {
		return false, err
	}
	projects, err := get[[]wire.Project](ctx, cl, "/api/v1/projects")
	if err != nil {
		return false, err
	}
	i := slices.IndexFunc(projects, func(p wire.Project) bool { return p.Name == in.Project && p.Bundles })
	if i < 0 {
		return false, nil
	}
	if err := isLocalScene(in.Scene); err != nil {
		return false, fmt.Errorf(
			"scenes of the project %s are sent with all that they need, and %w; --bundle=false takes one in its place",
			in.Project, err,
		)
	}
	return true, nil
}

// submitAndFollow submits, shows the receipt, and watches the run if that is
// wanted.
func (a *app) submitAndFollow(ctx context.Context, in wire.Submit, follow bool) error {
	cl, err := a.client()
	if err != nil {
		return err
	}
	receipt, err := submit(ctx, cl, in)
	switch {
	case err != nil:
		return err
	case a.json && !follow:
		return a.printJSON(receipt)
	case a.json:
		err = json.NewEncoder(a.out).Encode(receipt) // a line, as the changes that follow
	default:
		a.receipt(receipt)
	}
	if err != nil || !follow {
		return err
	}
	run, err := get[wire.Run](ctx, cl, fmt.Sprintf("/api/v1/runs/%d", receipt.Run))
	if err != nil {
		return err
	}
	last, err := a.follow(ctx, cl, run)
	if err == nil && last.State != "done" {
		err = outcome{exitFailed}
	}
	return err
}

// bind binds the flags.
func (s *submission) bind(c *cobra.Command) {
	f := c.Flags()
	f.StringVarP(&s.in.Project, "project", "p", "", "project (needed)")
	s.bindParts(f)
	s.bindSteps(f)
	f.StringVar(
		&s.in.Shot, "shot", "",
		"all frames of the animation, whatever part is rendered, such as 1-180 (default: as in the job's earlier "+
			"runs, as a file beside the scene says, or the frames)",
	)
	f.StringVar(
		&s.in.Job, "job", "",
		"name of the job (default: the scene's name, after its folder's where another scene has that name)",
	)
	f.StringVar(&s.in.Kind, "kind", "", "proof, final or correction (default: final)")
	f.StringVar(&s.in.Recipe, "recipe", "", "recipe (default: by the scene's ending)")
	f.StringVar(
		&s.dimensions, "size", "", "size of the pictures in pixels (default: as the scene says, else 1920x1080)",
	)
	f.StringVar(&s.in.Output, "output", "", "folder in the project's frame place (default: the job's name)")
	f.StringArrayVar(&s.sets, "set", nil, "a setting of the recipe, as name=value")
	f.StringSliceVar(
		&s.in.Passes, "passes", nil, "passes that the renderer writes beside the picture, such as depth,matte",
	)
	f.StringVar(
		&s.in.Needs, "needs", "", "what a node must be: an expression over traits, such as 'gpu && memory>=64GiB'",
	)
	f.StringSliceVar(&s.nodes, "nodes", nil, "only these nodes")
	f.StringSliceVar(&s.without, "without", nil, "not these nodes")
	f.StringSliceVar(&s.pools, "pools", nil, "only nodes of these pools")
	f.StringVar(
		&s.in.Priority, "priority", "", "urgent (wranglers only), high, normal, low or filler (default: normal)",
	)
	f.StringVar(
		&s.in.Ceiling, "ceiling", "",
		"the most nodes at once: a number, or a percentage of those that could take it, such as 50%",
	)
	f.IntVar(
		&s.takes.Cores, "cores", 0,
		"cores that a lease takes of a node; others may run beside it (default: as the recipe says, or the whole node)",
	)
	f.StringVar(&s.memory, "memory", "", "memory that a lease takes of a node, such as 4GiB")
	f.IntVar(&s.takes.Devices, "devices", 0, "graphics devices that a lease takes of a node")
	f.IntVar(&s.in.Tries, "tries", 0, "attempts a frame before it is parked (default: 3)")
	f.IntVar(
		&s.in.HoldAfter,
		"hold-after",
		0,
		"frames that may fail before the run is held (default: as the farm judges)",
	)
	f.IntVar(&s.in.Chunk, "chunk", 0, "frames handed out together (default: the dealer chooses)")
	f.StringVar(&s.due, "due", "", "when it must be ready: 18:00, 'fri 18:00', '2031-03-04 18:00' or +3h")
	f.StringVar(
		&s.in.Sequence, "order", "",
		"of frames: forward, reverse, or scouts (a few spread over the range first); default: the dealer chooses",
	)
	f.BoolVar(&s.in.Wait, "wait", false, "with --order scouts: the rest waits until somebody releases the run")
	f.StringVar(
		&s.startOn, "start-on", "",
		"nodes that begin until the first frame is verified, or all (default: 3 for a new scene)",
	)
	f.DurationVar(
		&s.stall, "stall", 0,
		"how long a renderer may give no sign of life, such as 30m (default: as the recipe says, or as its frames "+
			"are expected to take)",
	)
	f.IntVar(
		&s.in.Preflight, "preflight", 0, "ask each node first, and submit to those that pass, if at least so many do",
	)
	f.BoolVar(&s.in.Held, "held", false, "put it into the queue, but hold it")
	f.BoolVar(&s.follow, "follow", false, "watch the run until it ends")
	f.BoolVar(&s.in.DryRun, "dry-run", false, "check all, and only show the receipt that would come")
	f.BoolVar(&s.bundle, "bundle", false, "send the scene, which is on this machine, with all that it needs")
	f.BoolVar(&s.incomplete, "incomplete", false, "with --bundle: submit although something is missing")
	s.gather.bind(c)
	c.MarkFlagsMutuallyExclusive("follow", "dry-run")
	_ = c.MarkFlagRequired("project")
}

// bindParts binds the flags for which frames are rendered, and how large.
func (s *submission) bindParts(f *pflag.FlagSet) {
	f.StringVarP(
		&s.in.Frames, "frames", "f", "", "frame range such as 1-180, 1-180/2 or 1,5,9-20 (default: the whole shot)",
	)
	f.BoolVar(
		&s.in.Missing, "missing", false, "leave out frames that the job's newest run of the kind has, there and whole",
	)
	f.IntVar(&s.in.Every, "every", 0, "one frame in so many of these, spread over them")
	f.StringVar(&s.in.Preset, "preset", "", "preset of the project that says what is not said here, or none")
	f.BoolVar(&s.in.Proof, "proof", false, "the proof of what is described: some frames, smaller, as the preset says")
	f.StringVar(
		&s.proofScale,
		"proof-scale",
		"",
		"size of the proof, such as 25% (default: as the preset says, or 50%)",
	)
	f.StringVar(&s.scale, "scale", "", "part of the size, such as 50%")
}

// bindSteps binds the flags for tiles, and for other runs that it has to do with.
func (s *submission) bindSteps(f *pflag.FlagSet) {
	f.StringVar(
		&s.in.Tiles, "tiles", "", "divide a still over nodes: a grid such as 4x3, tiles such as 512x512px, or by-speed",
	)
	f.IntVar(&s.in.Overlap, "overlap", 0, "pixels that tiles are rendered beyond their own")
	f.BoolVar(&s.in.DropTiles, "drop-tiles", false, "remove the tiles once the picture is put together")
	f.BoolVar(
		&s.in.OneByOne, "one-by-one", false,
		"with tiles and several frames: a run of each frame, each waiting for the one before",
	)
	f.StringVar(&s.in.From, "from", "", "run whose frames are read, as for a movie; this one waits for it")
	f.StringArrayVar(&s.after, "after", nil, "a run that has to be done before (may be given several times)")
	f.StringArrayVar(
		&s.afterFrames,
		"after-frames",
		nil,
		"a run of which each frame has to be done before the same frame here begins",
	)
}

// scene returns the scene that a submit names. What reads the frames of another run needs
// none.
func (s *submission) scene(c *cobra.Command, args []string) (string, error) {
	if err := refuseEmpty(c); err != nil {
		return "", err
	}
	if c.Flags().Changed("every") && s.in.Every < 1 {
		return "", usageError{fmt.Errorf("--every %d: one frame in 1 or more of them", s.in.Every)}
	}
	if len(args) == 0 && s.in.From != "" {
		return "", nil
	}
	return strings.Join(args, ""), exactly(
		1, "the scene, as a path inside the project's scene place, or here with --bundle; or --from and a run",
	)(c, args)
}

// refuseEmpty refuses flags that are given and say nothing, as by a variable that is not set:
// what is left out has a meaning of its own.
func refuseEmpty(c *cobra.Command) (err error) {
	empty := func(text string) bool { return strings.TrimSpace(text) == "" }
	c.Flags().Visit(func(f *pflag.Flag) {
		none := f.Value.Type() == "string" && empty(f.Value.String())
		if list, ok := f.Value.(pflag.SliceValue); ok {
			none = len(list.GetSlice()) == 0 || slices.ContainsFunc(list.GetSlice(), empty)
		}
		if err == nil && none {
			err = usageError{fmt.Errorf("--%s is empty; give a value, or leave it out for what its help says", f.Name)}
		}
	})
	return err
}

// receivedFrames says which frames a receipt is for.
func receivedFrames(r wire.Receipt) string {
	if r.Tiles > 0 {
		return fmt.Sprintf("%s, in %s", r.Frames, english.Plural(r.Tiles, "tile", ""))
	}
	return fmt.Sprintf("%s (%d)", r.Frames, r.FrameCount)
}

// described returns what would be submitted, for those who only ask about it.
func (s *submission) described(c *cobra.Command, args []string) (in wire.Submit, err error) {
	scene, err := s.scene(c, args)
	if err != nil {
		return in, err
	}
	if in, err = s.read(scene); err == nil && in.Project == "" {
		err = usageError{errors.New("name the project with --project")}
	}
	return in, err
}

// read returns what the flags ask for. An error is a usageError.
func (s *submission) read(scene string) (in wire.Submit, err error) {
	in = s.in
	in.Needs = jobfile.Needs(in.Needs, s.nodes, s.without, s.pools)
	if in.Scene = scene; in.Scene == "" && in.From == "" {
		return in, usageError{errors.New("the scene is empty; give it as a path inside the project's scene place")}
	}
	if in.Frames != "" {
		if _, err := frames.Parse(in.Frames); err != nil {
			return in, usageError{err}
		}
	}
	for _, part := range []struct {
		text string
		to   *float64
	}{{s.scale, &in.Scale}, {s.proofScale, &in.ProofScale}} {
		if part.text == "" {
			continue
		}
		if *part.to, err = jobfile.ParseScale(part.text); err != nil {
			return in, usageError{err}
		}
	}
	if in.Shot != "" {
		if _, err := frames.ParseSpan(in.Shot); err != nil {
			return in, usageError{err}
		}
	}
	if s.dimensions != "" {
		if in.Width, in.Height, err = jobfile.ParseSize(s.dimensions); err != nil {
			return in, usageError{fmt.Errorf("--size: %w", err)}
		}
	}
	if s.memory != "" {
		if s.takes.MemoryBytes, err = bytesOf(s.memory); err != nil {
			return in, usageError{fmt.Errorf("--memory %q: write it like 4GiB", s.memory)}
		}
	}
	if s.takes.Cores < 0 || s.takes.Devices < 0 || s.takes.MemoryBytes > mostMemory {
		return in, usageError{fmt.Errorf(
			"a lease takes 0 cores or more, 0 devices or more, and at most %s of memory", size(mostMemory),
		)}
	}
	if s.takes != (wire.Amounts{}) {
		takes := s.takes
		in.Takes = &takes
	}
	if in.Due, err = parseDue(s.due, time.Now()); err != nil {
		return in, usageError{err}
	}
	if s.startOn != "" {
		n, err := strconv.Atoi(s.startOn)
		if s.startOn != "all" && (err != nil || n < 1) {
			return in, usageError{fmt.Errorf("--start-on %q: give a number of nodes, or all", s.startOn)}
		}
		in.StartOn = &n // 0: all
	}
	for _, name := range s.after {
		in.After = append(in.After, wire.SubmitAfter{Run: name})
	}
	for _, name := range s.afterFrames {
		in.After = append(in.After, wire.SubmitAfter{Run: name, Frames: true})
	}
	in.Stall = s.stall.Seconds()
	in.Values = map[string]string{}
	for _, text := range s.sets {
		name, value, ok := strings.Cut(text, "=")
		if !ok {
			return in, usageError{fmt.Errorf("--set %q: write it as name=value", text)}
		}
		in.Values[name] = value
	}
	return in, nil
}

// submit submits once, however often the line is cut meanwhile.
func submit(ctx context.Context, c *client.Client, in wire.Submit) (wire.Receipt, error) {
	var receipt wire.Receipt
	err := once(ctx, func(ctx context.Context) error {
		return c.Do(ctx, http.MethodPost, "/api/v1/runs", in, &receipt)
	})
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
		"number", number, "frames", receivedFrames(r), "shot", r.Shot,
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

// inFlight says what becomes of the frames of a run that are in flight.
func inFlight(what string, now bool, r wire.Run) string {
	frames, on := english.Plural(r.InFlight, "frame", ""), strings.Join(r.Nodes, ", ")
	finish := "finish"
	if r.InFlight == 1 {
		finish = "finishes"
	}
	switch {
	case len(r.Nodes) == 0, what != "cancel" && what != "hold":
		return ""
	case what == "cancel" || now:
		return fmt.Sprintf(": stopped on %s; %s in flight thrown away", on, frames)
	}
	return fmt.Sprintf(": %s in flight %s first (%s)", frames, finish, on)
}
