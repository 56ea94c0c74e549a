package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/dustin/go-humanize"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"vexillum/internal/account"
	"vexillum/internal/client"
	"vexillum/internal/launcher"
	"vexillum/internal/node"
	"vexillum/internal/practice"
	"vexillum/internal/wire"
)

// mostThreads is more than any machine runs at once.
const mostThreads = 4096

// joining are the flags of join.
type joining struct {
	o                node.Options
	verbose          bool
	staging, keyFile string
	contents         string
	devices          []string
}

func (a *app) joinCommand() *cobra.Command {
	var j joining
	c := &cobra.Command{
		Use:   "join URL [URL...]",
		Short: "Make this machine a node and work for the farm",
		Long: "Enrols this machine with a key (once) and then renders for the farm until it is stopped. It goes on trying\n" +
			"while the service is away. A key is made with: vexillum key new\n\n" +
			"Ctrl-C and SIGTERM end it with all its renderers and give its work back. SIGHUP ends the node process alone, for\n" +
			"a restart: renderers go on, and the next start takes them up. After a crash it is the same.",
		Example: "  vexillum join http://farm.example:7420 --key vxk_…",
		Args:    atLeast(1, "the address of the service, or of each service of the farm"),
		RunE: func(c *cobra.Command, args []string) error {
			service, err := client.New(strings.Join(args, ","), "")
			if err != nil {
				return usageError{err}
			}
			if err := hideArgument("--key", j.o.Key, keyVariable); err != nil {
				return err
			}
			if err := j.read(c.Flags()); err != nil {
				return err
			}
			level := slog.LevelWarn
			if j.verbose {
				level = slog.LevelInfo
			}
			j.o.Client, j.o.Version, j.o.Log = service, Version, a.logger(level)
			j.o.Told = func(line string) { fmt.Fprintln(a.out, line) }
			return join(c.Context(), j.o)
		},
	}
	j.bind(c)
	return c
}

// keyVariable names the environment variable that an enrolment key can be in.
const keyVariable = "VEXILLUM_KEY"

// join runs a node until the context ends. SIGHUP ends the node process alone.
func join(ctx context.Context, o node.Options) error {
	self, err := os.Executable()
	if err != nil {
		return fmt.Errorf("finding this program: %w", err)
	}
	o.Launcher = []string{self, "launcher"}
	hangUp := make(chan os.Signal, 1)
	signal.Notify(hangUp, syscall.SIGHUP)
	defer signal.Stop(hangUp)
	letGo := make(chan struct{})
	go func() {
		select {
		case <-hangUp:
			close(letGo)
		case <-ctx.Done():
		}
	}()
	o.LetGo = letGo
	err = node.Run(ctx, o)
	if errors.Is(err, node.ErrRestart) {
		return startAnew(self)
	}
	return err
}

// read checks the flags and completes the options.
func (j *joining) read(f *pflag.FlagSet) error {
	if speed := f.Lookup("speed"); speed.Changed && !(j.o.Speed >= wire.MinSpeed && j.o.Speed <= wire.MaxSpeed) {
		return usageError{fmt.Errorf(
			"--speed %s: a speed index is between %g and %g", speed.Value, wire.MinSpeed, wire.MaxSpeed,
		)}
	}
	if j.o.Threads < 0 || j.o.Threads > mostThreads {
		return usageError{fmt.Errorf(
			"--threads %d: a renderer may use 1 to %d threads, or 0 for all cores", j.o.Threads, mostThreads,
		)}
	}
	for i, text := range j.devices {
		model, memory, _ := strings.Cut(text, "=")
		n, err := bytesOf(memory)
		if err != nil || model == "" {
			return usageError{fmt.Errorf("--device %q: write it like MODEL=24GiB", text)}
		}
		j.o.Devices = append(j.o.Devices, wire.Device{ID: fmt.Sprintf("told-%d", i), Model: model, Memory: n})
	}
	if j.staging != "" {
		limit, err := humanize.ParseBytes(j.staging)
		if err != nil || limit == 0 || limit > 1<<60 {
			return usageError{fmt.Errorf("--staging-limit %q: write it like 20GiB", j.staging)}
		}
		j.o.Staging = int64(limit)
	}
	var err error
	if j.o.Contents, err = bytesOf(j.contents); err != nil || j.o.Contents < 0 {
		return usageError{fmt.Errorf("--contents-limit %q: write it like 50GiB", j.contents)}
	}
	if j.keyFile != "" {
		key, err := readSecret(j.keyFile)
		if err != nil {
			return fmt.Errorf("reading the key: %w", err)
		}
		j.o.Key = strings.TrimSpace(string(key))
	}
	if j.o.Key == "" {
		j.o.Key = os.Getenv(keyVariable)
		_ = os.Unsetenv(keyVariable)
	}
	j.o.Renamed = f.Changed("name")
	return nil
}

