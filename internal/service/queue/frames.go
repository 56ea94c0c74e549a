package queue

import (
	"context"
	"fmt"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/triage"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// mostParked bounds how many frames are parked at once.
const mostParked = 1000

// ActOnFrames does what a person decides about frames of a run: sets them aside for a
// while, gives them up with a note, or accepts those that are suspect.
func (d *Desk) ActOnFrames(
	ctx context.Context, id farm.RunID, in wire.FramesAct, by farm.Person,
) (out wire.FramesActed, err error) {
	note, err := refusal.Note(in.Note)
	if err != nil {
		return out, err
	}
	var wanted frames.Set
	if in.Frames != "" {
		if wanted, err = frames.Parse(in.Frames); err != nil {
			return out, refusal.New(refusal.Invalid, "frames", "%v", err)
		}
	}
	err = d.do(ctx, func(t *transaction) error {
		run := t.State.Runs[id]
		if run == nil {
			return refusal.New(refusal.NotFound, "run", "there is no run %d", id)
		}
		if err := t.maySteer(run, by, "decide about its frames"); err != nil {
			return err
		}
		set, records, err := t.decide(run, in.Do, wanted, note, by.Name)
		if err != nil {
			return err
		}
		out = wire.FramesActed{Name: run.Spec.Name(), Frames: set.String(), Count: set.Len(), DryRun: in.DryRun}
		if in.DryRun {
			return nil
		}
		t.Append(records...)
		t.Append(farm.Audited{
			Actor: by.Name, Action: in.Do + " frames", Subject: run.Spec.Name(), To: set.Brief(), Run: run.ID,
			At: t.Now,
		})
		return nil
	})
	return out, err
}

// decide returns the frames that an act is about, and its Records.
func (t *transaction) decide(
	run *farm.Run, do string, wanted frames.Set, note, by string,
) (set frames.Set, records []farm.Record, err error) {
	name := run.Spec.Name()
	switch do {
	case "skip":
		free := run.ToDo.Union(run.Parked)
		if set = wanted; set.Empty() {
			set = run.NeedsHand()
		}
		switch left := set.Minus(free); {
		case run.State.Closed() && run.State != farm.RunGaps && run.State != farm.RunFailed:
			return set, nil, refusal.New(refusal.Conflict, "", "%s is %s; it has no frames to skip", name, run.State)
		case set.Empty():
			return set, nil, refusal.New(
				refusal.Conflict,
				"frames",
				"%s has no parked frames; name those to skip",
				name,
			)
		case !left.Empty():
			return set, nil, refusal.New(
				refusal.Conflict,
				"frames",
				"%s of %s cannot be skipped: done, or on a node now; hold the run first to take "+
					"frames off their nodes",
				triage.FramesText(left),
				name,
			)
		}
		reason := fmt.Sprintf("%s has given %s up", by, triage.FramesText(set))
		if note != "" {
			reason += ": " + note
		}
		return set, []farm.Record{
			farm.FramesSkipped{Run: run.ID, Frames: set, Note: note, Reason: reason, At: t.Now},
		}, nil
	case "park":
		records, err = t.park(run, wanted, note, by)
		return wanted, records, err
	case "accept":
		if set = wanted; set.Empty() {
			set = run.Suspects()
		}
		switch left := set.Minus(run.Suspects()); {
		case set.Empty():
			return set, nil, refusal.New(refusal.Conflict, "frames", "no frame of %s is suspect", name)
		case !left.Empty():
			return set, nil, refusal.New(
				refusal.Conflict,
				"frames",
				"%s of %s: not suspect",
				triage.FramesText(left),
				name,
			)
		}
		reason := fmt.Sprintf("%s has looked at %s: as it shall be", by, triage.FramesText(set))
		return set, []farm.Record{farm.SuspectAccepted{Run: run.ID, Frames: set, Reason: reason, At: t.Now}}, nil
	}
	return set, nil, refusal.New(
		refusal.Invalid,
		"do",
		"frames are parked, skipped or accepted; do is park, skip or accept, not %.40q",
		do,
	)
}

// park returns the Records that set frames of a run aside which are to do.
func (t *transaction) park(
	run *farm.Run, wanted frames.Set, note, by string,
) (records []farm.Record, err error) {
	name := run.Spec.Name()
	switch left := wanted.Minus(run.ToDo); {
	case run.State.Closed():
		return nil, refusal.New(refusal.Conflict, "", "%s is %s; it has no frames to park", name, run.State)
	case wanted.Empty():
		return nil, refusal.New(refusal.Invalid, "frames", "name the frames of %s to park", name)
	case !left.Empty():
		return nil, refusal.New(
			refusal.Conflict,
			"frames",
			"%s of %s cannot be parked: done, parked, or on a node now; hold the run first to take "+
				"frames off their nodes",
			triage.FramesText(left),
			name,
		)
	case run.ToDo.Minus(wanted).Empty() && run.Later.Empty() && run.DealtCount() == 0:
		return nil, refusal.New(
			refusal.Conflict,
			"frames",
			"that is all that is left of %s; hold it, or give these frames up with skip",
			name,
		)
	case wanted.Len() > mostParked:
		return nil, refusal.New(
			refusal.Invalid,
			"frames",
			"at most %d frames are parked at once; hold the run, or lower its ceiling",
			mostParked,
		)
	}
	for f := range wanted.All() {
		reason := fmt.Sprintf("%s has parked frame %d", by, f)
		if note != "" {
			reason += ": " + note
		}
		records = append(records, farm.FrameParked{Run: run.ID, Frame: f, Reason: reason, At: t.Now})
	}
	return records, nil
}
