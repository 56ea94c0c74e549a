package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"runtime"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/publish"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// lookTime bounds a look at a storage that may hang.
const lookTime = 2 * time.Second

// SetPlace makes or changes a place. Where its path on this system is new, the
// folder is marked: the mark tells it later from the empty mount point of a
// storage that is away.
func (s *Service) SetPlace(
	ctx context.Context, name string, in wire.PlaceChange, match string, by farm.Person,
) (wire.Place, error) {
	f, err := s.Floor()
	if err != nil {
		return wire.Place{}, err
	}
	before, after, err := f.Setup.SetPlace(ctx, name, in, match, by.Name)
	if err != nil {
		return wire.Place{}, err
	}
	out := s.placeView(ctx, after)
	path := after.Paths[runtime.GOOS]
	if in.DryRun || path == "" || path == before.Paths[runtime.GOOS] || out.Mark == markThere {
		return out, nil
	}
	err = within(ctx, func() error {
		_, err := publish.MarkPlace(path, s.Life())
		return err
	})
	if err != nil {
		out.Remark = fmt.Sprintf(
			"The folder %s is not marked: %v. Frames are taken there once it is: vexillum place mark %s.", path, err,
			name,
		)
		return out, nil
	}
	return s.placeView(ctx, after), nil
}

// MarkPlace marks the folder of a place because a person says that it is the
// right one.
func (s *Service) MarkPlace(ctx context.Context, name string, by farm.Person) (wire.Place, error) {
	f, err := s.Floor()
	if err != nil {
		return wire.Place{}, err
	}
	p, err := f.Setup.Place(ctx, name)
	if err != nil {
		return wire.Place{}, err
	}
	path := p.Paths[runtime.GOOS]
	if path == "" {
		return wire.Place{}, &refusal.Refusal{
			Kind: refusal.Conflict, Field: "place",
			Reason: fmt.Sprintf("the place %s has no path on %s, where the service runs", name, runtime.GOOS),
		}
	}
	err = within(ctx, func() error {
		_, err := publish.MarkPlace(path, s.Life())
		return err
	})
	if err != nil {
		return wire.Place{}, &refusal.Refusal{
			Kind: refusal.Conflict, Field: "place",
			Reason: fmt.Sprintf("the folder %s cannot be marked: %v", path, err),
		}
	}
	if err := f.Setup.Marked(ctx, name, path, by); err != nil {
		return wire.Place{}, err
	}
	return s.placeView(ctx, p), nil
}

// Places returns all places by name, and what is seen of them here.
func (s *Service) Places(ctx context.Context) ([]wire.Place, error) {
	f, err := s.Floor()
	if err != nil {
		return nil, err
	}
	places, err := f.Setup.Places(ctx)
	out := []wire.Place{}
	for _, p := range places {
		out = append(out, s.placeView(ctx, p))
	}
	return out, err
}

// What is seen of a place where the service runs.
const (
	markThere   = "marked"
	markMissing = "not marked"
	placeAway   = "not there"
	placeUnseen = "not on this system"
)

func (s *Service) placeView(ctx context.Context, p farm.Place) wire.Place {
	out := wire.Place{Name: p.Name, Paths: p.Paths, Loads: p.Loads, Etag: p.Etag(), Mark: placeUnseen}
	if path := p.Paths[runtime.GOOS]; path != "" {
		out.Mark = s.mark(ctx, path)
	}
	return out
}

func (s *Service) mark(ctx context.Context, path string) string {
	err := within(ctx, func() error { return publish.Marked(path, s.Life()) })
	switch {
	case err == nil:
		return markThere
	case errors.Is(err, publish.ErrNoMark):
		return markMissing
	}
	return placeAway
}

// within does something with a storage that may hang. What hangs is left
// behind, and goes on when the storage does; the number of those is bounded by
// the places and by hanging.
func within(ctx context.Context, do func() error) error {
	select {
	case hanging <- struct{}{}:
	default:
		return errors.New("too many checks of storages hang already")
	}
	done := make(chan error, 1)
	go func() {
		defer func() { <-hanging }()
		done <- do()
	}()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(lookTime):
		return fmt.Errorf("the storage does not answer within %v: %w", lookTime, os.ErrDeadlineExceeded)
	}
}

// hanging bounds the looks at storages that are under way.
var hanging = make(chan struct{}, 64)

// placesLook is how often it is looked whether the places of projects are there.
const placesLook = 5 * time.Second

// watchPlaces tells the floor which places of projects are away, until the
// context ends.
func (s *Service) watchPlaces(ctx context.Context, f *floor.Floor) {
	look := time.NewTimer(0)
	defer look.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-look.C:
		}
		places, err := f.Views.PlacesInUse(ctx)
		if err != nil {
			return // the floor has ended
		}
		away := map[string]string{}
		for _, p := range places {
			path := p.Paths[runtime.GOOS]
			if path == "" {
				continue
			}
			switch s.mark(ctx, path) {
			case placeAway:
				away[p.Name] = fmt.Sprintf(
					"its folder %s is not there where the service runs; mount it, or correct it with: vexillum "+
						"place set %s",
					path, p.Name,
				)
			case markMissing:
				away[p.Name] = fmt.Sprintf(
					"its folder %s has no mark of this farm, so it may be an empty mount point; mount the storage, "+
						"or say that it is right with: vexillum place mark %s",
					path, p.Name,
				)
			}
		}
		if err := f.Views.PlacesAway(ctx, away); err != nil {
			return
		}
		look.Reset(placesLook)
	}
}
