package service

import (
	"context"
	"os"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// Checkpoint returns the newest frame before another from which the renderer of a lease
// can go on. Frame is nil where there is none.
func (s *Service) Checkpoint(
	ctx context.Context, node farm.NodeID, lease farm.LeaseID, before int,
) (out wire.Checkpoint, err error) {
	f, err := s.Floor()
	if err != nil {
		return out, err
	}
	run, spec, err := f.Fleet.Leased(ctx, node, lease)
	if err != nil {
		return out, err
	}
	r, _ := f.Recipes.Of(spec)
	if r == nil || r.Checkpoint == "" {
		return out, nil
	}
	found, err := s.o.Store.NewestWith(ctx, int64(run), before, r.Checkpoint)
	if err != nil || found == nil {
		return out, err
	}
	for _, file := range found.Files {
		if file.Pass == r.Checkpoint {
			out = wire.Checkpoint{
				Frame: &found.Frame, Hash: file.Hash, Bytes: file.Bytes, Name: spec.PassFile(r.Checkpoint, found.Frame),
			}
		}
	}
	return out, nil
}

// OpenCheckpoint opens the file of a checkpoint for a node that does not see its place.
// The caller closes it.
func (s *Service) OpenCheckpoint(
	ctx context.Context, node farm.NodeID, lease farm.LeaseID, frame int,
) (*os.File, error) {
	f, err := s.Floor()
	if err != nil {
		return nil, err
	}
	_, spec, err := f.Fleet.Leased(ctx, node, lease)
	if err != nil {
		return nil, err
	}
	r, _ := f.Recipes.Of(spec)
	if r == nil || r.Checkpoint == "" {
		return nil, refusal.New(refusal.NotFound, "frame", "the recipe of %s names no checkpoint", spec.Name())
	}
	return s.OpenFrame(ctx, spec, r.Checkpoint, frame)
}
