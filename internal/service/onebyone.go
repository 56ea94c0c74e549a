package service

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/service/queue"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// mostStills bounds the stills that are asked for as one.
const mostStills = 1000

// oneByOne returns what is asked for as a run a frame, each waiting for the one before, where
// somebody asks for stills in tiles one after the other; else what is asked for as it is. Of
// those that wait, at is the place of the first.
func oneByOne(a Asked, at int) ([]Asked, error) {
	if !a.OneByOne {
		return []Asked{a}, nil
	}
	if a.Tiles == "" {
		return nil, refusal.New(
			refusal.Invalid,
			"one_by_one",
			"stills that are rendered in tiles come one after the other; say which tiles",
		)
	}
	set, err := frames.Parse(a.Frames)
	switch {
	case a.Frames == "":
		return nil, refusal.New(
			refusal.Invalid, "frames", "say which frames shall come one after the other, such as 1-9/4",
		)
	case err != nil:
		return nil, refusal.New(refusal.Invalid, "frames", "%v", err)
	case set.Len() > mostStills:
		return nil, refusal.New(
			refusal.Invalid, "frames", "at most %d stills come one after the other, not %d", mostStills, set.Len(),
		)
	}
	out := make([]Asked, 0, set.Len())
	for frame := range set.All() {
		still := a
		still.OneByOne = false
		number := fmt.Sprintf("%04d", frame)
		still.Frames, still.Variant = fmt.Sprint(frame), append(slices.Clone(a.Variant), number)
		if n := len(out); n > 0 {
			still.After, still.Waits = nil, []queue.Wait{{Of: at + n - 1}}
		}
		out = append(out, still)
	}
	return out, nil
}

// SubmitOne submits what somebody asks for as one: a run, or stills one after the other, of
// which it returns the last.
func (s *Service) SubmitOne(
	ctx context.Context, in wire.Submit, by farm.Person, key, digest string,
) (Submitted, error) {
	asked, err := oneByOne(Asked{Submit: in}, 0)
	if err != nil {
		return Submitted{}, err
	}
	done, err := s.SubmitAsked(ctx, asked, by, key, digest)
	if one := (*queue.BatchError)(nil); errors.As(err, &one) {
		err = one.Err
	}
	if err != nil {
		return Submitted{}, err
	}
	last := done[len(done)-1]
	if len(done) > 1 {
		last.Remarks = append(last.Remarks, fmt.Sprintf(
			"It is the last of %d stills that are rendered one after the other, the first of them %s.", len(done),
			done[0].Run.Name,
		))
	}
	return last, nil
}
