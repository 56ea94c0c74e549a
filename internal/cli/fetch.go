package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"

	"vexillum/internal/client"
	"vexillum/internal/core/frames"
	"vexillum/internal/publish"
	"vexillum/internal/wire"
)

func (a *app) fetchCommand() *cobra.Command {
	var to string
	var once bool
	c := &cobra.Command{
		Use:   "fetch RUN",
		Short: "Copy the frames of a run here as they finish",
		Long: "Copies the done frames of a run into a folder, each checked by its hash, and goes on until the run has ended.\n" +
			"Frames that are already here are not fetched again; a file that is not one of them is never replaced.",
		Example: "  vexillum fetch salt_010 --to ~/salt_010",
		Args:    exactly(1, "a run: its number or its name"),
		RunE: a.asking(func(ctx context.Context, cl *client.Client, args []string) error {
			run, err := findRun(ctx, cl, args[0])
			if err != nil {
				return err
			}
			if to == "" {
				to = filepath.Base(filepath.Dir(run.Output)) + "-" + filepath.Base(run.Output)
			}
			return a.fetch(ctx, cl, run, to, once)
		}),
	}
	c.Flags().StringVar(&to, "to", "", "folder to copy frames to (default: one named after the run, here)")
	c.Flags().BoolVar(&once, "once", false, "copy what is done now, and end")
	return c
}

// fetching brings the frames of a run here.
type fetching struct {
	a     *app
	cl    *client.Client
	run   wire.Run
	to    string
	after int64 // results up to this sequence number are known

	here          map[int]bool
	lost          map[int]string // frames that cannot be had, and why
	brought, kept int
	bytes         int64
}

// fetchAgain is how long to wait for a service that is away.
const fetchAgain = time.Second

// fetch brings frames until the run has ended, as the service tells of them; or
// once those that are done.
func (a *app) fetch(ctx context.Context, cl *client.Client, run wire.Run, to string, once bool) error {
	if err := os.MkdirAll(to, 0o755); err != nil {
		return fmt.Errorf("making the folder: %w", err)
	}
	f := &fetching{a: a, cl: cl, run: run, to: to, here: map[int]bool{}, lost: map[int]string{}}
	began := time.Now()
	err := f.bring(ctx)
	if err == nil && !once && run.EndedAt == nil {
		err = cl.Events(ctx, 0, f.hear(ctx), nil)
	}
	if err == nil && len(f.lost) > 0 { // a last try: what was lost may be there again
		f.after = 0
		err = f.bring(ctx)
	}
	if err != nil && !errors.Is(err, errEnded) {
		return err
	}
	fmt.Fprintf(a.out, "%s  %s: %s\n", f.run.Name, state(f.run.State), f.run.Why)
	a.facts(
		"copied", fmt.Sprintf("%s, %s in %s", english.Plural(f.brought, "frame", ""), size(f.bytes), duration(time.Since(began))),
		"here before", fmt.Sprint(f.kept), "in", to, "suspect", f.run.Sets.Suspect,
	)
	return f.outcome()
}

// hear returns what is done with events: frames that are done are brought, until
// the run has ended.
func (f *fetching) hear(ctx context.Context) func(*client.Farm, client.Event) error {
	return func(farm *client.Farm, e client.Event) error {
		if slices.Contains(e.Runs, f.run.ID) {
			f.run = farm.Runs[f.run.ID]
		}
		if e.Name == wire.EventRunAdded { // the line is new: the run may have ended meanwhile
			if err := f.look(ctx); err != nil {
				return err
			}
		}
		mine := func(told wire.FrameEvent) bool { return told.Run == f.run.ID }
		done := e.Name == wire.EventFrameDone && slices.ContainsFunc(e.Frames, mine)
		if !done && f.run.EndedAt == nil && e.Name != wire.EventRunAdded {
			return nil
		}
		if err := f.bring(ctx); err != nil {
			return err
		}
		if f.run.EndedAt != nil {
			return errEnded
		}
		return nil
	}
}

// look reads the run again.
func (f *fetching) look(ctx context.Context) error {
	for {
		run, err := get[wire.Run](ctx, f.cl, fmt.Sprintf("/api/v1/runs/%d", f.run.ID))
		if err == nil {
			f.run = run
			return nil
		}
		if err := orLater(ctx, err); err != nil {
			return err
		}
	}
}

// bring brings the frames that are done and not here, and waits for a service
// that is away.
func (f *fetching) bring(ctx context.Context) error {
	for {
		err := f.bringDone(ctx)
		if err == nil {
			return nil
		}
		if err := orLater(ctx, err); err != nil {
			return err
		}
	}
}

// orLater waits a while and returns nil if an error says that the service is away;
// it returns any other.
func orLater(ctx context.Context, err error) error {
	var away *client.UnreachableError
	var p *wire.Problem
	if !errors.As(err, &away) && !(errors.As(err, &p) && p.Status >= http.StatusInternalServerError) {
		return err
	}
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(fetchAgain):
		return nil
	}
}

