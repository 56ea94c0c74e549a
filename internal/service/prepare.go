package service

import (
	"context"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"unicode"
	"unicode/utf8"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/paths"
	"vexillum/internal/publish"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/queue"
	"vexillum/internal/service/refusal"
)

// preparing gets submissions ready that come together: what several of them have in
// common is looked at once.
type preparing struct {
	s *Service
	f *floor.Floor

	mu    sync.Mutex // for what follows
	looks map[lookKey]*looked
	roots map[string]*rooted
}

// lookKey is what a look at a scene depends on.
type lookKey struct {
	project, scene, recipe, bundle, with, origin string
	version                                      int
}

type looked struct {
	once sync.Once
	spec farm.Spec // with what the look has changed of it
	look sceneLook
	err  error
}

type rooted struct {
	once  sync.Once
	roots farm.Roots
	err   error
}

// prepared is a submission that can be put into the queue.
type prepared struct {
	sub     queue.Submission
	place   string // folder of the frame place here
	remarks []string
}

// looksAtOnce bounds the scenes that are looked at side by side.
const looksAtOnce = 8

// all gets all of some submissions ready. The error is a *[queue.BatchError] of the first
// that cannot be.
func (p *preparing) all(ctx context.Context, subs []queue.Submission) ([]prepared, error) {
	seen, err := sideBySide(subs, func(sub queue.Submission) (prepared, error) { return p.see(ctx, sub) })
	if err != nil {
		return nil, err
	}
	for i := range seen {
		subs[i] = seen[i].sub
	}
	named, err := p.f.Queue.NameJobs(ctx, subs)
	if err != nil {
		return nil, err
	}
	for i := range seen {
		seen[i].sub = named[i].Submission
		if named[i].Remark != "" {
			seen[i].remarks = append([]string{named[i].Remark}, seen[i].remarks...)
		}
	}
	out, err := sideBySide(seen, func(one prepared) (prepared, error) { return p.inherit(ctx, one) })
	if err != nil {
		return nil, err
	}
	return out, ctx.Err()
}

// sideBySide does something with each of a batch, a few at a time. The error is a
// *[queue.BatchError] of the first with which it fails.
func sideBySide[From, To any](of []From, do func(From) (To, error)) ([]To, error) {
	var failed atomic.Bool // what comes behind need not be looked at
	out, errs := make([]To, len(of)), make([]error, len(of))
	next := make(chan int)
	var workers sync.WaitGroup
	for range min(looksAtOnce, len(of)) {
		workers.Go(func() {
			for i := range next {
				if failed.Load() {
					continue
				}
				if out[i], errs[i] = do(of[i]); errs[i] != nil {
					failed.Store(true)
				}
			}
		})
	}
	for i := range of {
		next <- i
	}
	close(next)
	workers.Wait()
	for i, err := range errs {
		if err != nil {
			return nil, &queue.BatchError{Index: i, Err: err}
		}
	}
	return out, nil
}

// see looks at the scene of a submission and completes its settings.
func (p *preparing) see(ctx context.Context, sub queue.Submission) (out prepared, err error) {
	given, sized := sub.Spec.Values, sub.Spec.Width != 0 || sub.Spec.Height != 0
	if sub, err = p.f.Queue.CheckSubmission(sub); err != nil {
		return out, err
	}
	roots, err := p.rootsOf(ctx, sub.Spec.Project)
	if err != nil {
		return out, err
	}
	if err := p.s.origin(ctx, p.f, &sub.Spec); err != nil {
		return out, err
	}
	r := p.f.Recipes.At(sub.Spec.Recipe, sub.Spec.RecipeVersion)
	look, err := p.look(ctx, &sub, roots.Scenes)
	if err != nil {
		return out, err
	}
	sub.Spec.SceneSHA, sub.Spec.Pin, sub.Scene = look.sha, look.pin, look.shot
	sub.Spec.Mark = publish.Mark(p.s.Life())
	if !sized && sub.Scene.Width > 0 {
		sub.Spec.Width, sub.Spec.Height = sub.Scene.Width, sub.Scene.Height
	}
	sub.Given = slices.Collect(maps.Keys(given))
	values := maps.Clone(sub.Scene.Values)
	if values == nil {
		values = map[string]string{}
	}
	maps.Copy(values, given)
	if sub.Spec.Values, err = r.Complete(values); err != nil {
		return out, &refusal.Refusal{Kind: refusal.Invalid, Field: "values", Reason: err.Error()}
	}
	if err := r.CheckChoice(sub.Spec.Values, sub.Scene); err != nil {
		return out, &refusal.Refusal{Kind: refusal.Invalid, Field: "values", Reason: err.Error()}
	}
	remarks := slices.Concat(look.remarks, r.Unchecked(given, sub.Scene))
	return prepared{sub, roots.Frames, remarks}, nil
}

