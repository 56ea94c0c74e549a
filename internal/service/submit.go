package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/paths"
	"vexillum/internal/plainfile"
	"vexillum/internal/publish"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/queue"
	"vexillum/internal/service/refusal"
)

// Submitted is what a submit gives.
type Submitted struct {
	queue.Submitted
	Output string   // whole path of the output folder here
	Passed []string // folders that would have been its own, and hold files already
	// Remarks are what was seen of the scene that who submits should know, in sentences.
	Remarks []string
}

// Submit checks a submission whole, scene and places included, and only then
// puts it into the queue.
func (s *Service) Submit(ctx context.Context, sub queue.Submission) (Submitted, error) {
	all, err := s.SubmitAll(ctx, []queue.Submission{sub})
	if err != nil {
		var in *queue.BatchError
		if errors.As(err, &in) {
			err = in.Err
		}
		return Submitted{}, err
	}
	return all[0], nil
}

// SubmitAll checks submissions whole, scenes and places included, and puts them into the
// queue, all of them or none. The error is a *[queue.BatchError] where one of them is to
// blame.
func (s *Service) SubmitAll(ctx context.Context, subs []queue.Submission) ([]Submitted, error) {
	f, err := s.Floor()
	if err != nil {
		return nil, err
	}
	if before, known, err := f.Queue.Submitted(ctx, subs); err != nil {
		return nil, err
	} else if known { // even if the scenes are gone by now
		out := make([]Submitted, 0, len(before))
		for _, done := range before {
			roots, err := f.Setup.Roots(ctx, done.Run.Project, runtime.GOOS)
			if err != nil {
				return nil, err
			}
			out = append(out, Submitted{done, paths.Spell(runtime.GOOS, roots.Frames, done.Run.Output), nil, nil})
		}
		return out, nil
	}
	p := preparing{s: s, f: f, looks: map[lookKey]*looked{}, roots: map[string]*rooted{}}
	ready, err := p.all(ctx, subs)
	if err != nil {
		return nil, err
	}
	return s.submitInto(ctx, f, ready)
}

// framePlaceOf returns why frames of a project cannot be delivered where the service
// looks for them.
func (s *Service) framePlaceOf(ctx context.Context, project string, roots farm.Roots) error {
	if roots.Frames == "" {
		return &refusal.Refusal{
			Kind: refusal.Invalid, Field: "project",
			Reason: fmt.Sprintf(
				"the frame place of project %s has no path on %s, where the service runs; add one with: vexillum "+
					"place set", project, runtime.GOOS,
			),
		}
	}
	if info, err := os.Stat(roots.Frames); err != nil || !info.IsDir() {
		return &refusal.Refusal{
			Kind: refusal.Invalid, Field: "output",
			Reason: fmt.Sprintf("the frame place %s is not there; mount it or correct the place", roots.Frames),
		}
	}
	if err := within(ctx, func() error { return publish.Marked(roots.Frames, s.Life()) }); err != nil {
		return &refusal.Refusal{
			Kind: refusal.Invalid, Field: "output",
			Reason: fmt.Sprintf(
				"the folder %s does not hold the mark of this farm's frame places: most likely it is the mount point "+
					"of a storage that is away. Mount it; or, if this is the right folder, a wrangler says so with: "+
					"vexillum place mark %s",
				roots.Frames, roots.FramesName,
			),
		}
	}
	return nil
}

// mostTaken bounds the folders that a submit looks into for one that is empty.
const mostTaken = 1000

// submitInto submits under the first numbers whose folders are empty: what stands
// in others is not the runs'.
func (s *Service) submitInto(ctx context.Context, f *floor.Floor, ready []prepared) ([]Submitted, error) {
	specs, from := make([]farm.Spec, len(ready)), make([]int, len(ready))
	passed := make([][]string, len(ready))
	for i, r := range ready {
		specs[i] = r.sub.Spec
	}
	settled := make([]bool, len(ready))
	for range mostTaken {
		folders, err := f.Queue.Folders(ctx, specs, from)
		if err != nil {
			return nil, err
		}
		all := true
		for i, folder := range folders {
			if settled[i] && from[i] == folder.Number {
				continue
			}
			vacant, err := publish.Vacant(ready[i].place, folder.Path)
			if err != nil {
				return nil, &queue.BatchError{Index: i, Err: refusal.New(
					refusal.Invalid, "output", "the output folder %s cannot be used: %v; choose another with --output",
					paths.Spell(runtime.GOOS, ready[i].place, folder.Path), err,
				)}
			}
			if settled[i], from[i] = vacant, folder.Number; !vacant {
				passed[i] = append(passed[i], folder.Path)
				from[i]++
				all = false
			}
		}
		if !all {
			continue
		}
		subs := make([]queue.Submission, len(ready))
		for i, r := range ready {
			subs[i] = r.sub
			subs[i].Number = from[i]
		}
		done, err := f.Queue.SubmitAll(ctx, subs)
		var taken *queue.TakenError
		if errors.As(err, &taken) { // somebody was faster
			clear(settled)
			continue
		}
		if err != nil {
			return nil, err
		}
		out := make([]Submitted, len(done))
		for i, d := range done {
			out[i] = Submitted{d, paths.Spell(runtime.GOOS, ready[i].place, d.Run.Output), passed[i], ready[i].remarks}
		}
		return out, nil
	}
	for i, folders := range passed {
		if len(folders) >= mostTaken {
			return nil, &queue.BatchError{Index: i, Err: refusal.New(
				refusal.Conflict, "output", "%d folders from %s on hold files already; choose another with --output",
				len(folders), folders[0],
			)}
		}
	}
	return nil, refusal.New(refusal.Conflict, "output", "others are submitting into the same folders; try again")
}

// OpenFrame opens a file of a done frame where the service can see it: the
// picture itself, or a pass. The caller closes it.
func (s *Service) OpenFrame(ctx context.Context, spec farm.Spec, pass string, frame int) (*os.File, error) {
	f, err := s.Floor()
	if err != nil {
		return nil, err
	}
	roots, err := f.Setup.Roots(ctx, spec.Project, runtime.GOOS)
	if err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(roots.Frames)
	if err != nil {
		return nil, fmt.Errorf("opening the frame place: %w", err)
	}
	defer root.Close()
	return plainfile.OpenIn(
		root, filepath.Join(filepath.FromSlash(spec.Output), filepath.FromSlash(spec.PassFile(pass, frame))),
	)
}