func (f *fetching) bringDone(ctx context.Context) error {
	path := fmt.Sprintf("/api/v1/runs/%d/results?after=%d", f.run.ID, f.after)
	results, err := get[[]wire.Result](ctx, f.cl, path)
	if err != nil {
		return err
	}
	after := f.after
	for _, r := range results {
		after = max(after, r.Seq)
		if r.State != "done" || f.here[r.Frame] {
			continue
		}
		fresh, err := bringFrame(ctx, f.cl, f.run.ID, r, f.to)
		if isLost(err) { // the others may be there
			if _, told := f.lost[r.Frame]; !told {
				fmt.Fprintf(f.a.err, "frame %d  lost: %v\n", r.Frame, err)
			}
			f.lost[r.Frame] = err.Error()
			continue
		}
		if err != nil {
			return err
		}
		delete(f.lost, r.Frame)
		f.here[r.Frame] = true
		if !fresh {
			f.kept++
			continue
		}
		f.brought++
		f.bytes += r.Bytes
		fmt.Fprintf(f.a.out, "frame %d  %s  %.12s\n", r.Frame, size(r.Bytes), r.Hash)
	}
	f.after = after
	return nil
}

// outcome says which frames could not be had, if there are any.
func (f *fetching) outcome() error {
	if len(f.lost) == 0 {
		return nil
	}
	var spans []frames.Span
	for frame := range f.lost {
		spans = append(spans, frames.Span{First: frame, Last: frame})
	}
	set := frames.Of(spans...)
	fmt.Fprintf(
		f.a.err, "%s cannot be fetched: %s. Render what is lost again with: vexillum redo %s --frames %s\n",
		english.Plural(set.Len(), "frame", ""), set.Brief(), f.run.Name, set.String(),
	)
	return outcome{exitFailed}
}

// errAltered says that what came is not the frame that was done.
var errAltered = errors.New("the file in the frame place was changed, or the line is bad; nothing was kept")

// isLost reports whether a frame cannot be had although the service answers: its
// file is gone, or is not what it was.
func isLost(err error) bool {
	var p *wire.Problem
	return errors.Is(err, errAltered) || errors.As(err, &p) && p.Status == http.StatusNotFound
}

// bringFrame fetches the files of one frame that are not here. It reports
// whether any was fetched.
func bringFrame(ctx context.Context, cl *client.Client, run int64, r wire.Result, to string) (fresh bool, err error) {
	for _, o := range r.Files {
		got, err := bringFile(ctx, cl, run, r.Frame, o, to)
		if err != nil {
			return false, err
		}
		fresh = fresh || got
	}
	return fresh, nil
}

func bringFile(
	ctx context.Context, cl *client.Client, run int64, frame int, o wire.Output, to string,
) (fresh bool, err error) {
	if inside := filepath.FromSlash(
		o.File,
	); !filepath.IsLocal(inside) || strings.HasPrefix(filepath.Base(inside), ".") ||
		strings.Count(o.File, "/") > 1 {
		return false, fmt.Errorf("the service calls a file of frame %d %q, which is not a file name", frame, o.File)
	}
	name := filepath.Join(to, filepath.FromSlash(o.File))
	if have, err := hashFile(name); err == nil {
		if have == o.Hash {
			return false, nil
		}
		return false, fmt.Errorf(
			"%s is here and is not the frame (%.12s, not %.12s); move it away or choose another folder with --to", name,
			have, o.Hash,
		)
	} else if !errors.Is(err, fs.ErrNotExist) {
		return false, err
	}
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return false, fmt.Errorf("making the folder of a pass: %w", err)
	}
	part, err := os.CreateTemp(to, ".fetch-*.part")
	if err != nil {
		return false, fmt.Errorf("writing frame %d: %w", frame, err)
	}
	defer os.Remove(part.Name())
	sum := sha256.New()
	err = cl.Fetch(
		ctx, fmt.Sprintf("/api/v1/runs/%d/frames/%d/picture?pass=%s", run, frame, url.QueryEscape(o.Pass)),
		io.MultiWriter(part, sum),
	)
	if err == nil {
		err = part.Sync()
	}
	if closing := part.Close(); err == nil {
		err = closing
	}
	if err != nil {
		return false, fmt.Errorf("fetching frame %d: %w", frame, err)
	}
	if got := hex.EncodeToString(sum.Sum(nil)); got != o.Hash {
		return false, fmt.Errorf(
			"frame %d came with the wrong hash (%.12s, not %.12s): %w", frame, got, o.Hash, errAltered,
		)
	}
	if err := os.Chmod(part.Name(), 0o644); err != nil {
		return false, fmt.Errorf("writing frame %d: %w", frame, err)
	}
	if err := os.Link(part.Name(), name); err != nil {
		return false, fmt.Errorf("putting frame %d into place: %w", frame, err)
	}
	return true, nil
}

func hashFile(name string) (string, error) {
	file, err := os.Open(name)
	if err != nil {
		return "", err
	}
	defer file.Close()
	return publish.Hash(file)
}
