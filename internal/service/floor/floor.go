// Package floor puts the live farm of a service together: the writer, and the
// rooms whose requests pass through it. It is made from what was loaded and
// thrown away when a commit fails.
package floor

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"vexillum/internal/core/engine"
	"vexillum/internal/core/fairness"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/pace"
	"vexillum/internal/recipe"
	"vexillum/internal/service/fleet"
	"vexillum/internal/service/hands"
	"vexillum/internal/service/notices"
	"vexillum/internal/service/people"
	"vexillum/internal/service/queue"
	"vexillum/internal/service/setup"
	"vexillum/internal/service/shelf"
	"vexillum/internal/service/views"
	"vexillum/internal/service/writer"
	"vexillum/internal/wire"
)

// Options is what a Floor works with.
type Options struct {
	State         *farm.State
	Pace          *pace.Model
	Finished      []time.Time                 // when frames were done lately, oldest first
	FinishedSince time.Time                   // zero when nothing is known of the time before
	Newest        map[farm.RunID]views.Newest // the newest done frame of each run, as far as known
	Received      []fairness.Received         // what projects had received before the start
	Committer     writer.Committer
	Recipes       recipe.Book     // that ship; what the farm keeps comes first
	Errands       fleet.Errands   // nil: there are none
	Notices       notices.Options // but what the floor itself has
	Log           *slog.Logger
	Now           func() time.Time
	Version       string      // of this service
	Active        wire.Active // who we are
	// told of every run that has closed; must not wait; may be nil
	Closed func(farm.Spec)
	Took   func(what fmt.Stringer, took time.Duration) // hears how long each decision took; may be nil
}

// Floor is the live farm of a service, by what requests are about. Use New, then
// Run; the methods of its rooms may be called by anybody at any time.
type Floor struct {
	Fleet  *fleet.Desk
	People *people.Desk
	Queue  *queue.Desk
	Setup  *setup.Desk
	Views  *views.Board
	Hands  *hands.Desk
	// Notices are what people are told outside the farm.
	Notices *notices.Desk
	// Recipes are those that the farm keeps.
	Recipes *shelf.Shelf

	w *writer.Writer
	e *engine.Engine
	o Options
}

// New returns a Floor for a farm that was just loaded.
func New(o Options) *Floor {
	s := o.State
	recipes := shelf.New(s, o.Recipes, o.Log)
	noteMissing(s, recipes)
	var w *writer.Writer
	e := engine.New(engine.Live(engine.Options{
		State: s, Pace: o.Pace, Epoch: o.Active.Epoch, Applied: func(r farm.Record) { w.Applied(r) },
	}), o.Now())
	e.Dealer().Queue().Restore(o.Received)
	w = writer.New(writer.Options{
		Engine: e, State: s, Committer: o.Committer, Log: o.Log, Now: o.Now, Took: o.Took,
	})
	w.Watch(writer.Watcher{Committed: func(out engine.Batch) { // before the rooms answer anybody
		if slices.ContainsFunc(out.Records, aboutRecipes) {
			recipes.Refresh(s)
			noteMissing(s, recipes)
		}
	}})
	board := views.New(w, e, s, views.Options{
		Pace: o.Pace, Finished: o.Finished, FinishedSince: o.FinishedSince, Newest: o.Newest, Version: o.Version,
		Active: o.Active,
	})
	if o.Closed != nil {
		w.Watch(writer.Watcher{Committed: func(out engine.Batch) { tellClosed(s, out.Records, o.Closed) }})
	}
	return &Floor{
		Fleet: fleet.New(w, e, s, recipes, board, o.Errands), People: people.New(w, s),
		Queue: queue.New(w, e, s, o.Pace, recipes, board), Setup: setup.New(w, s, recipes), Views: board,
		Hands: hands.New(w, s, board), Notices: notices.New(noticesOf(o, w, board)),
		Recipes: recipes,
		w:       w, e: e, o: o,
	}
}

func noticesOf(o Options, w *writer.Writer, board *views.Board) notices.Options {
	out := o.Notices
	out.Writer, out.Veil, out.Log, out.Now = w, board.Veiled, o.Log, o.Now
	return out
}

func aboutRecipes(r farm.Record) bool {
	switch r.(type) {
	case farm.RecipeSet, farm.RecipeDropped:
		return true
	}
	return false
}

// noteMissing notes the recipes of open runs that this program cannot read.
func noteMissing(s *farm.State, recipes *shelf.Shelf) {
	s.Missing = map[string]bool{}
	for _, run := range s.Queue() {
		if r, _ := recipes.Of(run.Spec); r == nil {
			s.Missing[run.Spec.Recipe] = true
		}
	}
}

func tellClosed(s *farm.State, records []farm.Record, closed func(farm.Spec)) {
	for _, r := range records {
		if m, ok := r.(farm.RunMoved); ok && m.State.Closed() {
			closed(s.Runs[m.Run].Spec)
		}
	}
}

// Run works until the context ends or a commit fails. After an error the State
// must be loaded again.
func (f *Floor) Run(ctx context.Context) error { return f.w.Run(ctx) }

// TookOver notes that this service has become the active one, after another or
// by itself.
func (f *Floor) TookOver(ctx context.Context, before, why string) error {
	return f.w.Do(ctx, func(t *writer.Tx) error {
		action := "take over"
		if before == "" || before == f.o.Active.Name {
			action = "start service"
		}
		t.Append(
			farm.Audited{
				Actor: f.o.Active.Name, Action: action, Subject: "farm", From: before,
				To: f.o.Active.Name + ": " + why, At: t.Now,
			},
		)
		return nil
	})
}