// inherit takes over from earlier runs of the job what nobody says.
func (p *preparing) inherit(ctx context.Context, one prepared) (prepared, error) {
	if one.sub.Reads == "" {
		earlier, _, err := p.f.Queue.ShotBefore(ctx, one.sub)
		if err != nil {
			return one, err
		}
		if err := one.sub.Choose(earlier); err != nil {
			return one, err
		}
	}
	remark, err := p.s.leaveOut(ctx, p.f, &one.sub)
	if err == nil && remark != "" {
		one.remarks = append(one.remarks, remark)
	}
	return one, err
}

// rootsOf returns where a project's places are here, once it is sure that frames can be
// delivered there.
func (p *preparing) rootsOf(ctx context.Context, project string) (farm.Roots, error) {
	p.mu.Lock()
	r := p.roots[project]
	if r == nil {
		r = &rooted{}
		p.roots[project] = r
	}
	p.mu.Unlock()
	r.once.Do(func() {
		if r.roots, r.err = p.f.Setup.Roots(ctx, project, runtime.GOOS); r.err == nil {
			r.err = p.s.framePlaceOf(ctx, project, r.roots)
		}
	})
	return r.roots, r.err
}

// look looks at the scene of a submission, or takes what was seen for another.
func (p *preparing) look(ctx context.Context, sub *queue.Submission, scenes string) (sceneLook, error) {
	spec := &sub.Spec
	if spec.Scene == "" {
		return sceneLook{}, nil
	}
	key := lookKey{
		project: spec.Project, scene: spec.Scene, recipe: spec.Recipe, bundle: spec.Bundle,
		origin: spec.Origin, with: strings.Join(spec.With, "\n"), version: spec.RecipeVersion,
	}
	p.mu.Lock()
	l := p.looks[key]
	if l == nil {
		l = &looked{}
		p.looks[key] = l
	}
	p.mu.Unlock()
	l.once.Do(func() {
		l.spec = *spec
		r := p.f.Recipes.At(spec.Recipe, spec.RecipeVersion)
		l.look, l.err = p.s.lookAtScene(ctx, p.f, &l.spec, scenes, r, sub.Dry)
	})
	if l.err != nil {
		return sceneLook{}, l.err
	}
	spec.With, spec.Bundle, spec.BundleBytes = slices.Clone(l.spec.With), l.spec.Bundle, l.spec.BundleBytes
	spec.BundleBefore, spec.BundleNew, spec.SceneSHA = l.spec.BundleBefore, l.spec.BundleNew, l.spec.SceneSHA
	return l.look, nil
}

// mostOrigin bounds the path of a scene that was sent, in bytes.
const mostOrigin = 2000

// origin reads where the scene of a bundle lay: inside the scene place, whichever system spells
// it, it is the scene there; else it keeps its whole path.
func (s *Service) origin(ctx context.Context, f *floor.Floor, spec *farm.Spec) error {
	switch {
	case spec.Origin == "":
		return nil
	case spec.Bundle == "":
		return refusal.New(refusal.Invalid, "origin", "only the scene of a bundle has an origin")
	case len(spec.Origin) > mostOrigin || !utf8.ValidString(spec.Origin) ||
		strings.ContainsFunc(spec.Origin, unicode.IsControl):
		return refusal.New(
			refusal.Invalid, "origin", "the origin of a scene is its path, of at most %d printable bytes", mostOrigin,
		)
	}
	for _, system := range []string{"linux", "darwin", "windows"} {
		roots, err := f.Setup.Roots(ctx, spec.Project, system)
		if err != nil {
			return err
		}
		if roots.Scenes == "" {
			continue
		}
		if inside, ok := paths.Relative(system, roots.Scenes, spec.Origin); ok {
			spec.Origin = inside
			break
		}
	}
	if spec.Origin == spec.Scene {
		spec.Origin = ""
	}
	return nil
}
