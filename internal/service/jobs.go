package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"vexillum/internal/core/farm"
	"vexillum/internal/fileschema"
	"vexillum/internal/jobfile"
	"vexillum/internal/service/queue"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// SubmitJobs submits all jobs of a job file, or none. The error is a
// *[fileschema.MistakesError] where the file is to blame, and says where in it.
func (s *Service) SubmitJobs(
	ctx context.Context, in wire.SubmitJobs, by farm.Person, key, digest string,
) ([]Submitted, error) {
	file, runs, asked, err := readJobs(in)
	if err != nil {
		return nil, err
	}
	done, err := s.SubmitAsked(ctx, asked, by, key, digest)
	var one *queue.BatchError
	if !errors.As(err, &one) {
		return done, err
	}
	return nil, placed([]byte(in.Text), file, runs[one.Index], one.Err)
}

// readJobs reads a job file and returns what is asked for in it.
func readJobs(in wire.SubmitJobs) (*jobfile.File, []jobfile.Run, []Asked, error) {
	text := []byte(in.Text)
	file, err := jobfile.Parse(text)
	if err != nil {
		return nil, nil, nil, err
	}
	runs, wrong := file.Expand()
	if len(wrong) > 0 {
		return nil, nil, nil, fileschema.Placed(text, wrong)
	}
	asked, of := make([]Asked, 0, len(runs)), make([]jobfile.Run, 0, len(runs))
	place := make([]int, len(runs)) // of the last run that one of the file comes to
	for i, run := range runs {
		submit, err := run.Submit()
		if no := (*jobfile.WrongError)(nil); errors.As(err, &no) {
			return nil, nil, nil, fileschema.Placed(
				text,
				[]fileschema.Wrong{{Path: fieldOf(file, run, no.Field), What: no.What}},
			)
		}
		submit.Proof, submit.DryRun = in.Proof, in.DryRun
		a := Asked{Submit: submit}
		if run.Settings.Proof != nil {
			a.Proof = *run.Settings.Proof
		}
		for _, w := range run.Waits {
			wait := queue.Wait{Of: w.Of, Name: w.Name, Frames: w.Frame, Reads: w.Reads}
			if w.Of >= 0 { // it stands before
				wait.Of = place[w.Of]
			}
			a.Waits = append(a.Waits, wait)
		}
		stills, err := oneByOne(a, len(asked))
		if err != nil {
			return nil, nil, nil, placed(text, file, run, err)
		}
		for _, still := range stills {
			asked, of = append(asked, still), append(of, run)
		}
		place[i] = len(asked) - 1
	}
	return file, of, asked, nil
}

// EstimateJobs is Estimate of the runs of a job file.
func (s *Service) EstimateJobs(ctx context.Context, in wire.SubmitJobs, by farm.Person) (wire.Estimate, error) {
	file, runs, asked, err := readJobs(in)
	if err != nil {
		return wire.Estimate{}, err
	}
	out, err := s.Estimate(ctx, asked, by)
	if one := (*queue.BatchError)(nil); errors.As(err, &one) {
		err = placed([]byte(in.Text), file, runs[one.Index], one.Err)
	}
	return out, err
}

// placed says where in a job file that is which a submission was refused for.
func placed(text []byte, file *jobfile.File, run jobfile.Run, err error) error {
	no := (*refusal.Refusal)(nil)
	if !errors.As(err, &no) {
		return err
	}
	field := no.Field
	if known, other := fields[field]; other {
		field = known
	}
	mistakes := fileschema.Placed(text, []fileschema.Wrong{{Path: fieldOf(file, run, field), What: no.Reason}})
	if no.Kind == refusal.Invalid {
		return mistakes
	}
	where := run.Name
	if at := mistakes.Mistakes[0].At; at.Line > 0 {
		where = fmt.Sprintf("line %d, %s", at.Line, run.Name)
	}
	return &refusal.Refusal{Kind: no.Kind, Field: mistakes.Mistakes[0].Field, Reason: where + ": " + no.Reason}
}

// fields are the names in job files of fields that are called otherwise in a submission.
var fields = map[string]string{
	"job": "name", "width": "size", "height": "size", "stall_seconds": "stall", "sequence": "order",
	"every": "proof.every",
}

// fieldOf returns the way to a field of a run in its file: in the job itself, in what holds
// for all, or else the job.
func fieldOf(file *jobfile.File, run jobfile.Run, field string) []string {
	job := []string{"jobs", strconv.Itoa(run.Entry)}
	if field == "" {
		return job
	}
	steps := strings.Split(field, ".")
	for _, of := range []struct {
		job *jobfile.Job
		at  []string
	}{{&file.Jobs[run.Entry], job}, {file.All, []string{"all"}}} {
		if of.job != nil && says(of.job, steps) {
			return slices.Concat(of.at, steps)
		}
	}
	if field == "project" && file.Project != "" {
		return steps
	}
	return job
}

// says reports whether a job of a file has a field.
func says(job *jobfile.Job, steps []string) bool {
	text, err := json.Marshal(job)
	if err != nil {
		return false
	}
	var all map[string]any
	if json.Unmarshal(text, &all) != nil {
		return false
	}
	for i, step := range steps {
		v, there := all[step]
		if !there {
			return false
		}
		next, more := v.(map[string]any)
		if !more {
			return i == len(steps)-1
		}
		all = next
	}
	return true
}

// SubmitFinal submits the final of a proof, as it was asked for when the proof was made of
// it: nothing of the proof is in it.
func (s *Service) SubmitFinal(
	ctx context.Context, id farm.RunID, dry bool, by farm.Person, key string,
) (out Submitted, err error) {
	f, err := s.Floor()
	if err != nil {
		return out, err
	}
	spec, err := f.Queue.Spec(ctx, id)
	if err != nil {
		return out, err
	}
	if len(spec.Asked) == 0 {
		return out, refusal.New(
			refusal.Conflict, "run", "%s was not made as the proof of a final; submit the final itself", spec.Name(),
		)
	}
	var in wire.Submit
	if err := json.Unmarshal(spec.Asked, &in); err != nil {
		return out, fmt.Errorf("reading what the final of %s is: %w", spec.Name(), err)
	}
	in.DryRun = dry
	sub, err := submissionOf(in, by)
	if err != nil {
		return out, err
	}
	sub.Spec.Preset = spec.Preset
	if key != "" {
		sub.Key, sub.Digest = by.Name+" "+key, "final of "+spec.Name()
	}
	return s.Submit(ctx, sub)
}
