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
	"strings"
	"time"

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

// fetchAgain is how long to wait before looking for more frames.
const fetchAgain = time.Second

// fetch brings frames until the run has ended.
func (a *app) fetch(ctx context.Context, cl *client.Client, run wire.Run, to string, once bool) error {
	if err := os.MkdirAll(to, 0o755); err != nil {
		return fmt.Errorf("making the folder: %w", err)
	}
	here := map[int]bool{}
	lost := map[int]string{} // frames that cannot be had, and why
	brought, kept := 0, 0
	var bytes int64
	began := time.Now()
	for {
		var results []wire.Result
		err := cl.Do(ctx, http.MethodGet, fmt.Sprintf("/api/v1/runs/%d/results", run.ID), nil, &results)
		for _, r := range results {
			if err != nil {
				break
			}
			if r.State != "done" || here[r.Frame] {
				continue
			}
			var fresh bool
			if fresh, err = bringFrame(ctx, cl, run.ID, r, to); err != nil {
				if !isLost(err) {
					break
				}
				if _, told := lost[r.Frame]; !told {
					fmt.Fprintf(a.err, "frame %d  lost: %v\n", r.Frame, err)
				}
				lost[r.Frame], err = err.Error(), nil // the others may be there
				continue
			}
			delete(lost, r.Frame)
			here[r.Frame] = true
			if fresh {
				brought++
				bytes += r.Bytes
				fmt.Fprintf(a.out, "frame %d  %s  %.12s\n", r.Frame, size(r.Bytes), r.Hash)
			} else {
				kept++
			}
		}
		if err == nil {
			ended := run.EndedAt != nil
			if ended || once {
				break
			}
			err = cl.Do(ctx, http.MethodGet, fmt.Sprintf("/api/v1/runs/%d", run.ID), nil, &run)
			if err == nil && run.EndedAt != nil {
				continue // once more: what was done last
			}
		}
		var away *client.UnreachableError
		var p *wire.Problem
		if err != nil && !errors.As(err, &away) && !(errors.As(err, &p) && p.Status >= http.StatusInternalServerError) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(fetchAgain):
		}
	}
	fmt.Fprintf(a.out, "%s  %s: %s\n", run.Name, state(run.State), run.Why)
	a.facts(
		"copied", fmt.Sprintf("%d frames, %s in %s", brought, size(bytes), duration(time.Since(began))), "here before",
		fmt.Sprint(kept), "in", to,
	)
	if len(lost) == 0 {
		return nil
	}
	var spans []frames.Span
	for f := range lost {
		spans = append(spans, frames.Span{First: f, Last: f})
	}
	set := frames.Of(spans...)
	fmt.Fprintf(
		a.err, "%s cannot be fetched: %s. Render what is lost again with: vexillum redo %s --frames %s\n",
		map[bool]string{true: "1 frame", false: fmt.Sprintf("%d frames", set.Len())}[set.Len() == 1], set.Brief(),
		run.Name, set.String(),
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
