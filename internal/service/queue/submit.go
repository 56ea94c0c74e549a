package queue

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// Submission asks for a run.
type Submission struct {
	Spec  farm.Spec // without Number and Mode
	Held  bool
	Dry   bool // check it, and put nothing into the queue
	Own   bool // a test of the farm's own
	First bool // before all of its priority that is in the queue
	// AtOnce gives it all nodes at once; otherwise a new scene starts on few,
	// and the others join when its first frame is verified.
	AtOnce  bool
	Key     string         // makes the submit repeatable; may be empty
	Digest  string         // of what was asked for under the Key
	Missing bool           // leave out what the job's newest run of the kind has
	Whole   bool           // all frames of its shot, where Spec has none
	Every   int            // of the frames one in so many, spread over them; 0: all
	Scale   float64        // of the size that the scene or somebody says; 0: all of it
	Shot    *frames.Span   // all frames of the animation, where somebody says so
	Scene   farm.SceneShot // what a file beside the scene says about it
	// Number is what the run shall be called by. A *TakenError says that it
	// cannot be.
	Number int
	After  []Wait // runs that it waits for
	// Variant tells runs apart that somebody asks for as one, such as one of each camera: it
	// stands behind the name of the job, and is a folder below its output. NameJobs takes it in.
	Variant []string
	Subject farm.Subject // what its job renders, once that has a name
	// Reads is what its recipe makes something of: frames or a sequence of another run
	Reads string
	Tiles Tiling   // of a still; none of others
	Given []string // names of the settings that somebody has said
	// PresetSays holds the fields that come from its preset alone.
	PresetSays map[string]bool
	sized      bool // somebody has said how large pictures are
	Actor      string
	Role       farm.Role // of the actor
}

// Spec returns what a run was submitted with.
func (d *Desk) Spec(ctx context.Context, id farm.RunID) (farm.Spec, error) {
	var spec farm.Spec
	err := d.do(ctx, func(t *transaction) error {
		run := t.State.Runs[id]
		if run == nil {
			return refusal.New(refusal.NotFound, "run", "there is no run %d", id)
		}
		spec = run.Spec
		return nil
	})
	return spec, err
}

// SpecToAct returns what a run was submitted with to somebody who wants to do something to it,
// and refuses those who may not steer it.
func (d *Desk) SpecToAct(ctx context.Context, id farm.RunID, by farm.Person, what string) (farm.Spec, error) {
	var spec farm.Spec
	err := d.do(ctx, func(t *transaction) error {
		run := t.State.Runs[id]
		if run == nil {
			return refusal.New(refusal.NotFound, "run", "there is no run %d", id)
		}
		spec = run.Spec
		return t.maySteer(run, by, what)
	})
	return spec, err
}

// TakenError says that a run cannot have a number, and which it may have.
type TakenError struct{ Next int }

// Error says so.
func (e *TakenError) Error() string {
	return fmt.Sprintf("the number is taken; the next is %d", e.Next)
}

// Submitted returns what was submitted before under the keys of submissions, or false. A
// *refusal.Refusal says that something else was asked for under them.
func (d *Desk) Submitted(ctx context.Context, subs []Submission) (out []Submitted, known bool, err error) {
	err = d.do(ctx, func(t *transaction) error {
		ids, err := t.submittedBefore(subs)
		for _, id := range ids {
			out = append(out, t.submittedView(t.State.Runs[id], true))
		}
		return err
	})
	return out, len(out) > 0, err
}

func (t *transaction) submitted(key, digest string) (*farm.Run, error) {
	run, before := t.State.SubmittedWith(key)
	if run != nil && before != "" && digest != "" && before != digest {
		return nil, refusal.New(
			refusal.Invalid, "Idempotency-Key",
			"%s was submitted with this Idempotency-Key, and something else was asked for then; give another key",
			run.Spec.Name(),
		)
	}
	return run, nil
}

// outputOf returns the folder of a run, inside its frame place.
func outputOf(spec farm.Spec) string {
	return path.Join(spec.Output, fmt.Sprintf("%s-%d", spec.Kind, spec.Number))
}

