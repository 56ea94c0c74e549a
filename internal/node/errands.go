package node

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/dustin/go-humanize"

	"vexillum/internal/core/frames"
	"vexillum/internal/recipe"
	"vexillum/internal/scenefile"
	"vexillum/internal/wire"
)

// errands are what this node does once for somebody who waits, in one session.
type errands struct {
	a     *Agent
	slots chan struct{}
	under sync.WaitGroup

	mu    sync.Mutex
	known []int64 // that were taken, the newest last
}

// Bounds of errands.
const (
	errandsAtOnce  = 2
	errandsKnown   = 64
	errandTells    = time.Second // between one word of how far it is and the next
	mostTrialLines = 400
	mostTrialLine  = 400     // bytes of each
	mostTrialBytes = 1 << 30 // that a trial writes into its folder
)

// trialFolders is what the names of trials' folders in staging begin with.
const trialFolders = "trial-"

func newErrands(a *Agent) *errands {
	return &errands{a: a, slots: make(chan struct{}, errandsAtOnce)}
}

// ids returns those that need not be told again.
func (e *errands) ids() []int64 {
	e.mu.Lock()
	defer e.mu.Unlock()
	return append([]int64(nil), e.known...)
}

// take begins an errand, unless it is known.
func (e *errands) take(ctx context.Context, what wire.Errand) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, id := range e.known {
		if id == what.ID {
			return
		}
	}
	if e.known = append(e.known, what.ID); len(e.known) > errandsKnown {
		e.known = e.known[1:]
	}
	e.under.Go(func() { e.do(ctx, what) })
}

// do does an errand and tells what came of it.
func (e *errands) do(ctx context.Context, what wire.Errand) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	tell := func(told wire.ErrandTold) {
		told.Session, told.ID = e.a.session, what.ID
		var noted wire.ErrandNoted
		if err := e.a.persist(ctx, http.MethodPost, "/node/v1/errands", told, &noted); err != nil || !noted.Wanted {
			cancel()
		}
	}
	tell(wire.ErrandTold{}) // it is taken
	select {
	case e.slots <- struct{}{}:
		defer func() { <-e.slots }()
	case <-ctx.Done():
		return
	}
	told := wire.ErrandTold{Error: "this node process does not know this errand; bring it up to date"}
	switch {
	case ctx.Err() != nil:
		return
	case what.Try != nil:
		t, err := e.a.trialOf(ctx, *what.Try)
		t.errand = what.ID
		told = e.try(ctx, what.ID, t, err, tell)
	case what.Render != nil:
		t, err := e.a.trialOfLease(*what.Render)
		t.errand = what.ID
		told = e.try(ctx, what.ID, t, err, tell)
	case what.Look != nil:
		told = e.look(ctx, *what.Look)
	case what.Probe != nil:
		told = e.probe(ctx)
	case what.Check != nil:
		told = e.check(ctx, what.ID, *what.Check)
	}
	told.Done = true
	tell(told)
}

// try does a trial; err says why there is none.
func (e *errands) try(
	ctx context.Context, id int64, t Trial, err error, tell func(wire.ErrandTold),
) wire.ErrandTold {
	if err != nil {
		return wire.ErrandTold{Error: err.Error()}
	}
	t.Folder = filepath.Join(e.a.staging(), fmt.Sprintf("%s%d-%d", trialFolders, e.a.session, id))
	defer os.RemoveAll(t.Folder)
	notes := newTrialNotes(&t)
	// A node process that restarts ends its trials: nobody takes them up.
	ctx, give := context.WithCancelCause(detached(ctx))
	defer give(nil)
	stop := make(chan struct{})
	var telling sync.WaitGroup
	telling.Go(func() {
		for {
			select {
			case <-stop:
				return
			case <-time.After(errandTells):
				if held := heldBytes(t.Folder); held > mostTrialBytes {
					give(fmt.Errorf(
						"it was stopped: it wrote %s, and a trial may write %s", humanize.IBytes(uint64(held)),
						humanize.IBytes(mostTrialBytes),
					))
				}
				tell(wire.ErrandTold{Trial: notes.view(TrialReport{})})
			}
		}
	})
	report, err := Try(ctx, t)
	close(stop)
	telling.Wait()
	out := wire.ErrandTold{Trial: notes.view(report)}
	if cause := context.Cause(ctx); cause != nil && err == nil && !errors.Is(cause, context.Canceled) {
		err = cause
	}
	if err != nil {
		out.Error = err.Error()
	}
	return out
}

// detached returns a context that ends with another one and hides the cause: work that is told
// that its node process restarts would leave its renderer running.
func detached(ctx context.Context) context.Context {
	out, cancel := context.WithCancel(context.WithoutCancel(ctx))
	context.AfterFunc(ctx, cancel)
	return out
}

