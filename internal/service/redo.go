package service

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"time"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/plainfile"
	"vexillum/internal/publish"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/queue"
	"vexillum/internal/service/refusal"
	"vexillum/internal/store"
	"vexillum/internal/wire"
)

// Redo renders frames of a run again: those that are named, and those that fit what else is
// said.
func (s *Service) Redo(ctx context.Context, id farm.RunID, in wire.Redo, by farm.Person) (out wire.Redone, err error) {
	f, err := s.Floor()
	if err != nil {
		return out, err
	}
	set, err := s.redone(ctx, f, id, in)
	if err != nil {
		return out, err
	}
	out = wire.Redone{DryRun: in.DryRun, Frames: set.String(), Count: set.Len()}
	if set.Empty() || in.DryRun {
		out.Run, err = f.Views.OneRun(ctx, id, f.People.Access().Sight(by))
		return out, err
	}
	out.Run, err = f.Queue.Redo(ctx, id, set, by)
	return out, err
}

// redone returns the frames of a run that are asked for.
func (s *Service) redone(ctx context.Context, f *floor.Floor, id farm.RunID, in wire.Redo) (set frames.Set, err error) {
	if in.Frames == "" && !in.Suspect && in.Node == "" && !in.Missing {
		return set, refusal.New(
			refusal.Invalid,
			"frames",
			"say which frames: a range, the suspect ones, those of a node, or the missing ones",
		)
	}
	if in.Frames != "" {
		if set, err = frames.Parse(in.Frames); err != nil {
			return set, refusal.New(refusal.Invalid, "frames", "%v", err)
		}
	}
	spec, suspect, err := f.Queue.Suspects(ctx, id)
	if err != nil {
		return set, err
	}
	if in.Suspect {
		set = set.Union(suspect)
	}
	if in.Node == "" && !in.Missing {
		return set, nil
	}
	results, err := s.o.Store.Results(ctx, int64(id), 0)
	if err != nil {
		return set, err
	}
	if in.Node != "" {
		node, err := f.Views.NodeNumber(ctx, in.Node)
		if err != nil {
			return set, err
		}
		var spans []frames.Span
		for _, r := range results {
			if r.Node == int64(node) && r.State == "done" {
				spans = append(spans, frames.Span{First: r.Frame, Last: r.Frame})
			}
		}
		set = set.Union(frames.Of(spans...))
	}
	if in.Missing {
		whole, err := s.whole(ctx, f, spec, results)
		if err != nil {
			return set, err
		}
		set = set.Union(doneOf(results).Minus(whole))
	}
	return set, nil
}

func doneOf(results []store.Result) frames.Set {
	var spans []frames.Span
	for _, r := range results {
		if r.State == "done" {
			spans = append(spans, frames.Span{First: r.Frame, Last: r.Frame})
		}
	}
	return frames.Of(spans...)
}

// How delivered frames are looked at: so many side by side, and for so long. What is left
// then is looked at by its size alone.
const (
	wholeAtOnce = 4
	wholeTime   = 20 * time.Second
)

// whole returns the frames of a run whose files are there and as they were accepted.
func (s *Service) whole(
	ctx context.Context, f *floor.Floor, spec farm.Spec, results []store.Result,
) (frames.Set, error) {
	roots, err := f.Setup.Roots(ctx, spec.Project, runtime.GOOS)
	if err != nil {
		return frames.Set{}, err
	}
	if err := s.framePlaceOf(ctx, spec.Project, roots); err != nil { // all would seem to be missing
		return frames.Set{}, err
	}
	folder := filepath.Join(roots.Frames, filepath.FromSlash(spec.Output))
	until := time.Now().Add(wholeTime)
	good := make([]bool, len(results))
	next := make(chan int)
	var workers sync.WaitGroup
	for range wholeAtOnce {
		workers.Go(func() {
			for i := range next {
				good[i] = ctx.Err() == nil && asAccepted(folder, spec, results[i], time.Now().Before(until))
			}
		})
	}
	for i := range results {
		next <- i
	}
	close(next)
	workers.Wait()
	var spans []frames.Span
	for i, r := range results {
		if good[i] && r.State == "done" {
			spans = append(spans, frames.Span{First: r.Frame, Last: r.Frame})
		}
	}
	return frames.Of(spans...), ctx.Err()
}

// asAccepted reports whether all files of a frame are as they were accepted: by their
// content, or by their size alone.
func asAccepted(folder string, spec farm.Spec, r store.Result, content bool) bool {
	files := []farm.File(r.Files)
	if len(files) == 0 {
		files = []farm.File{{Hash: r.Hash, Bytes: r.Bytes}}
	}
	for _, of := range files {
		name := filepath.Join(folder, filepath.FromSlash(spec.PassFile(of.Pass, r.Frame)))
		if info, err := os.Lstat(name); err != nil || !info.Mode().IsRegular() || info.Size() != of.Bytes {
			return false
		}
		if !content {
			continue
		}
		file, err := plainfile.Open(name)
		if err != nil {
			return false
		}
		hash, err := publish.Hash(file)
		file.Close()
		if err != nil || hash != of.Hash {
			return false
		}
	}
	return true
}

// leaveOut leaves out of a submission what the newest run of its job and kind has, where
// that is asked for.
func (s *Service) leaveOut(ctx context.Context, f *floor.Floor, sub *queue.Submission) (remark string, err error) {
	if !sub.Missing {
		return "", nil
	}
	id, spec, err := f.Queue.NewestRun(ctx, *sub)
	if err != nil || id == 0 {
		return "", err
	}
	results, err := s.o.Store.Results(ctx, int64(id), 0)
	if err != nil {
		return "", err
	}
	whole, err := s.whole(ctx, f, spec, results)
	if err != nil {
		return "", err
	}
	there := sub.Spec.Frames.Intersect(whole)
	if there.Empty() {
		return fmt.Sprintf("None of these frames is in %s and whole, so none is left out.", spec.Name()), nil
	}
	if sub.Spec.Frames = sub.Spec.Frames.Minus(there); sub.Spec.Frames.Empty() {
		return "", refusal.New(
			refusal.Conflict, "missing", "all frames are in %s and whole; there is nothing to render", spec.Name(),
		)
	}
	return fmt.Sprintf(
		"%s in %s and whole, and left out: %s.", english.Plural(there.Len(), "frame is", "frames are"), spec.Name(),
		there.Brief(),
	), nil
}