// Folder is the number that a run may have and the folder that it then writes into.
type Folder struct {
	Number int
	Path   string // in its frame place, with slashes
}

// Folders returns for each of some runs the least number from the given on that it may
// have, and its folder: no other run writes there.
func (d *Desk) Folders(ctx context.Context, specs []farm.Spec, from []int) (out []Folder, err error) {
	err = d.do(ctx, func(t *transaction) error {
		out = make([]Folder, 0, len(specs))
		for i, spec := range specs {
			spec.Number = t.nextNumber(spec, from[i])
			out = append(out, Folder{spec.Number, outputOf(spec)})
		}
		return nil
	})
	return out, err
}

// nextNumber finds the least number whose folder is no other run's. Capitals do
// not tell folders apart.
func (t *transaction) nextNumber(spec farm.Spec, from int) int {
	spec.Number = max(from, t.State.NextNumber(spec.Project, spec.Job, spec.Kind))
	taken := func() bool {
		return slices.ContainsFunc(t.State.RunsInto(outputOf(spec)), func(other *farm.Run) bool {
			return sameFramePlace(t.State, other.Spec.Project, spec.Project)
		})
	}
	for taken() {
		spec.Number++
	}
	return spec.Number
}

// Submitted is what became of a submission, or would.
type Submitted struct {
	Run    wire.Run
	Again  bool   // it was submitted before
	Able   int    // nodes that are online and could take it
	Nobody string // why no node can ever take it as both are now, or nothing
	// Searching says that no node can take it yet, and that nodes still search for its renderer.
	Searching bool
	Taken     string // what it takes over from the run that it reads, in a sentence, or nothing
	Lack      Lack   // what nodes have to get first
}

// Lack is what nodes that could take a run have to get of its bundle first.
type Lack struct {
	Nodes   int
	Bytes   int64   // the most that one of them has to get
	Seconds float64 // the most that one of them should need for that; 0: not known
}

func (t *transaction) lackOf(run *farm.Run) (out Lack) {
	if run.Spec.BundleBytes == 0 {
		return out
	}
	for _, n := range t.State.NodeList() {
		if n.Reach != farm.Online || !capacity.Fits(t.State, n, run) {
			continue
		}
		if lacks := t.d.m.Lacks(run, n.ID); lacks > 0 {
			out.Nodes++
			out.Bytes, out.Seconds = max(out.Bytes, lacks), max(out.Seconds, t.d.m.Fetch(run, n))
		}
	}
	return out
}

func (t *transaction) submittedView(run *farm.Run, again bool) Submitted {
	out := Submitted{
		Run: t.d.views.RunView(run, t.Now), Again: again, Able: capacity.Willing(t.State, run), Lack: t.lackOf(run),
	}
	if out.Nobody = capacity.Nobody(t.State, run); out.Nobody != "" && capacity.Searching(t.State, run, t.Now) {
		out.Nobody, out.Searching = "", true
	}
	return out
}

// Wait is a run that a submission waits for.
type Wait struct {
	// Of is the place of a submission among those that come with it, which must stand before
	// it, or below 0 where Name is the name of a run that there is already.
	Of     int
	Name   string
	Frames bool // each frame waits for the same frame alone
	Reads  bool // it reads the frames of that run
}

// BatchError says which of several submissions is to blame.
type BatchError struct {
	Index int
	Err   error
}

// Error says what is wrong with it.
func (e *BatchError) Error() string { return e.Err.Error() }

// Unwrap returns what is wrong with it.
func (e *BatchError) Unwrap() error { return e.Err }

// Submit puts a checked submission into the queue. The same Key gives the run
// of the first submit again.
func (d *Desk) Submit(ctx context.Context, sub Submission) (Submitted, error) {
	all, err := d.SubmitAll(ctx, []Submission{sub})
	if err != nil {
		var in *BatchError
		if errors.As(err, &in) {
			err = in.Err
		}
		return Submitted{}, err
	}
	return all[0], nil
}