// look looks at a scene for a service that does not see its place.
func (e *errands) look(ctx context.Context, task wire.LookTask) wire.ErrandTold {
	no := func(err error) wire.ErrandTold { return wire.ErrandTold{Error: err.Error()} }
	r, err := recipe.ParseKept([]byte(task.Recipe))
	if err != nil {
		return no(fmt.Errorf("%s cannot read the recipe: %w", e.a.me.Name, err))
	}
	if task.Bundle != "" {
		folder, gone, err := e.lay(ctx, task.Bundle)
		if err != nil {
			return no(fmt.Errorf("%s cannot get the bundle: %w", e.a.me.Name, err))
		}
		defer gone()
		task.SceneRoot = folder
	}
	seen, err := e.a.pinned.See(ctx, task.SceneRoot, task.Scene, r, task.With)
	if err != nil {
		return no(err)
	}
	shot := seen.Shot
	out := &wire.Looked{
		Scene: seen.SHA, Pin: seen.Pin, Why: seen.Why, File: shot.File, Values: shot.Values, Width: shot.Width,
		Height: shot.Height, Cameras: shot.Cameras, Layers: shot.Layers, Inputs: shot.Inputs,
		Missing: seen.Missing, Outside: seen.Outside, Gaps: seen.Gaps,
	}
	if shot.Range != nil {
		out.Range = frames.Of(*shot.Range).String()
	}
	return wire.ErrandTold{Looked: out}
}

// lay gets a bundle and lays it out for a look; gone removes it. Commands that are asked about
// its scene run as anybody: they may read it, and no other on the machine knows where it is.
func (e *errands) lay(ctx context.Context, id string) (folder string, gone func(), err error) {
	if e.a.contents == nil {
		return "", nil, errors.New("it keeps no contents of bundles")
	}
	defer e.a.contents.pin(id)()
	m, err := e.a.contents.fetch(ctx, e.a, id, nil)
	if err != nil {
		return "", nil, err
	}
	base := filepath.Join(e.a.staging(), trialFolders+"look-"+strings.ToLower(rand.Text()))
	gone = func() { _ = os.RemoveAll(base) }
	folder = filepath.Join(base, sceneFolder)
	if err = os.MkdirAll(folder, 0o755); err == nil {
		for _, passed := range []string{base, e.a.staging(), e.a.o.Dir} {
			err = errors.Join(err, os.Chmod(passed, 0o711))
		}
	}
	if err == nil {
		err = e.a.contents.store.Lay(m, folder, false)
	}
	if err != nil {
		gone()
		return "", nil, err
	}
	return folder, gone, nil
}

// trialOf reads what is to be tried.
func (a *Agent) trialOf(ctx context.Context, task wire.RecipeTask) (t Trial, err error) {
	r, err := recipe.ParseKept([]byte(task.Recipe))
	if err != nil {
		return t, fmt.Errorf("this node process cannot read the recipe: %w", err)
	}
	if err := scenefile.Check(task.SceneRoot, task.Scene); err != nil {
		return t, err
	}
	w := Wanted{
		Recipe: r, Scene: filepath.Join(task.SceneRoot, filepath.FromSlash(task.Scene)), Width: task.Width,
		Height: task.Height, Values: task.Values, Passes: task.Passes,
		Run: a.commands().ask,
	}
	if w.Frames, err = frames.ParseSpan(task.Frames); err != nil {
		return t, err
	}
	if task.Shot != "" {
		shot, err := frames.ParseSpan(task.Shot)
		if err != nil {
			return t, err
		}
		w.Shot = &shot
	}
	if t, err = w.Trial(ctx); err != nil {
		return t, err
	}
	t.node, t.speed, t.share, t.agent = a.me.Name, a.speed.index(), a.share(wire.Share{}), a
	t.settings, t.root, t.inside = task.LaunchSettings, task.SceneRoot, task.Scene
	return t, nil
}

// trialOfLease reads a lease that is rendered by hand.
func (a *Agent) trialOfLease(task wire.RenderTask) (t Trial, err error) {
	r, err := recipe.ParseKept([]byte(task.Recipe))
	if err != nil {
		return t, fmt.Errorf("this node process cannot read the recipe: %w", err)
	}
	l := task.Lease
	t = Trial{
		Recipe: r, Width: l.Width, Height: l.Height, node: a.me.Name, speed: a.speed.index(), share: a.share(l.Share),
		lease: &leased{Recipe: *r, Lease: l}, contents: a.contents, exchange: a, pinned: a.pinned, agent: a,
	}
	return t, nil
}

// trialNotes keeps what a trial says.
type trialNotes struct {
	t     *Trial
	mu    sync.Mutex
	lines []wire.TrialLine
	left  int // lines that are not kept
}

func newTrialNotes(t *Trial) *trialNotes {
	n := &trialNotes{t: t}
	t.Launched = func(program string, arguments, _ []string) {
		n.add(wire.TrialLine{Text: LaunchText(program, arguments), Launch: true})
	}
	t.Heard = func(line, meaning string) { n.add(wire.TrialLine{Text: line, Meaning: meaning}) }
	return n
}

func (n *trialNotes) add(l wire.TrialLine) {
	if !l.Launch && len(l.Text) > mostTrialLine {
		l.Text = l.Text[:mostTrialLine] + "…"
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if len(n.lines) >= mostTrialLines {
		n.left++
		return
	}
	n.lines = append(n.lines, l)
}

// view returns what is known so far, as the service takes it.
func (n *trialNotes) view(report TrialReport) *wire.Trial {
	n.mu.Lock()
	defer n.mu.Unlock()
	out := report.View(n.t)
	out.Lines = append(out.Lines, n.lines...)
	if n.left > 0 {
		out.Notes = append(out.Notes, fmt.Sprintf("%d further lines of the renderer are not shown", n.left))
	}
	return &out
}
