// Package service is Vexillum's service without its interfaces: it claims the
// database, loads the farm, keeps its floor going and its beat, and begins
// anew when a commit has failed. The rooms below it do one duty each.
package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"sync/atomic"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/pace"
	"vexillum/internal/recipe"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/ledger"
	"vexillum/internal/store"
)

// Options is what a Service works with.
type Options struct {
	Store   *store.Store
	Recipes recipe.Book
	Log     *slog.Logger
	// FirstAdmin is called once, when nobody may sign in yet. It returns the
	// name and the hash of the password of the first administrator.
	FirstAdmin func() (name, passwordHash string, err error)
}

// Service keeps the farm going.
type Service struct {
	o     Options
	floor atomic.Pointer[floor.Floor]
}

// New returns a Service that is not running yet.
func New(o Options) *Service { return &Service{o: o} }

// Floor returns the live farm, or floor.ErrGone while it is being loaded.
func (s *Service) Floor() (*floor.Floor, error) {
	if f := s.floor.Load(); f != nil {
		return f, nil
	}
	return nil, floor.ErrGone
}

// Store returns the records that are read without the live farm.
func (s *Service) Store() *store.Store { return s.o.Store }

// Recipes returns the recipes that the service knows.
func (s *Service) Recipes() recipe.Book { return s.o.Recipes }

// pause lies between a failure and the next attempt.
const pause = time.Second

// Run works until the context ends. It returns an error only if this process
// cannot be the active service any more.
func (s *Service) Run(ctx context.Context) error {
	if err := s.o.Store.Migrate(ctx); err != nil {
		return err
	}
	first := true
	for {
		err := s.lead(ctx)
		s.floor.Store(nil)
		switch {
		case ctx.Err() != nil:
			return nil
		case errors.Is(err, store.ErrDeposed):
			return fmt.Errorf("this service stops: %w", err)
		case first && errors.Is(err, store.ErrActive):
			return err
		}
		first = false
		s.o.Log.Error("the farm is loaded anew", "after", err)
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(pause):
		}
	}
}

// lead claims the database, loads the farm and runs its floor until that
// fails or the context ends.
func (s *Service) lead(ctx context.Context) error {
	host, _ := os.Hostname()
	lead, err := s.o.Store.Claim(ctx, fmt.Sprintf("%s process %d", host, os.Getpid()))
	if err != nil {
		return err
	}
	began := time.Now()
	loaded, err := s.o.Store.Load(ctx, lead.Seq)
	if err != nil {
		return err
	}
	model := pace.New()
	for _, o := range loaded.Observations {
		if n := loaded.State.Nodes[o.Node]; n != nil {
			model.Observe(o, model.Speed(n, loaded.State.Runs[o.Run].Spec.Recipe))
		}
	}
	newest := map[farm.RunID]floor.Newest{}
	for id, n := range loaded.Newest {
		newest[id] = floor.Newest{Frame: n.Frame, At: n.At}
	}
	book := ledger.New(s.o.Store, lead)
	f := floor.New(floor.Options{
		State: loaded.State, Pace: model, Newest: newest, Committer: book, Recipes: s.o.Recipes, Log: s.o.Log, Now: time.Now,
	})
	s.o.Log.Info("active", "epoch", lead.Epoch, "runs", len(loaded.State.Runs), "nodes", len(loaded.State.Nodes), "loaded_in", time.Since(began).Round(time.Millisecond))

	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	ended := make(chan error, 1)
	go func() { ended <- f.Run(ctx) }()
	beats := make(chan struct{})
	go func() {
		defer close(beats)
		s.beat(ctx, book, stop)
	}()
	if err := s.firstAdmin(ctx, f); err != nil {
		stop(err)
	} else {
		s.floor.Store(f)
	}
	err = <-ended
	stop(err)
	<-beats
	if cause := context.Cause(ctx); err == nil && !errors.Is(cause, context.Canceled) {
		err = cause
	}
	return err
}

// beat tells every second that this service is the active one, and stops it
// when it no longer is.
func (s *Service) beat(ctx context.Context, l *ledger.Ledger, stop context.CancelCauseFunc) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		beating, cancel := context.WithTimeout(ctx, 3*time.Second)
		err := l.Beat(beating)
		cancel()
		if err != nil && ctx.Err() == nil {
			stop(err)
			return
		}
	}
}

func (s *Service) firstAdmin(ctx context.Context, f *floor.Floor) error {
	if len(f.People()) > 0 || s.o.FirstAdmin == nil {
		return nil
	}
	name, hash, err := s.o.FirstAdmin()
	if err != nil {
		return fmt.Errorf("making the first administrator: %w", err)
	}
	_, err = f.SetPerson(ctx, name, farm.Admin, hash, "first start")
	return err
}