// bind binds the flags.
func (j *joining) bind(c *cobra.Command) {
	host, _ := os.Hostname()
	host, _, _ = strings.Cut(strings.ToLower(host), ".")
	f := c.Flags()
	f.StringVar(
		&j.o.Key, "key", "",
		"enrolment key (or VEXILLUM_KEY); others on this machine see it for a moment: better --key-file",
	)
	f.StringVar(&j.keyFile, "key-file", "", "file with the enrolment key, or - for standard input")
	f.StringVar(&j.o.Name, "name", host, "name of the node")
	f.StringVar(&j.o.Kind, "kind", "rack", "rack (always on the farm) or desk (somebody's machine)")
	f.StringVar(&j.o.Dir, "data", filepath.Join(dataDir(), "node"), "folder for identity and staging")
	f.Float64Var(&j.o.Speed, "speed", 0, "speed index to report instead of measuring it")
	f.StringSliceVar(&j.o.Renderers, "renderers", nil, "recipes to offer (default: all whose renderer is found)")
	f.IntVar(&j.o.Threads, "threads", 0, "threads a renderer may use (default: all cores)")
	f.DurationVar(
		&j.o.Stall, "stall", 0,
		"end a renderer that gives no sign of life for this long (default: as job or recipe says, or as its frames "+
			"are expected to take)",
	)
	f.StringArrayVar(
		&j.devices, "device", nil,
		"a graphics device to report besides those that are found, as MODEL=24GiB; for practice nodes",
	)
	f.StringVar(
		&j.o.RenderAccount, "render-account", "",
		"account that renderers run under, where the node process is root (default: "+account.Usual+
			", which is created if it is missing); never root",
	)
	f.StringArrayVar(
		&j.o.Permits, "permit", nil,
		"allow renderers another account or group of this machine, as account=NAME or group=NAME; what the farm sets is "+
			"refused without it",
	)
	f.StringVar(
		&j.staging, "staging-limit", "",
		"disk that frames may take up until they are delivered, such as 20GiB (default: no limit but what is free)",
	)
	f.StringVar(
		&j.o.Peers, "peers", ":0", "address at which other nodes get pieces of bundles from this one, or none",
	)
	f.StringVar(
		&j.contents, "contents-limit", "50GiB", "disk that files of bundles may take up besides what is rendered",
	)
	f.BoolVar(
		&j.o.Send, "upload", false,
		"send frames to the service even where this machine sees their place (default: only where it does not)",
	)
	f.BoolVarP(&j.verbose, "verbose", "v", false, "log every lease")
}

// launcherCommand is the process that owns renderers, started by nodes.
func (a *app) launcherCommand() *cobra.Command {
	return &cobra.Command{
		Use:    "launcher DIR",
		Short:  "The process that owns a node's renderers, as nodes start it",
		Hidden: true,
		Args:   exactly(1, "the node's folder"),
		RunE: func(c *cobra.Command, args []string) error {
			signal.Ignore(syscall.SIGHUP)
			return launcher.Serve(c.Context(), args[0], a.logger(slog.LevelInfo))
		},
	}
}

// practiceCommand is the practice renderer, started by nodes.
func practiceCommand() *cobra.Command {
	var o practice.Options
	var version bool
	c := &cobra.Command{
		Use:    "practice",
		Short:  "The practice renderer, as nodes start it",
		Hidden: true,
		Args:   exactly(0, "no arguments"),
		RunE: func(_ *cobra.Command, _ []string) error {
			signal.Reset(syscall.SIGINT, syscall.SIGTERM) // a renderer ends when it is told
			if version {
				fmt.Println("practice renderer " + practice.Version)
				return nil
			}
			return practice.Render(o, os.Stdin, os.Stdout)
		},
	}
	f := c.Flags()
	f.StringVar(&o.Scene, "scene", "", "practice scene file")
	f.StringVar(&o.Tile, "tile", "", "left, top, right and bottom of the rectangle to render, in pixels")
	f.StringVar(&o.Camera, "camera", "", "camera of the scene; straight on when left out")
	f.StringVar(&o.Passes, "passes", "", "passes to write beside the picture, with commas between: depth, matte")
	f.StringVar(&o.Staging, "staging", ".", "folder to write pictures into")
	f.IntVar(&o.Width, "width", 480, "pixels")
	f.IntVar(&o.Height, "height", 270, "pixels")
	f.Float64Var(&o.Speed, "speed", 1, "reference seconds of work per second")
	f.StringVar(&o.Node, "node", "", "name of the node")
	f.IntVar(&o.First, "first", 1, "first frame")
	f.IntVar(&o.Last, "last", 1, "last frame")
	f.BoolVar(&o.Feed, "feed", false, "take frames from standard input")
	f.BoolVar(&version, "version", false, "print the version")
	return c
}
