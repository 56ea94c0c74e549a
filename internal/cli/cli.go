// Package cli is the command line: one file a family of commands. It asks the
// service through internal/client and prints; it decides nothing.
package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"vexillum/internal/client"
	"vexillum/internal/node"
	"vexillum/internal/wire"
)

// Version is this program's version.
const Version = "0.1.0"

// Exit codes.
const (
	exitFailed      = 1 // refused, or the thing asked about has failed
	exitUsage       = 2
	exitUnreachable = 3
	exitNotAllowed  = 4
	exitStopped     = 130 // as shells have it for Ctrl-C
)

// loadingPatience is the time for which commands wait for a service that is loading its records.
const loadingPatience = 30 * time.Second

// flagMistake says what a flag wants, without the names of the functions that read it.
func flagMistake(e *pflag.InvalidValueError) error {
	want := map[string]string{
		"int": "a whole number", "int64": "a whole number", "float64": "a number", "bool": "true or false",
		"duration": "a time such as 90s, 30m or 2h",
	}[e.GetFlag().Value.Type()]
	if want == "" {
		return e
	}
	return fmt.Errorf("--%s %q: it takes %s", e.GetFlag().Name, e.GetValue(), want)
}

// exitCodes is what help says about them.
const exitCodes = `The exit codes of commands, for scripts:

    0    done
    1    refused, or what was asked about has failed: a run with gaps, for follow and fetch
    2    a mistake in how the command was written
    3    no service answers there, it is still loading, or something else answers
    4    not signed in, or not allowed
  130    stopped by Ctrl-C; the farm goes on`

// app is one call of the program.
type app struct {
	out, err io.Writer
	service  string
	token    string
	demo     bool
	json     bool
	asIs     bool // what is written is not ours: nothing in it is put otherwise
	// withInput says that the program ends when its standard input does: whoever started it is
	// gone then, however that came.
	withInput bool
}

// tokenElsewhere says that the token at hand is not for this service.
type tokenElsewhere struct{ error }

// outcome is an error that only sets the exit code; all is said already.
type outcome struct{ code int }

func (o outcome) Error() string { return fmt.Sprintf("exit code %d", o.code) }

// usageError is a mistake in how the program was called.
type usageError struct{ error }

// Main runs the program and returns its exit code.
func Main(args []string) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &app{err: screen{to: os.Stderr}}
	var lost error // of what is written
	a.out = screen{to: os.Stdout, asIs: func() bool { return a.json || a.asIs }, lost: &lost}
	ctx, end := context.WithCancel(ctx)
	defer end()
	root := a.root()
	root.PersistentPreRunE = func(c *cobra.Command, _ []string) error {
		if a.withInput {
			go func() {
				_, _ = io.Copy(io.Discard, os.Stdin)
				end()
			}()
		}
		return priorityFlag(c)
	}
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	if lost != nil && (err == nil || errors.As(err, new(outcome))) {
		err = fmt.Errorf("writing what was asked for: %w; it is not complete", lost)
	}
	if err == nil {
		return 0
	}
	var o outcome
	if errors.As(err, &o) {
		return o.code
	}
	if ctx.Err() != nil && errors.Is(err, context.Canceled) {
		err = errStopped
	}
	err = unknownCommand(root, args, err)
	if missing, found := strings.CutPrefix(err.Error(), "required flag(s) "); found { // as cobra says it
		missing = strings.ReplaceAll(
			strings.ReplaceAll(strings.TrimSuffix(missing, " not set"), `", "`, " and --"),
			`"`,
			"",
		)
		err = usageError{fmt.Errorf("--%s must be given; see --help", missing)}
	}
	fmt.Fprintln(a.err, "vexillum: "+strings.TrimSuffix(err.Error(), "\n"))
	return exitCode(err)
}

// errStopped says that the person who called had enough.
var errStopped = errors.New("stopped; the farm goes on")

