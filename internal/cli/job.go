package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"strings"

	"github.com/dustin/go-humanize/english"
	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/fileschema"
	"vexillum/internal/jobfile"
	"vexillum/internal/wire"
)

// jobCommand writes, checks and submits job files.
func (a *app) jobCommand() *cobra.Command {
	parent := &cobra.Command{Use: "job", Short: "Job files: jobs that are submitted together"}
	parent.AddCommand(a.jobInitCommand(), a.jobCheckCommand(), a.jobSubmitCommand(), a.jobSchemaCommand())
	return parent
}

func (a *app) jobInitCommand() *cobra.Command {
	project, recipe, output := "", "", ""
	c := &cobra.Command{
		Use: "init SCENE", Short: "Write a commented job file from what a scene says",
		Long: "Writes a job file for a scene of the project: how long it is, how large, its cameras and settings, as far as\n" +
			"the scene says so, and behind # what else may be said.",
		Example: "  vexillum job init shots/salt_010.pov --project salt-clock > salt_010.yaml",
		Args:    exactly(1, "the scene, as a path inside the project's scene place"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			query := url.Values{"path": {args[0]}}
			if recipe != "" {
				query.Set("recipe", recipe)
			}
			path := fmt.Sprintf("/api/v1/projects/%s/scene?%s", url.PathEscape(project), query.Encode())
			scene, err := get[wire.Scene](ctx, cl, path)
			if err != nil {
				return err
			}
			text := jobfile.Write(project, scene)
			if output == "" {
				fmt.Fprint(a.out, text)
				return nil
			}
			file, err := os.OpenFile(output, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
			if errors.Is(err, fs.ErrExist) {
				return fmt.Errorf("%s is there already, and nothing is written over; name another file", output)
			}
			if err != nil {
				return fmt.Errorf("writing the job file: %w", err)
			}
			_, err = file.WriteString(text)
			if err := errors.Join(err, file.Close()); err != nil {
				return fmt.Errorf("writing the job file: %w", err)
			}
			fmt.Fprintf(a.out, "%s is written. Submit it with: vexillum job submit %s\n", output, output)
			return nil
		}),
	}
	f := c.Flags()
	f.StringVarP(&project, "project", "p", "", "project (needed)")
	f.StringVar(&recipe, "recipe", "", "recipe (default: by the scene's ending)")
	f.StringVarP(&output, "output", "o", "", "write it into this file (default: print it)")
	_ = c.MarkFlagRequired("project")
	a.completeFlags(c, map[string]lister{"project": projectList, "recipe": recipeList})
	return c
}

func (a *app) jobCheckCommand() *cobra.Command {
	return &cobra.Command{
		Use: "check FILE…", Short: "Say what is wrong with job files, with line and column",
		Long: "Says what is wrong with job files by themselves, and what they come to; needs no service. Whether scenes,\n" +
			"places and presets are there says: vexillum job submit FILE --dry-run",
		Args: atLeast(1, "job files"),
		RunE: func(_ *cobra.Command, args []string) error {
			bad := 0
			for _, name := range args {
				data, err := readInput(name, "a job file")
				if err != nil {
					return err
				}
				fine, err := a.checkJobs(name, data)
				if err != nil {
					return err
				}
				if !fine {
					bad++
				}
			}
			if bad > 0 {
				return outcome{exitFailed}
			}
			return nil
		},
	}
}

// checkJobs says what a job file comes to, or what is wrong with it.
func (a *app) checkJobs(name string, data []byte) (fine bool, err error) {
	file, err := jobfile.Parse(data)
	var mistakes *fileschema.MistakesError
	if errors.As(err, &mistakes) {
		a.tellMistakes(name, mistakes)
		return false, nil
	}
	if err != nil {
		return false, err
	}
	runs, wrong := file.Expand()
	for _, r := range runs {
		var no *jobfile.WrongError
		if _, err := r.Submit(); errors.As(err, &no) {
			path := append([]string{"jobs", fmt.Sprint(r.Entry)}, strings.Split(no.Field, ".")...)
			wrong = append(wrong, fileschema.Wrong{Path: path, What: no.What})
		}
	}
	if len(wrong) > 0 {
		a.tellMistakes(name, fileschema.Placed(data, wrong))
		return false, nil
	}
	fmt.Fprintf(
		a.out, "%s is fine: %s to %s\n", name, english.Plural(len(file.Jobs), "job that comes", "jobs that come"),
		english.Plural(len(runs), "run", ""),
	)
	return true, nil
}

