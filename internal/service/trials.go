package service

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/paths"
	"vexillum/internal/recipe"
	"vexillum/internal/service/errands"
	"vexillum/internal/service/fleet"
	"vexillum/internal/service/queue"
	"vexillum/internal/service/refusal"
	"vexillum/internal/service/writer"
	"vexillum/internal/wire"
)

// trials are the recipes that nodes try for people.
type trials struct {
	mu  sync.Mutex
	all []*trial        // the newest last
	ctx context.Context // of the service while it is active; nil: it is not
	own sync.WaitGroup
}

// trial is one that is under way, or was.
type trial struct {
	wire.RecipeTrial
	by   string // who asked for it
	stop context.CancelCauseFunc
}

// errStopped ends a trial that nobody wants any more.
var errStopped = errors.New("it was stopped")

// Bounds of trials.
const (
	mostTrials   = 8 // running at once
	mostTrialsOf = 2 // of one person at once
	trialsKept   = 32
	trialAnswers = 30 * time.Second // until a node that says nothing is given up
	trialLasts   = 15 * time.Minute
)

// run lets trials be under way until the context ends.
func (t *trials) run(ctx context.Context) {
	t.mu.Lock()
	t.ctx = ctx
	t.mu.Unlock()
	<-ctx.Done()
	t.mu.Lock()
	t.ctx = nil
	t.mu.Unlock()
	t.own.Wait()
}

func under(state string) bool { return state == wire.TrialWaits || state == wire.TrialRuns }

// begin notes a trial and lets it be done.
func (t *trials) begin(trial *trial, do func(ctx context.Context)) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.ctx == nil {
		return writer.ErrGone
	}
	many, mine := 0, 0
	for _, other := range t.all {
		if under(other.State) {
			many++
			if other.by == trial.by {
				mine++
			}
		}
	}
	if mine >= mostTrialsOf {
		return refusal.New(
			refusal.Conflict, "", "%d trials of yours are running; wait until one has finished, or stop it", mine,
		)
	}
	if many >= mostTrials {
		return refusal.New(
			refusal.Conflict, "", "%d things are being tried already; wait until one of them has come to its end",
			many,
		)
	}
	if len(t.all) >= trialsKept {
		i := slices.IndexFunc(t.all, ended)
		t.all = slices.Delete(t.all, i, i+1) // few are under way, so there is one
	}
	t.all = append(t.all, trial)
	ctx, stop := context.WithCancelCause(t.ctx)
	trial.stop = stop
	t.own.Go(func() {
		defer stop(nil)
		do(ctx)
	})
	return nil
}

func ended(t *trial) bool { return !under(t.State) }

// change changes what is known of trials.
func (t *trials) change(change func()) {
	t.mu.Lock()
	defer t.mu.Unlock()
	change()
}

// TryRecipe lets a node try a recipe, and returns at once: Trial says how far it is.
func (s *Service) TryRecipe(ctx context.Context, in wire.TryRecipe, by farm.Person) (wire.RecipeTrial, error) {
	f, err := s.Floor()
	if err != nil {
		return wire.RecipeTrial{}, err
	}
	task, r, err := readTask(in)
	if err != nil {
		return wire.RecipeTrial{}, err
	}
	node, err := f.Fleet.Trier(ctx, in.Node, in.Project, r.Name)
	if err != nil {
		return wire.RecipeTrial{}, err
	}
	roots, err := f.Setup.Roots(ctx, in.Project, node.OS)
	if err != nil {
		return wire.RecipeTrial{}, err
	}
	if task.SceneRoot = roots.Scenes; task.SceneRoot == "" {
		return wire.RecipeTrial{}, refusal.New(
			refusal.Conflict, "project", "the scene place of project %s has no path on %s, which %s runs", in.Project,
			node.OS, node.Name,
		)
	}
	task.LaunchSettings = node.Settings
	return s.beginTrial(node, r.Name, wire.Errand{Try: &task}, by)
}

// RenderByHand lets a node render a frame of a run again, just as on a lease, and returns at
// once: Trial says how far it is. Nothing of it is delivered or counts as a try. With no node
// named it is the one where the frame failed last.
func (s *Service) RenderByHand(
	ctx context.Context, run farm.RunID, frame int, node string, by farm.Person,
) (wire.RecipeTrial, error) {
	f, err := s.Floor()
	if err != nil {
		return wire.RecipeTrial{}, err
	}
	at, task, err := f.Fleet.ByHand(ctx, run, frame, node)
	if err != nil {
		return wire.RecipeTrial{}, err
	}
	return s.beginTrial(at, task.Lease.Recipe, wire.Errand{Render: &task}, by)
}

// beginTrial gives a node a trial to do.
func (s *Service) beginTrial(
	node fleet.Errander, recipe string, what wire.Errand, by farm.Person,
) (wire.RecipeTrial, error) {
	trial := &trial{by: by.Name, RecipeTrial: wire.RecipeTrial{
		ID: strings.ToLower(rand.Text()[:12]), Recipe: recipe, Node: node.Name, State: wire.TrialWaits,
		StartedAt: s.o.Now(), Trial: wire.Trial{
			Lines: []wire.TrialLine{}, Frames: []wire.TrialFrame{}, Notes: []string{},
		},
	}}
	out := trial.RecipeTrial
	return out, s.trials.begin(trial, func(ctx context.Context) {
		told, err := s.errand(ctx, node.ID, node.Name, what, func(told wire.ErrandTold) {
			s.trials.change(func() {
				trial.State = wire.TrialRuns
				if told.Trial != nil {
					trial.Trial = *told.Trial
				}
			})
		})
		s.trials.change(func() { endTrial(&trial.RecipeTrial, told, err) })
	})
}