// SubmitAll puts checked submissions into the queue, all of them or none, in one step.
// What was submitted under the Key of the first is given again. The error is a
// *[BatchError] where one of them is to blame.
func (d *Desk) SubmitAll(ctx context.Context, subs []Submission) (out []Submitted, err error) {
	var opened []*farm.Run // of a dry run
	var ids []farm.RunID
	again := false
	ready, err := d.rehearse(ctx, subs)
	if err != nil {
		return nil, err
	}
	err = d.do(ctx, func(t *transaction) error {
		if ids, err = t.submittedBefore(subs); err != nil || ids != nil {
			again = ids != nil
			return err
		}
		if !ready.holds(t, subs) {
			if ready, err = t.prepareAll(subs); err != nil {
				return err
			}
		}
		for i, r := range ready.records {
			if subs[i].Dry {
				opened = append(opened, ready.run(i))
				continue
			}
			ids = append(ids, r.Run)
			r.At = t.Now
			t.Append(r, farm.Audited{
				Actor: subs[i].Actor, Action: "submit run", Subject: r.Spec.Name(), To: string(r.State), Run: r.Run,
				At: t.Now,
			})
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	// Views are made apart and a few at a time: with many runs they take longer than to submit.
	const atOnce = 20
	for from := 0; from < len(subs); from += atOnce {
		err := d.do(ctx, func(t *transaction) error {
			for i := from; i < min(from+atOnce, len(subs)); i++ {
				if opened == nil {
					out = append(out, t.submittedView(t.State.Runs[ids[i]], again))
					if !again {
						out[i].Taken = ready.taken[i]
					}
					continue
				}
				view := t.submittedView(opened[i], false)
				view.Run.ID, view.Taken = 0, ready.taken[i]
				out = append(out, view)
				if t.State.Runs[opened[i].ID] == nil { // another run will have its number
					d.m.Forget(opened[i].ID)
					d.dealer.Forget(opened[i].ID)
				}
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// submittedBefore returns the runs that were submitted under the keys of submissions, or
// none. They are there all or not at all.
func (t *transaction) submittedBefore(subs []Submission) (ids []farm.RunID, err error) {
	for i, sub := range subs {
		run, err := t.submitted(sub.Key, sub.Digest)
		if err != nil {
			return nil, err
		}
		if run == nil {
			if i > 0 {
				return nil, refusal.New(
					refusal.Invalid, "Idempotency-Key",
					"other jobs were submitted with this Idempotency-Key; give another key",
				)
			}
			return nil, nil
		}
		ids = append(ids, run.ID)
	}
	return ids, nil
}

// preparedAtOnce is how many submissions are prepared before the loop goes on with others.
const preparedAtOnce = 50

// rehearse prepares many submissions a few at a time, so that they hold the loop only for as
// long as it takes to put them into the queue. Few are not rehearsed.
func (d *Desk) rehearse(ctx context.Context, subs []Submission) (ready *together, err error) {
	if len(subs) <= preparedAtOnce {
		return nil, nil
	}
	for begun, whole := 0, false; !whole; {
		err := d.do(ctx, func(t *transaction) (err error) {
			if ready == nil || !ready.current(t) {
				begun++
				ready = t.begin(len(subs))
			}
			whole, err = t.prepare(ready, subs, preparedAtOnce)
			return err
		})
		if err != nil {
			return nil, err
		}
		if begun > mostBegun { // others submit all the time: it is done in one go
			return nil, nil
		}
	}
	return ready, nil
}

// mostBegun is how often a rehearsal begins again because others submit.
const mostBegun = 3

// prepareAll returns the Records of submissions, and appends none.
func (t *transaction) prepareAll(subs []Submission) (*together, error) {
	ready := t.begin(len(subs))
	_, err := t.prepare(ready, subs, len(subs))
	return ready, err
}

func (t *transaction) begin(count int) *together {
	return &together{
		records: make([]farm.RunSubmitted, 0, count), opened: make([]*farm.Run, count), folders: map[string]bool{},
		taken: map[int]string{}, jobs: map[string]bool{}, last: t.State.LastRun, order: t.State.LastOrder,
	}
}

// prepare prepares the next of some submissions, and reports whether that were all.
func (t *transaction) prepare(records *together, subs []Submission, most int) (whole bool, err error) {
	folders, jobs := records.folders, records.jobs
	from := len(records.records)
	for i := from; i < min(len(subs), from+most); i++ {
		sub := subs[i]
		record, err := t.submission(sub, records)
		if err != nil {
			return false, &BatchError{i, err}
		}
		spec := record.Spec
		place := ""
		if p := t.State.Projects[spec.Project]; p != nil {
			place = p.Frames
		}
		folder := strings.ToLower(place + "\n" + spec.Output)
		job := strings.ToLower(spec.Project + "/" + spec.Name())
		switch {
		case jobs[job]:
			return false, &BatchError{i, refusal.New(
				refusal.Invalid, "job", "two jobs are called %s; each needs a name of its own", spec.Job,
			)}
		case folders[folder]:
			return false, &BatchError{i, refusal.New(
				refusal.Invalid, "output", "two jobs would write into the folder %s; give each one of its own",
				spec.Output,
			)}
		}
		folders[folder], jobs[job] = true, true
		records.records = append(records.records, record)
	}
	return len(records.records) == len(subs), nil
}

// together are submissions that come together, as far as they are ready.
type together struct {
	records       []farm.RunSubmitted
	opened        []*farm.Run    // of each that somebody has asked for
	taken         map[int]string // what each takes over from the run that it reads, in a sentence
	folders, jobs map[string]bool
	last          farm.RunID // of the farm, when they were begun
	order         int64
}

// current reports whether nothing was submitted since they were begun.
func (b *together) current(t *transaction) bool {
	return b.last == t.State.LastRun && b.order == t.State.LastOrder
}

// holds reports whether what was prepared is still right: nothing else was submitted, the
// projects are there, and what runs wait for is as it was.
func (b *together) holds(t *transaction, subs []Submission) bool {
	if b == nil || len(b.records) != len(subs) || !b.current(t) {
		return false
	}
	for i := range b.records {
		spec := &b.records[i].Spec
		if t.State.Projects[spec.Project] == nil {
			return false
		}
		for _, a := range spec.After {
			if a.Run > b.last {
				continue // of those that come together
			}
			if other := t.State.Runs[a.Run]; other == nil || other.State.Closed() {
				return false
			}
		}
	}
	return true
}

// run returns what one of the submissions opens.
func (b *together) run(i int) *farm.Run {
	if b.opened[i] == nil {
		b.opened[i] = b.records[i].Opened()
	}
	return b.opened[i]
}

// submission returns the Record of a submission that comes behind others.
func (t *transaction) submission(sub Submission, before *together) (record farm.RunSubmitted, err error) {
	spec := sub.Spec
	if t.State.Projects[spec.Project] == nil {
		return record, refusal.New(
			refusal.Invalid, "project", "there is no project %q; vexillum project list shows them", spec.Project,
		)
	}
	if spec.Project == farm.OwnProject && sub.Actor != farm.OwnActor && !sub.Own {
		return record, refusal.New(
			refusal.Conflict, "project", "the project %s is the farm's own; choose another", spec.Project,
		)
	}
	if err := t.read(&spec, sub, before); err != nil {
		return record, err
	}
	asked := spec.Frames
	if err := t.divide(&spec, sub); err != nil {
		return record, err
	}
	if err := t.place(&spec, asked, sub); err != nil {
		return record, err
	}
	spec.Owner, spec.Names = sub.Actor, t.State.Projects[spec.Project].Names
	id := t.State.LastRun + 1 + farm.RunID(len(before.records))
	if spec.Sequence == farm.ScoutsFirst && spec.Tiles == nil {
		spec.Scouts = deal.Scouts(t.d.m, &farm.Run{ID: id, Spec: spec})
	}
	if spec.StartOn == 0 && !sub.AtOnce && !proven(t.State, spec) {
		spec.StartOn = startOn
	}
	if sub.First {
		for _, other := range t.State.Queue() {
			if other.Terms.Level.Rank() == spec.Level.Rank() {
				spec.Put = min(spec.Put, other.Terms.Put-1)
			}
		}
	}
	state, waits, err := t.await(&spec, sub, before)
	if err != nil {
		return record, err
	}
	return farm.RunSubmitted{
		Run: id, Spec: spec, State: state, Order: t.State.LastOrder + 1 + int64(len(before.records)), Key: sub.Key,
		Digest: sub.Digest, At: t.Now,
		Reason: fmt.Sprintf("submitted by %s: %d frames, %s", sub.Actor, spec.Frames.Len(), waits),
	}, nil
}

// place gives a run its number, its folder and the shot that it is of, after the
// runs of its job before.
func (t *transaction) place(spec *farm.Spec, asked frames.Set, sub Submission) error {
	subject := sub.Subject
	if subject == (farm.Subject{}) {
		subject = t.State.SubjectOf(*spec)
	}
	if before := t.State.NewestOf(spec.Project, spec.Job); before != nil {
		if by := t.State.SubjectOf(before.Spec); by != subject { // it was named meanwhile
			return refusal.New(refusal.Conflict, "job", "%v", &farm.HolderError{Name: spec.Job, Holder: by})
		}
		if before.Spec.Job != spec.Job {
			return refusal.New(
				refusal.Conflict, "job",
				"the project %s already has a job %s, and some file systems cannot tell the two names apart; "+
					"choose another name",
				spec.Project, before.Spec.Job,
			)
		}
	}
	var earlier *farm.Spec
	if before := t.State.NewestBefore(*spec, subject); before != nil {
		earlier = &before.Spec
	}
	if spec.Number = t.nextNumber(*spec, sub.Number); sub.Number != 0 && spec.Number != sub.Number {
		return &TakenError{spec.Number}
	}
	spec.Output = outputOf(*spec)
	shot, err := farm.ChooseShot(asked, sub.Shot, earlier, sub.Scene)
	if err != nil {
		return refusal.New(refusal.Invalid, "frames", "%v", err)
	}
	if spec.Scene == "" && shot.Source == farm.ShotFrames { // there is no animation of its own
		shot.Why = ""
	}
	spec.Shot = shot
	return nil
}

// startOn is how many nodes a run starts on whose scene nobody has rendered yet.
const startOn = 3

// proven reports whether a frame of the same scene has been rendered before.
func proven(s *farm.State, spec farm.Spec) bool {
	for other := range s.Before(spec) {
		if other.Spec.Recipe == spec.Recipe && !other.Done.Empty() {
			return true
		}
	}
	return false
}

func sameFramePlace(s *farm.State, a, b string) bool {
	return a == b || s.Projects[a] != nil && s.Projects[b] != nil && s.Projects[a].Frames == s.Projects[b].Frames
}

// ShotBefore returns the shot range of the newest run of the job of one, of the same scene;
// and the name of that run; nil: there is none.
func (d *Desk) ShotBefore(ctx context.Context, sub Submission) (out *frames.Span, of string, err error) {
	err = d.do(ctx, func(t *transaction) error {
		if run := t.State.NewestBefore(sub.Spec, sub.Subject); run != nil {
			span := run.Spec.ShotRange().Span()
			out, of = &span, run.Spec.Name()
		}
		return nil
	})
	return out, of, err
}

// BundleBefore returns the newest bundle in which the scene of one was sent before; empty: in
// none.
func (d *Desk) BundleBefore(ctx context.Context, spec farm.Spec) (id string, err error) {
	err = d.do(ctx, func(t *transaction) error {
		newest := farm.RunID(0)
		for _, run := range t.State.RunsOfScene(spec.Project, spec.Subject().Scene) {
			if run.Spec.Bundle != "" && run.ID > newest {
				newest, id = run.ID, run.Spec.Bundle
			}
		}
		return nil
	})
	return id, err
}

// Bundles returns the bundles that open runs need, each with its project.
func (d *Desk) Bundles(ctx context.Context) (out map[string]string, err error) {
	out = map[string]string{}
	err = d.do(ctx, func(t *transaction) error {
		for _, run := range t.State.Queue() {
			if run.Spec.Bundle != "" {
				out[run.Spec.Bundle] = run.Spec.Project
			}
		}
		return nil
	})
	return out, err
}
