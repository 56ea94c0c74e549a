package service

import (
	"context"
	"errors"
	"fmt"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/fileschema"
	"vexillum/internal/secret"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/inbox"
	"vexillum/internal/service/queue"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// watchInbox takes job files that are dropped into the inbox while this service is the
// active one.
func (s *Service) watchInbox(ctx context.Context, f *floor.Floor) {
	if s.o.Inbox == "" {
		return
	}
	box, err := inbox.New(inbox.Options{
		Folder: s.o.Inbox, Person: s.o.InboxPerson, Log: s.o.Log, Now: s.o.Now,
		Submit: func(ctx context.Context, person, text, key string) ([]wire.Receipt, error) {
			return s.dropped(ctx, f, person, text, key)
		},
	})
	if err != nil {
		s.o.Log.Error("the inbox cannot be watched", "folder", s.o.Inbox, "error", err)
		return
	}
	box.Run(ctx)
}

// dropped submits a job file of an inbox.
func (s *Service) dropped(
	ctx context.Context, f *floor.Floor, person, text, key string,
) ([]wire.Receipt, error) {
	by, known := f.People.Person(person)
	if !known || !by.Role.Allows(farm.Artist) {
		return nil, &inbox.Refusal{Lines: []string{fmt.Sprintf(
			"%q is nobody who may submit; put the file into a folder of the inbox that is called like the person whose it is",
			person,
		)}}
	}
	done, err := s.SubmitJobs(ctx, wire.SubmitJobs{Text: text}, by, key, secret.Hash(text))
	var wrong *fileschema.MistakesError
	var one *queue.BatchError
	var no *refusal.Refusal
	switch {
	case errors.As(err, &wrong):
		out := &inbox.Refusal{}
		for _, m := range wrong.Mistakes {
			out.Lines = append(out.Lines, m.String())
		}
		return nil, out
	case errors.As(err, &one) && errors.As(one.Err, &no), errors.As(err, &no):
		return nil, &inbox.Refusal{Lines: []string{no.Reason}}
	case err != nil:
		return nil, err
	}
	out := []wire.Receipt{}
	for _, d := range done {
		out = append(out, Receipt(d))
	}
	return out, nil
}

// inboxWhenReady watches the inbox once this service answers.
func (s *Service) inboxWhenReady(ctx context.Context, f *floor.Floor) {
	for s.floor.Load() != f {
		select {
		case <-ctx.Done():
			return
		case <-time.After(100 * time.Millisecond):
		}
	}
	s.watchInbox(ctx, f)
}