func (a *app) jobSubmitCommand() *cobra.Command {
	var in wire.SubmitJobs
	c := a.jsonFlag(&cobra.Command{
		Use: "submit FILE", Short: "Submit the jobs of a file, all of them or none",
		Example: "  vexillum job submit salt.yaml --dry-run\n  vexillum job submit salt.yaml --proof",
		Args:    exactly(1, "a job file, or - for standard input"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			data, err := readInput(args[0], "a job file")
			if err != nil {
				return err
			}
			in.Text = string(bytes.ReplaceAll(data, []byte("\r\n"), []byte("\n")))
			if fine, err := a.checkJobsQuietly(args[0], []byte(in.Text)); err != nil || !fine {
				return err
			}
			out, err := submitJobs(ctx, cl, in)
			var p *wire.Problem
			if errors.As(err, &p) && len(p.Mistakes) > 0 {
				for _, m := range p.Mistakes {
					where := fmt.Sprintf("%s:%d:%d", args[0], m.Line, m.Column)
					fmt.Fprintf(a.err, "%s: %s: %s\n", where, m.Field, m.What)
				}
				return fmt.Errorf("%s was refused; nothing was submitted", args[0])
			}
			switch {
			case err != nil:
				return err
			case a.json:
				return a.printJSON(out)
			}
			a.tellJobs(out)
			return nil
		}),
	})
	c.Flags().BoolVar(&in.Proof, "proof", false, "of each job its proof: some frames, smaller, as its preset says")
	c.Flags().BoolVar(&in.DryRun, "dry-run", false, "check all, and only show the receipts that would come")
	return c
}

// checkJobsQuietly is checkJobs that says nothing of a file that is fine.
func (a *app) checkJobsQuietly(name string, data []byte) (bool, error) {
	quiet := *a
	quiet.out = new(bytes.Buffer)
	fine, err := quiet.checkJobs(name, data)
	if err == nil && !fine {
		return false, fmt.Errorf("%s has mistakes; nothing was submitted", name)
	}
	return fine, err
}

// submitJobs submits once, however often the line is cut meanwhile.
func submitJobs(ctx context.Context, c *client.Client, in wire.SubmitJobs) (out wire.JobsSubmitted, err error) {
	err = once(ctx, func(ctx context.Context) error { return c.Do(ctx, http.MethodPost, "/api/v1/jobs", in, &out) })
	return out, err
}

// once does what is done once, however often the line is cut meanwhile.
func once(ctx context.Context, do func(context.Context) error) (err error) {
	ctx = client.Repeatable(ctx, uuid.NewString())
	for range 3 {
		call, cancel := context.WithTimeout(ctx, readTimeout)
		err = do(call)
		cancel()
		var unreachable *client.UnreachableError
		if !errors.As(err, &unreachable) {
			break
		}
	}
	return err
}

// tellJobs shows what became of the jobs of a file.
func (a *app) tellJobs(out wire.JobsSubmitted) {
	if len(out.Receipts) == 1 {
		a.receipt(out.Receipts[0])
		return
	}
	t := newTable(a.out, "RUN", "STATE", ">FRAMES", "OUTPUT")
	for _, r := range out.Receipts {
		t.add(r.Name, state(r.State), fmt.Sprint(r.FrameCount), r.Output)
	}
	t.print()
	for _, r := range out.Receipts {
		for _, remark := range r.Remarks {
			if !strings.HasPrefix(remark, "The shot range is ") {
				fmt.Fprintf(a.out, "  %s: %s\n", r.Name, remark)
			}
		}
	}
	were := "are submitted"
	if out.DryRun {
		were = "would be submitted; nothing is yet"
	}
	fmt.Fprintf(
		a.out, "%s with %s %s.\n", english.Plural(len(out.Receipts), "run", ""),
		english.Plural(out.FrameCount, "frame", ""), were,
	)
}

func (a *app) jobSchemaCommand() *cobra.Command {
	preset := false
	c := &cobra.Command{
		Use: "schema", Short: "Print the JSON Schema of job files", Args: exactly(0, "no arguments"),
		RunE: func(*cobra.Command, []string) error {
			text := jobfile.Schema
			if preset {
				text = append(jobfile.PresetSchema(), '\n')
			}
			_, err := a.out.Write(text)
			return err
		},
	}
	c.Flags().BoolVar(&preset, "preset", false, "that of presets")
	return c
}

// finalCommand submits the finals of proofs.
func (a *app) finalCommand() *cobra.Command {
	var in wire.SubmitFinal
	c := a.jsonFlag(&cobra.Command{
		Use: "final PROOF", Short: "Submit the final that a proof was made of",
		Long: "Submits the final of a proof, as it was described when the proof was made of it: nothing of the proof is in\n" +
			"it, so that nothing has to be set back. " + runNames,
		Example: "  vexillum submit shots/salt_010.pov --project salt-clock --proof\n  vexillum final salt_010",
		Args:    exactly(1, "the name of a proof"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			run, err := findRun(ctx, cl, args[0])
			if err != nil {
				return err
			}
			var receipt wire.Receipt
			err = once(ctx, func(ctx context.Context) error {
				return cl.Do(ctx, http.MethodPost, fmt.Sprintf("/api/v1/runs/%d/final", run.ID), in, &receipt)
			})
			switch {
			case err != nil:
				return err
			case a.json:
				return a.printJSON(receipt)
			}
			a.receipt(receipt)
			return nil
		}),
	})
	c.Flags().BoolVar(&in.DryRun, "dry-run", false, "check all, and only show the receipt that would come")
	return c
}
