package cli

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/demo"
	"vexillum/internal/wire"
)

func (a *app) demoCommand() *cobra.Command {
	var once bool
	var dir, listen string
	c := &cobra.Command{
		Use:   "demo",
		Short: "Start the demo farm of the made-up studio Pellmarsh",
		Long: "Starts a service, ten unlike nodes and a queue on this machine, on loopback alone. One node renders real\n" +
			"POV-Ray frames, the others practise. Ctrl-C ends everything.",
		Args: exactly(0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			return a.runDemo(
				c.Context(), demo.Options{Dir: dir, Listen: listen, Out: a.out, Log: a.logger(slog.LevelWarn)}, once,
			)
		},
	}
	c.Flags().BoolVar(&once, "once", false, "render one short animation, print a summary and exit")
	c.Flags().StringVar(&dir, "dir", demoDir(), "folder of the demo; it is cleared at each start")
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:7420", "address of the service")
	return c
}

func (a *app) runDemo(ctx context.Context, o demo.Options, once bool) error {
	var err error
	if o.Dir, err = filepath.Abs(o.Dir); err != nil {
		return err
	}
	began := time.Now()
	fmt.Fprintln(a.out, "Starting the demo farm of Pellmarsh …")
	farm, err := demo.Start(ctx, o)
	if err != nil {
		return err
	}
	defer func() {
		fmt.Fprintln(a.out, "Stopping …")
		farm.Stop()
	}()
	address := "http://" + o.Listen
	service, err := client.New(address, "")
	if err != nil {
		return err
	}
	if _, err := signIn(
		ctx, service, wire.SignIn{Name: demo.Name, Password: demo.Password, Label: "demo"},
		filepath.Join(o.Dir, "access.json"),
	); err != nil {
		return err
	}
	if once {
		return a.demoOnce(ctx, farm, o, began)
	}
	if err := farm.Fill(ctx); err != nil {
		return err
	}
	speak := "vexillum"
	if path, err := os.Executable(); err == nil {
		if wd, err := os.Getwd(); err == nil {
			if short, err := filepath.Rel(wd, path); err == nil && len(short) < len(path) {
				speak = short
			}
		}
	}
	if o.Dir == demoDir() {
		speak += " --demo"
	} else {
		speak = "VEXILLUM_ACCESS=" + filepath.Join(o.Dir, "access.json") + " " + speak
	}
	fmt.Fprintf(a.out, `
  The farm is up after %s.

  Console   %s
%s
  Try in another terminal:
    %s queue
    %s follow salt_010
    %s show tidal_ceiling

  Frames arrive in %s, and what the farm tells people at %s.
  Ctrl-C ends everything.

`, duration(time.Since(began)), address, signIns(), speak, speak, speak, filepath.Join(o.Dir, "frames"),
		farm.Post())
	select {
	case <-ctx.Done():
		return nil
	case <-farm.Lost():
		return errors.New("the demo's service has ended; its log is " + filepath.Join(o.Dir, "service.log"))
	}
}

// demoOnce renders one short animation and tells about it.
func (a *app) demoOnce(ctx context.Context, farm *demo.Farm, o demo.Options, began time.Time) error {
	run, err := farm.Once(ctx)
	if err != nil {
		return err
	}
	sheet := filepath.Join(o.Dir, "contact-sheet.png")
	if err := saveSheet(ctx, farm.Nadia, run, sheet); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "%s  %s\n", run.Name, state(run.State))
	a.facts(
		"frames", fmt.Sprintf("%d of %d", run.DoneCount, run.FrameCount), "size",
		fmt.Sprintf("%d×%d", run.Width, run.Height), "rendered in", duration(run.EndedAt.Sub(*run.StartedAt)), "in all",
		duration(time.Since(began)), "frames in", filepath.Join(o.Dir, "frames", run.Output), "sheet", sheet,
	)
	return nil
}

// signIns lists who may sign in to the demo.
func signIns() string {
	var out strings.Builder
	fmt.Fprintf(&out, "  Sign in   with the password %s as\n", demo.Password)
	for _, p := range demo.People {
		fmt.Fprintf(&out, "            %-6s %-9s %s\n", p.Name, p.Role, p.Does)
	}
	return out.String()
}