// endTrial notes what came of a trial.
func endTrial(trial *wire.RecipeTrial, told wire.ErrandTold, err error) {
	if told.Trial != nil {
		trial.Trial = *told.Trial
	}
	trial.State, trial.Error = wire.TrialDone, told.Error
	if err != nil {
		trial.Error = err.Error()
	}
	bad := func(f wire.TrialFrame) bool { return !f.Good }
	if trial.Error != "" || len(trial.Frames) == 0 || slices.ContainsFunc(trial.Frames, bad) {
		trial.State = wire.TrialFailed
	}
}

// readTask looks at what is to be tried, as far as that can be said without a node.
func readTask(in wire.TryRecipe) (task wire.RecipeTask, r *recipe.Recipe, err error) {
	no := func(field, reason string, args ...any) (wire.RecipeTask, *recipe.Recipe, error) {
		return wire.RecipeTask{}, nil, refusal.New(refusal.Invalid, field, reason, args...)
	}
	if r, err = recipe.Parse([]byte(in.Text)); err != nil {
		return no("text", "the recipe cannot be used: %v", err)
	}
	if in.Scene == "" {
		return no("scene", "the scene is empty; name a file in the project's scene place")
	}
	if err := paths.Check(in.Scene); err != nil {
		return no("scene", "%v", err)
	}
	if err := r.CanRead(in.Scene); err != nil {
		return no("scene", "%v", err)
	}
	if in.Frames == "" {
		in.Frames = "1"
	}
	if span, err := frames.ParseSpan(in.Frames); err != nil {
		return no("frames", "%v", err)
	} else if span.Len() > mostTried {
		return no("frames", "a trial renders at most %d frames", mostTried)
	}
	if _, err := frames.ParseSpan(in.Shot); in.Shot != "" && err != nil {
		return no("shot", "%v", err)
	}
	if in.Width != 0 || in.Height != 0 { // else as the scene says
		if err := queue.CheckSize(farm.Spec{Width: in.Width, Height: in.Height}); err != nil {
			return wire.RecipeTask{}, nil, err
		}
	}
	if _, err := r.ChoosePasses(in.Passes); err != nil {
		return no("passes", "%v", err)
	}
	return wire.RecipeTask{
		Recipe: r.Text(), Scene: in.Scene, Frames: in.Frames, Shot: in.Shot, Width: in.Width, Height: in.Height,
		Values: in.Values, Passes: in.Passes,
	}, r, nil
}

// mostTried bounds the frames of a trial.
const mostTried = 20

// Trial returns how far a trial is.
func (s *Service) Trial(id string) (wire.RecipeTrial, error) {
	s.trials.mu.Lock()
	defer s.trials.mu.Unlock()
	t, err := s.trials.find(id)
	if err != nil {
		return wire.RecipeTrial{}, err
	}
	return t.RecipeTrial, nil
}

// StopTrial ends a trial that is under way; its renderer is gone within seconds. One that
// has ended stays as it is.
func (s *Service) StopTrial(id string) error {
	s.trials.mu.Lock()
	defer s.trials.mu.Unlock()
	t, err := s.trials.find(id)
	if err == nil {
		t.stop(errStopped)
	}
	return err
}

// find returns a trial that is kept. The caller holds mu.
func (t *trials) find(id string) (*trial, error) {
	for _, one := range t.all {
		if one.ID == id {
			return one, nil
		}
	}
	return nil, refusal.New(
		refusal.NotFound, "trial", "there is no such trial; the service keeps the last %d, until it is started again",
		trialsKept,
	)
}

// errand lets a node do something, and waits for the answer. A node that says nothing is
// given up.
func (s *Service) errand(
	ctx context.Context, id farm.NodeID, name string, what wire.Errand, heard func(wire.ErrandTold),
) (wire.ErrandTold, error) {
	f, err := s.Floor()
	if err != nil {
		return wire.ErrandTold{}, err
	}
	ctx, cancel := context.WithTimeoutCause(
		ctx, trialLasts, fmt.Errorf("%s was not done within %v; it was stopped", name, trialLasts),
	)
	defer cancel()
	ctx, giveUp := context.WithCancelCause(ctx)
	defer giveUp(nil)
	silent := time.AfterFunc(trialAnswers, func() {
		giveUp(fmt.Errorf(
			"%s does not answer; look whether it is online, and whether its node process is as new as the service",
			name,
		))
	})
	defer silent.Stop()
	told, err := s.errands.Do(ctx, id, what, func() error { return f.Fleet.Rouse(ctx, id) }, func(t wire.ErrandTold) {
		silent.Stop()
		if heard != nil {
			heard(t)
		}
	})
	switch {
	case errors.Is(err, errands.ErrTooMany):
		return told, refusal.New(refusal.Conflict, "node", "%s: %v", name, err)
	case err != nil && ctx.Err() != nil:
		return told, context.Cause(ctx)
	}
	return told, err
}

// ErrandTold takes in what a node says of an errand, and reports whether somebody waits.
func (s *Service) ErrandTold(ctx context.Context, node farm.NodeID, told wire.ErrandTold) (bool, error) {
	f, err := s.Floor()
	if err != nil {
		return false, err
	}
	if _, _, err := f.Fleet.NameOf(ctx, node, told.Session); err != nil {
		return false, err
	}
	return s.errands.Told(node, told), nil
}
