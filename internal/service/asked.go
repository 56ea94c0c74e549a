package service

import (
	"context"
	"fmt"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/jobfile"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/queue"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// Asked is a run that somebody asks for.
type Asked struct {
	wire.Submit
	Proof jobfile.Proof // what is said of its proof beside its preset
	Waits []queue.Wait  // besides those of After
}

// SubmitAsked submits what somebody asks for, all of it or nothing. Under the same key,
// which may be empty, and digest it is submitted once. The error is a *[queue.BatchError]
// where one of several is to blame.
func (s *Service) SubmitAsked(
	ctx context.Context, asked []Asked, by farm.Person, key, digest string,
) ([]Submitted, error) {
	f, err := s.Floor()
	if err != nil {
		return nil, err
	}
	subs, err := s.submissions(ctx, f, asked, by, key, digest)
	if err != nil {
		return nil, err
	}
	done, err := s.SubmitAll(ctx, subs)
	return done, presetsBlamed(err, subs)
}

// submissions turns what somebody asks for into submissions, with what presets say.
func (s *Service) submissions(
	ctx context.Context, f *floor.Floor, asked []Asked, by farm.Person, key, digest string,
) ([]queue.Submission, error) {
	presets := presets{f: f, by: by.Name, known: map[presetKey]preset{}}
	subs := make([]queue.Submission, 0, len(asked))
	sight := f.People.Access().Sight(by)
	for i, a := range asked {
		if !sight.Sees(a.Project) {
			return nil, &queue.BatchError{Index: i, Err: refusal.NoProject(a.Project)}
		}
		sub, err := presets.submission(ctx, a, by)
		if err == nil && sub.Spec.Bundle == "" {
			err = s.seesScene(ctx, f, a.Project, sight, append([]string{sub.Spec.Scene}, sub.Spec.With...)...)
		}
		if err != nil {
			return nil, &queue.BatchError{Index: i, Err: err}
		}
		if key != "" {
			sub.Key, sub.Digest = sub.Actor+" "+key, digest
			if i > 0 {
				sub.Key = fmt.Sprintf("%s %d", sub.Key, i)
			}
		}
		subs = append(subs, sub)
	}
	return subs, nil
}

// submissionOf reads what somebody submits. The error is a *[refusal.Refusal].
func submissionOf(in wire.Submit, by farm.Person) (queue.Submission, error) {
	none := queue.Submission{}
	var set frames.Set
	var err error
	if in.Frames != "" {
		if set, err = frames.Parse(in.Frames); err != nil {
			return none, refusal.New(refusal.Invalid, "frames", "%v", err)
		}
	}
	var shot *frames.Span
	if in.Shot != "" {
		span, err := frames.ParseSpan(in.Shot)
		if err != nil {
			return none, refusal.New(refusal.Invalid, "shot", "%v", err)
		}
		shot = &span
	}
	level, err := farm.ParseLevel(in.Priority)
	if err != nil {
		return none, refusal.New(refusal.Invalid, "priority", "%v", err)
	}
	if level == farm.Urgent && !by.Role.Allows(farm.Wrangler) {
		return none, refusal.New(
			refusal.Forbidden, "priority",
			"only a wrangler can submit urgent work, as it comes before everybody else's; use high, or ask a wrangler",
		)
	}
	ceiling, err := farm.ParseCeiling(in.Ceiling)
	if err != nil {
		return none, refusal.New(refusal.Invalid, "ceiling", "%v", err)
	}
	due, err := queue.ParseDue(in.Due)
	if err != nil {
		return none, err
	}
	sequence, err := farm.ParseSequence(in.Sequence)
	if err != nil {
		return none, refusal.New(refusal.Invalid, "sequence", "%v", err)
	}
	tiles, err := queue.ParseTiling(in.Tiles, in.Overlap, in.DropTiles)
	if err != nil {
		return none, err
	}
	sub := queue.Submission{
		Variant: in.Variant, Tiles: tiles, Missing: in.Missing,
		Whole: in.Frames == "", Every: in.Every, Scale: in.Scale, Held: in.Held, Dry: in.DryRun, Shot: shot,
		Actor: by.Name, Role: by.Role,
		AtOnce: in.StartOn != nil && *in.StartOn == 0,
		Spec: farm.Spec{
			Bundle: in.Bundle, Origin: in.Origin, With: in.With, Job: in.Job, Project: in.Project, Kind: farm.RunKind(in.Kind),
			Recipe: in.Recipe,
			Scene:  in.Scene, Output: in.Output, Width: in.Width, Height: in.Height, Values: in.Values,
			Tries: in.Tries, HoldAfter: in.HoldAfter, Chunk: in.Chunk, Frames: set, Needs: in.Needs,
			Terms: farm.Terms{Level: level, Ceiling: ceiling, Due: due}, Sequence: sequence,
			Wait: in.Wait, Stall: in.Stall,
		},
	}
	wire.Set(&sub.Spec.StartOn, in.StartOn)
	if in.Takes != nil {
		sub.Spec.Takes = farm.Amounts(*in.Takes)
	}
	if in.From != "" {
		sub.After = append(sub.After, queue.Wait{Of: -1, Name: in.From, Reads: true})
	}
	for _, a := range in.After {
		sub.After = append(sub.After, queue.Wait{Of: -1, Name: a.Run, Frames: a.Frames})
	}
	for _, name := range in.Passes {
		sub.Spec.Passes = append(sub.Spec.Passes, farm.Pass{Name: name})
	}
	return sub, nil
}