func exitCode(err error) int {
	var usage usageError
	var unreachable *client.UnreachableError
	var p *wire.Problem
	switch {
	case errors.Is(err, errStopped), errors.Is(err, errDrillStopped):
		return exitStopped
	case errors.As(err, &usage), strings.HasPrefix(err.Error(), "unknown command"):
		return exitUsage
	case errors.As(err, &unreachable), errors.Is(err, client.ErrNotVexillum):
		return exitUnreachable
	case errors.As(err, &p) && p.Status == http.StatusServiceUnavailable:
		return exitUnreachable
	case errors.As(err, &p) && (p.Status == http.StatusUnauthorized || p.Status == http.StatusForbidden):
		return exitNotAllowed
	case errors.As(err, new(tokenElsewhere)), errors.Is(err, errNotSignedIn), errors.Is(err, node.ErrNotEnrolled):
		return exitNotAllowed
	}
	return exitFailed
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "vexillum",
		Short: "Run a studio's own render farm",
		Long: "Vexillum runs a studio's own render farm: the service, the node process on each " +
			"machine, and this command line.",
		Version:            Version,
		DisableSuggestions: true, // errors are one sentence
		SilenceErrors:      true,
		SilenceUsage:       true,
	}
	root.SetOut(a.out)
	root.SetErr(a.err)
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		var value *pflag.InvalidValueError
		if errors.As(err, &value) {
			err = flagMistake(value)
		}
		return usageError{
			fmt.Errorf("%w; see vexillum %s --help", err, strings.TrimPrefix(c.CommandPath(), "vexillum ")),
		}
	})
	flags := root.PersistentFlags()
	flags.StringVar(
		&a.service, "service", "", "address of the service, or of several, with commas (or VEXILLUM_SERVICE)",
	)
	flags.StringVar(&a.token, "token", "", "access token (or VEXILLUM_TOKEN)")
	flags.BoolVar(&a.demo, "demo", false, "speak to the demo farm on this machine")
	flags.BoolVar(&a.withInput, "with-input", false, "end when standard input ends")
	_ = flags.MarkHidden("with-input")
	a.addCommands(root)
	root.AddCommand(practiceCommand(), a.movieCommand(), a.launcherCommand(), a.crowdCommand())
	root.AddCommand(&cobra.Command{Use: "exit-codes", Short: "Exit codes of commands", Long: exitCodes})
	root.SetHelpCommand(helpCommand(root))
	for _, c := range root.Commands() {
		knownOnly(c)
		strictUsage(c)
	}
	a.completeAll(root, arguments())
	return root
}

// addCommands adds the commands of people, by what they are for.
func (a *app) addCommands(root *cobra.Command) {
	groups := []*cobra.Group{
		{ID: "watch", Title: "Watch:"}, {ID: "work", Title: "Work:"}, {ID: "setup", Title: "Set up:"},
		{ID: "run", Title: "Run:"},
	}
	root.AddGroup(groups...)
	add := func(group string, commands ...*cobra.Command) {
		for _, c := range commands {
			c.GroupID = group
			root.AddCommand(c)
		}
	}
	add(
		"watch",
		a.queueCommand(),
		a.nodesCommand(),
		a.showCommand(),
		a.whyCommand(),
		a.troubleCommand(),
		a.handsCommand(),
		a.nightCommand(),
		a.noticesCommand(),
		a.onCallCommand(),
		a.diffCommand(),
		a.logCommand(),
		a.followCommand(),
		a.sheetCommand(),
		a.fetchCommand(),
	)
	add(
		"work",
		a.submitCommand(),
		a.preflightCommand(),
		a.estimateCommand(),
		a.finalCommand(),
		a.jobCommand(),
		a.bundleCommand(),
		a.steerCommand("hold"),
		a.steerCommand("release"),
		a.steerCommand("cancel"),
		a.steerCommand("retry"),
		a.redoCommand(), a.mendedCommand(),
		a.parkCommand(),
		a.skipCommand(),
		a.acceptCommand(),
		a.tryFrameCommand(),
		a.changeCommand(),
		a.drillCommand(),
	)
	add(
		"setup", a.signInCommand(), a.keyCommand(), a.poolCommand(), a.projectCommand(), a.placeCommand(),
		a.licenceCommand(), a.personCommand(), a.tokenCommand(), a.launchCommand(), a.recipeCommand(),
		a.presetCommand(), a.rateCommand(), a.auditCommand(),
	)
	add(
		"run", a.serveCommand(), a.joinCommand(), a.demoCommand(), a.backupCommand(), a.restoreCommand(),
		a.execCommand(),
	)
}

// knownOnly lets a command that only has others below it refuse what it does not
// know, rather than print its help as if all were well.
func knownOnly(c *cobra.Command) {
	var names []string
	for _, below := range c.Commands() {
		knownOnly(below)
		if !below.Hidden {
			names = append(names, below.Name())
		}
	}
	if c.Runnable() || len(names) == 0 {
		return
	}
	c.DisableFlagsInUseLine = true
	c.RunE = func(c *cobra.Command, args []string) error {
		if len(args) == 0 {
			return c.Help()
		}
		return usageError{
			fmt.Errorf(
				"%s has no command %q%s", c.CommandPath(), args[0],
				cmp.Or(nearest(c, args[0]), "; it has "+strings.Join(names, ", ")),
			),
		}
	}
}

// exactly refuses any other number of arguments, in words.
func exactly(n int, what string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) != n {
			return usageError{fmt.Errorf("%s needs %s; see %s --help", c.CommandPath(), what, c.CommandPath())}
		}
		return nil
	}
}

func atLeast(n int, what string) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		if len(args) < n {
			return usageError{fmt.Errorf("%s needs %s; see %s --help", c.CommandPath(), what, c.CommandPath())}
		}
		return nil
	}
}

// access is what sign-in keeps for later calls.
type access struct {
	Service string `json:"service"`
	Name    string `json:"name"`
	Token   string `json:"token"`
}

var errNotSignedIn = errors.New(
	"no service is known yet; sign in first: vexillum sign-in http://ADDRESS:7420 --name YOU",
)

// accessFile returns where sign-in keeps its token.
func (a *app) accessFile() (string, error) {
	if a.demo {
		return filepath.Join(demoDir(), "access.json"), nil
	}
	if path := os.Getenv("VEXILLUM_ACCESS"); path != "" {
		return path, nil
	}
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("finding where the token is kept: %w", err)
	}
	return filepath.Join(dir, "vexillum", "access.json"), nil
}

// client returns a client with the token that flags, environment or an
// earlier sign-in give.
func (a *app) client() (*client.Client, error) {
	known := access{Service: os.Getenv("VEXILLUM_SERVICE"), Token: os.Getenv("VEXILLUM_TOKEN")}
	if known.Service == "" || known.Token == "" || a.demo {
		path, err := a.accessFile()
		if err != nil {
			return nil, err
		}
		if data, err := os.ReadFile(path); err == nil {
			var kept access
			if err := json.Unmarshal(data, &kept); err != nil {
				return nil, fmt.Errorf("reading %s: %w; sign in again", path, err)
			}
			if known.Service == "" || a.demo {
				known = kept
			}
		} else if a.demo {
			return nil, errors.New("no demo farm is running on this machine; start it with: vexillum demo")
		}
	}
	if a.service != "" {
		if own := a.token != "" ||
			os.Getenv("VEXILLUM_TOKEN") != ""; !own && known.Token != "" &&
			!among(a.service, known.Service) {
			return nil, tokenElsewhere{
				fmt.Errorf(
					"you are signed in to %s, and its token goes nowhere else; sign in first: vexillum sign-in "+
						"%s --name YOU",
					known.Service, a.service,
				),
			}
		}
		known.Service = a.service
	}
	if a.token != "" {
		known.Token = a.token
	}
	if known.Service == "" {
		return nil, errNotSignedIn
	}
	cl, err := client.New(known.Service, known.Token)
	if err != nil {
		return nil, err
	}
	return cl.Patient(loadingPatience), nil
}

// among reports whether all of some addresses are those that a token was given
// for.
func among(addresses, given string) bool {
	tidy := func(text string) string {
		text = strings.TrimRight(strings.ToLower(strings.TrimSpace(text)), "/")
		if !strings.Contains(text, "://") {
			text = "http://" + text
		}
		return text
	}
	known := map[string]bool{}
	for address := range strings.SplitSeq(given, ",") {
		known[tidy(address)] = true
	}
	for address := range strings.SplitSeq(addresses, ",") {
		if !known[tidy(address)] {
			return false
		}
	}
	return true
}

// asking makes the body of a command that asks the service.
func (a *app) asking(
	do func(ctx context.Context, cl *client.Client, args []string) error,
) func(*cobra.Command, []string) error {
	return func(c *cobra.Command, args []string) error {
		cl, err := a.client()
		if err != nil {
			return err
		}
		return do(c.Context(), cl, args)
	}
}

// printJSON prints a value for programs.
func (a *app) printJSON(v any) error {
	e := json.NewEncoder(a.out)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

func (a *app) jsonFlag(c *cobra.Command) *cobra.Command {
	c.Flags().BoolVar(&a.json, "json", false, "print JSON")
	return c
}

func (a *app) logger(level slog.Level) *slog.Logger {
	return slog.New(slog.NewTextHandler(a.err, &slog.HandlerOptions{Level: level}))
}

// dataDir returns where the service or a node keeps its files by default.
func dataDir() string {
	if os.Geteuid() == 0 {
		return "/var/lib/vexillum"
	}
	if home, err := os.UserHomeDir(); err == nil {
		return filepath.Join(home, ".local", "share", "vexillum")
	}
	return "vexillum-data"
}

func demoDir() string { return filepath.Join(dataDir(), "demo") }
