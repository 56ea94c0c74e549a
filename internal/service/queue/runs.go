package queue

import (
	"context"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/deal"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/paths"
	"vexillum/internal/core/trait"
	"vexillum/internal/core/triage"
	"vexillum/internal/recipe"
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
	AtOnce bool
	Key    string         // makes the submit repeatable; may be empty
	Digest string         // of what was asked for under the Key
	Shot   *frames.Span   // all frames of the animation, where somebody says so
	Scene  farm.SceneShot // what a file beside the scene says about it
	// Number is what the run shall be called by. A *TakenError says that it
	// cannot be.
	Number int
	Actor  string
	Role   farm.Role // of the actor
}

// Limits of a submission.
const (
	maxSide  = 65_500 // pixels
	maxTries = 20

	mostStall = 30 * 24 * 3600 // seconds
)

// Bounds of what is named besides a scene.
const (
	mostWith     = 64
	mostWithName = 400 // bytes
)

// checkWith looks at the names of files that a scene needs besides.
func checkWith(spec *farm.Spec) error {
	switch {
	case len(spec.With) > 0 && spec.Bundle != "":
		return refusal.New(
			refusal.Invalid, "with", "a bundle has all that its scene needs; name more files when it is made",
		)
	case len(spec.With) > mostWith:
		return refusal.New(
			refusal.Invalid, "with", "at most %d names of files may be given; use patterns such as cache/*.df3",
			mostWith,
		)
	}
	for _, name := range spec.With {
		_, err := path.Match(name, "")
		if name == "" || len(name) > mostWithName || err != nil || strings.ContainsAny(name, "\x00\n") {
			return refusal.New(
				refusal.Invalid, "with", "%.80q is neither a file's name nor a pattern such as cache/*.df3", name,
			)
		}
	}
	return nil
}

// CheckSubmission returns the submission with all that is left out filled in,
// or a *refusal.Refusal. It looks at the request alone, not at the farm.
func (d *Desk) CheckSubmission(sub Submission) (Submission, error) {
	spec := &sub.Spec
	if err := farm.CheckJobName(spec.Job); err != nil {
		return sub, refusal.New(refusal.Invalid, "job", "%v", err)
	}
	if spec.Kind == "" {
		spec.Kind = farm.Final
	}
	if spec.Kind != farm.Proof && spec.Kind != farm.Final && spec.Kind != farm.Correction {
		return sub, refusal.New(refusal.Invalid, "kind", "a run is a proof, a final or a correction, not %q", spec.Kind)
	}
	if spec.Width == 0 && spec.Height == 0 {
		spec.Width, spec.Height = 1920, 1080
	}
	if err := CheckSize(*spec); err != nil {
		return sub, err
	}
	if err := pastDue(spec.Terms.Due, d.w.Now()); err != nil {
		return sub, err
	}
	if spec.Tries == 0 {
		spec.Tries = 3
	}
	if spec.Tries < 1 || spec.Tries > maxTries {
		return sub, refusal.New(refusal.Invalid, "tries", "tries a frame must be 1 to %d, not %d", maxTries, spec.Tries)
	}
	if spec.Stall < 0 || spec.Stall > mostStall || spec.Stall > 0 && spec.Stall < 1 {
		return sub, refusal.New(
			refusal.Invalid, "stall_seconds",
			"a renderer may be silent for 1 second to 30 days, or as long as its frames are expected to take",
		)
	}
	if spec.StartOn < 0 {
		return sub, refusal.New(refusal.Invalid, "start_on", "a run starts on 1 node or more, or on 0 for all at once")
	}
	if spec.Wait && spec.Sequence != farm.ScoutsFirst {
		return sub, refusal.New(
			refusal.Invalid, "wait", "only a run whose scouts go first can wait for a yes after them",
		)
	}
	if spec.Chunk < 0 {
		return sub, refusal.New(refusal.Invalid, "chunk", "a chunk has 1 frame or more, or 0 to let the dealer choose")
	}
	if spec.Frames.Empty() {
		return sub, refusal.New(
			refusal.Invalid, "frames", "there is no frame to render; give a frame range such as 1-180",
		)
	}
	if len(sub.Key) > 200 {
		return sub, refusal.New(refusal.Invalid, "Idempotency-Key", "the Idempotency-Key has more than 200 characters")
	}
	if err := checkWith(spec); err != nil {
		return sub, err
	}
	if err := checkPaths(spec); err != nil {
		return sub, err
	}
	if err := paths.Check(spec.Output); spec.Output != "" && err != nil { // any machine may have to make it
		return sub, refusal.New(refusal.Invalid, "output", "the output folder cannot be made everywhere: %v", err)
	}
	if spec.Output == "" {
		spec.Output = spec.Job
	}
	needs, err := trait.ParseExpression(spec.Needs)
	if err != nil {
		return sub, refusal.New(refusal.Invalid, "needs", "%v", err)
	}
	spec.Needs = needs.String()
	if err := spec.Takes.Check(); err != nil {
		return sub, refusal.New(refusal.Invalid, "takes", "%v", err)
	}
	return sub, d.chooseRecipe(spec, sub.Role)
}

// CheckSize refuses pictures that nothing can render.
func CheckSize(spec farm.Spec) error {
	if spec.Width < 1 || spec.Width > maxSide || spec.Height < 1 || spec.Height > maxSide {
		return refusal.New(
			refusal.Invalid, "width", "a picture of %d×%d cannot be rendered; each side must be 1 to %d pixels",
			spec.Width, spec.Height, maxSide,
		)
	}
	return nil
}

// checkPaths refuses paths that are too long or lead out of their places.
func checkPaths(spec *farm.Spec) error {
	for _, p := range []struct{ field, text, what string }{
		{"scene", spec.Scene, "scene"}, {"output", spec.Output, "output folder"},
	} {
		if p.field == "output" && p.text == "" {
			continue
		}
		if len(p.text) > farm.MaxPath {
			return refusal.New(
				refusal.Invalid, p.field, "the path of the %s has more than %d characters", p.what, farm.MaxPath,
			)
		}
		if p.text == "" || !filepath.IsLocal(filepath.FromSlash(p.text)) {
			return refusal.New(
				refusal.Invalid, p.field,
				"the %s %q is outside its place; give a path inside it, without a leading / and without ..", p.what,
				p.text,
			)
		}
	}
	return nil
}

// chooseRecipe finds the recipe by name or by the scene's ending, and
// completes the settings.
func (d *Desk) chooseRecipe(spec *farm.Spec, by farm.Role) (err error) {
	var r *recipe.Recipe
	book := d.recipes.Book()
	if spec.Recipe == "" {
		fitting := book.ForScene(path.Ext(spec.Scene))
		if len(fitting) == 0 {
			return refusal.New(
				refusal.Invalid, "scene", "no recipe reads scenes that end in %q; the recipes are: %s",
				path.Ext(spec.Scene),
				strings.Join(book.Names(), ", "),
			)
		}
		r = fitting[0]
	} else if r = book[spec.Recipe]; r == nil {
		return refusal.New(
			refusal.Invalid, "recipe", "there is no recipe %q; the recipes are: %s", spec.Recipe,
			strings.Join(book.Names(), ", "),
		)
	}
	if r.Role != "" && !by.Allows(farm.Role(r.Role)) {
		return refusal.New(
			refusal.Forbidden, "recipe", "only a %s may submit runs of the recipe %s; ask one", r.Role, r.Name,
		)
	}
	if err := r.CanRead(spec.Scene); err != nil {
		return refusal.New(refusal.Invalid, "scene", "%v", err)
	}
	if spec.Takes == (farm.Amounts{}) {
		if spec.Takes, err = r.Takes.Amounts(); err != nil {
			return refusal.New(refusal.Invalid, "recipe", "%v", err)
		}
	}
	values, err := r.Complete(spec.Values)
	if err != nil {
		return refusal.New(refusal.Invalid, "values", "%v", err)
	}
	if spec.Passes, err = r.ChoosePasses(spec.PassNames()); err != nil {
		return refusal.New(refusal.Invalid, "passes", "%v", err)
	}
	if spec.Stall == 0 {
		spec.Stall = time.Duration(r.Stall).Seconds()
	}
	spec.Licence, spec.Once = r.Licence, !r.Repeatable
	spec.RecipeVersion = d.recipes.Newest(r.Name)
	spec.Recipe, spec.Mode, spec.Values = r.Name, r.Mode, values
	spec.Picture, spec.Ending = r.Picture, r.FrameEnding(values)
	return nil
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

// TakenError says that a run cannot have a number, and which it may have.
type TakenError struct{ Next int }

// Error says so.
func (e *TakenError) Error() string {
	return fmt.Sprintf("the number is taken; the next is %d", e.Next)
}

// Submitted returns the run that was submitted with a key, or false. A *refusal.Refusal
// says that something else was asked for under it.
func (d *Desk) Submitted(ctx context.Context, key, digest string) (out Submitted, known bool, err error) {
	err = d.do(ctx, func(t *transaction) error {
		var run *farm.Run
		if run, err = t.submitted(key, digest); run != nil && err == nil {
			out, known = t.submittedView(run, true), true
		}
		return err
	})
	return out, known, err
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

// NextNumber returns the least number from one on that a run may have, and the
// folder that it then writes into: no other run writes there.
func (d *Desk) NextNumber(ctx context.Context, spec farm.Spec, from int) (number int, output string, err error) {
	err = d.do(ctx, func(t *transaction) error {
		spec.Number = t.nextNumber(spec, from)
		number, output = spec.Number, outputOf(spec)
		return nil
	})
	return number, output, err
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
	Lack   Lack   // what nodes have to get first
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
	return Submitted{
		t.d.views.RunView(run, t.Now), again, capacity.Able(t.State, run), capacity.Nobody(t.State, run), t.lackOf(run),
	}
}

// Submit puts a checked submission into the queue. The same Key gives the run
// of the first submit again.
func (d *Desk) Submit(ctx context.Context, sub Submission) (out Submitted, err error) {
	err = d.do(ctx, func(t *transaction) error {
		if run, err := t.submitted(sub.Key, sub.Digest); err != nil || run != nil {
			if err == nil {
				out = t.submittedView(run, true)
			}
			return err
		}
		spec := sub.Spec
		if t.State.Projects[spec.Project] == nil {
			return refusal.New(
				refusal.Invalid, "project", "there is no project %q; vexillum project list shows them", spec.Project,
			)
		}
		if spec.Project == farm.OwnProject && sub.Actor != farm.OwnActor && !sub.Own {
			return refusal.New(
				refusal.Conflict, "project", "the project %s is the farm's own; choose another", spec.Project,
			)
		}
		if err := t.place(&spec, sub); err != nil {
			return err
		}
		spec.Owner, spec.Names = sub.Actor, t.State.Projects[spec.Project].Names
		state := farm.RunQueued
		if sub.Held {
			state = farm.RunHeld
		}
		id := t.State.LastRun + 1
		if spec.Sequence == farm.ScoutsFirst {
			spec.Scouts = deal.Scouts(d.m, &farm.Run{ID: id, Spec: spec})
		}
		if spec.StartOn == 0 && !sub.AtOnce && !proven(t.State, spec) {
			spec.StartOn = startOn
		}
		for _, other := range t.State.Queue() {
			if sub.First && other.Terms.Level.Rank() == spec.Level.Rank() {
				spec.Put = min(spec.Put, other.Terms.Put-1)
			}
		}
		record := farm.RunSubmitted{
			Run: id, Spec: spec, State: state, Order: t.State.LastOrder + 1, Key: sub.Key, Digest: sub.Digest,
			At:     t.Now,
			Reason: fmt.Sprintf("submitted by %s: %d frames, %s", sub.Actor, spec.Frames.Len(), state),
		}
		if sub.Dry {
			out = t.submittedView(record.Opened(), false)
			out.Run.ID = 0
			d.m.Forget(id) // another run will have its number
			d.dealer.Forget(id)
			return nil
		}
		t.Append(
			record,
			farm.Audited{
				Actor: sub.Actor, Action: "submit run", Subject: spec.Name(), To: string(state), Run: id,
				At: t.Now,
			},
		)
		out = t.submittedView(t.State.Runs[id], false)
		return nil
	})
	return out, err
}

// place gives a run its number, its folder and the shot that it is of, after the
// runs of its job before.
func (t *transaction) place(spec *farm.Spec, sub Submission) error {
	before := t.State.NewestOf(spec.Project, spec.Job)
	var earlier *farm.Spec
	if before != nil {
		if before.Spec.Job != spec.Job {
			return refusal.New(
				refusal.Conflict, "job",
				"the project %s already has a job %s, and some file systems cannot tell the two names apart; "+
					"choose another name",
				spec.Project, before.Spec.Job,
			)
		}
		earlier = &before.Spec
	}
	if spec.Number = t.nextNumber(*spec, sub.Number); sub.Number != 0 && spec.Number != sub.Number {
		return &TakenError{spec.Number}
	}
	spec.Output = outputOf(*spec)
	shot, err := farm.ChooseShot(spec.Frames, sub.Shot, earlier, sub.Scene)
	if err != nil {
		return refusal.New(refusal.Invalid, "frames", "%v", err)
	}
	spec.Shot = shot
	return nil
}

// startOn is how many nodes a run starts on whose scene nobody has rendered yet.
const startOn = 3

// proven reports whether a frame of the same scene has been rendered before.
func proven(s *farm.State, spec farm.Spec) bool {
	for _, other := range s.RunsOf(spec.Project, spec.Job) {
		if other.Spec.Scene == spec.Scene && other.Spec.Recipe == spec.Recipe && !other.Done.Empty() {
			return true
		}
	}
	return false
}

func sameFramePlace(s *farm.State, a, b string) bool {
	return a == b || s.Projects[a] != nil && s.Projects[b] != nil && s.Projects[a].Frames == s.Projects[b].Frames
}

// Steering is what a person may do to a run.
type Steering string

// The ways to steer a run.
const (
	Hold    Steering = "hold"
	Release Steering = "release"
	Cancel  Steering = "cancel"
	Retry   Steering = "retry"
)

// How says how a run is steered.
type How struct {
	Now    bool   // a hold stops frames in flight, too
	Reason string // told with what became of the run; may be empty
}

// told adds the reason to what is told.
func (h How) told(what string) string {
	if h.Reason == "" {
		return what
	}
	return what + ": " + h.Reason
}

// Steer holds, releases or cancels a run, or retries its parked frames. An
// artist may steer own runs only. A run that already is as asked stays as it is.
func (d *Desk) Steer(ctx context.Context, id farm.RunID, what Steering, how How, by farm.Person) (wire.Run, error) {
	var view wire.Run
	err := d.do(ctx, func(t *transaction) error {
		run := t.State.Runs[id]
		if run == nil {
			return refusal.New(refusal.NotFound, "run", "there is no run %d", id)
		}
		name, decided := run.Spec.Name(), d.e.Decided()
		if run.Spec.Owner != by.Name && !by.Role.Allows(farm.Wrangler) {
			return refusal.New(
				refusal.Forbidden, "", "%s belongs to %s; only a wrangler may %s it", name, run.Spec.Owner, what,
			)
		}
		before := run.State
		if err := t.steer(run, what, how, by.Name); err != nil {
			return err
		}
		if d.e.Decided() > decided {
			t.Append(
				farm.Audited{
					Actor: by.Name, Action: string(what) + " run", Subject: name, From: string(before),
					To: string(run.State), Run: id, At: t.Now,
				},
			)
		}
		view = d.views.RunView(run, t.Now)
		return nil
	})
	return view, err
}

// steer decides what steering a run does, in the name of a person.
func (t *transaction) steer(run *farm.Run, what Steering, how How, by string) error {
	name := run.Spec.Name()
	switch what {
	case Hold:
		if run.State.Closed() {
			return refusal.New(refusal.Conflict, "", "%s is %s; there is nothing to hold", name, run.State)
		}
		if run.State != farm.RunHeld {
			t.Append(farm.RunMoved{Run: run.ID, State: farm.RunHeld, Reason: how.told("held by " + by), At: t.Now})
		}
		if how.Now {
			t.endLeases(run, "the run was held at once by "+by)
		}
	case Release:
		if run.State.Closed() {
			return refusal.New(refusal.Conflict, "", "%s is %s and cannot be released", name, run.State)
		}
		if run.Spec.Wait && !run.Terms.Scouted && !run.StartedAt.IsZero() {
			terms := run.Terms
			terms.Scouted = true
			t.Append(
				farm.RunSet{
					Run: run.ID, Terms: terms,
					Reason: by + " has looked at the scouts: the rest may be rendered", At: t.Now,
				},
			)
		}
		if run.State == farm.RunHeld {
			moved := farm.RunMoved{Run: run.ID, State: reopened(run), Reason: "released by " + by, At: t.Now}
			if run.FoundScene != "" {
				moved.Scene = run.FoundScene
				moved.Reason += ", to go on with the scene as it was found"
			}
			t.Append(moved)
		}
	case Cancel:
		if run.State == farm.RunCancelled {
			break
		}
		if run.State.Closed() {
			return refusal.New(refusal.Conflict, "", "%s is %s; there is nothing to cancel", name, run.State)
		}
		reason := how.told("cancelled by " + by)
		t.endLeases(run, reason)
		t.Append(farm.RunMoved{Run: run.ID, State: farm.RunCancelled, Reason: reason, At: t.Now})
	case Retry:
		if run.Parked.Empty() {
			return refusal.New(refusal.Conflict, "", "%s has no parked frame", name)
		}
		if run.State == farm.RunCancelled {
			return refusal.New(refusal.Conflict, "", "%s is cancelled; submit it again", name)
		}
		parked := run.Parked
		if run.State.Closed() {
			t.Append(farm.RunMoved{Run: run.ID, State: farm.RunQueued, Reason: "opened again by " + by, At: t.Now})
		}
		t.Append(
			farm.FramesRetried{
				Run: run.ID, Frames: parked,
				Reason: fmt.Sprintf("%s asked for frames %s to be tried again", by, parked), At: t.Now,
			},
		)
	}
	return nil
}

// Redo renders frames of a run again that are done. The old pictures stay until
// new ones are verified, and are then kept aside.
func (d *Desk) Redo(ctx context.Context, id farm.RunID, set frames.Set, by farm.Person) (view wire.Run, err error) {
	err = d.do(ctx, func(t *transaction) error {
		run := t.State.Runs[id]
		if run == nil {
			return refusal.New(refusal.NotFound, "run", "there is no run %d", id)
		}
		name := run.Spec.Name()
		switch missing := set.Minus(run.Done); {
		case run.Spec.Owner != by.Name && !by.Role.Allows(farm.Wrangler):
			return refusal.New(
				refusal.Forbidden, "", "%s belongs to %s; only a wrangler may redo its frames", name, run.Spec.Owner,
			)
		case !missing.Minus(run.Spec.Frames).Empty():
			return refusal.New(
				refusal.Invalid, "frames", "%s has no %s", name, triage.FramesText(missing.Minus(run.Spec.Frames)),
			)
		case !missing.Minus(run.Redo).Empty():
			return refusal.New(
				refusal.Conflict, "frames",
				"only frames that are done can be redone, and of %s %s not; nothing was changed", name,
				isNot(missing.Minus(run.Redo)),
			)
		case run.State == farm.RunCancelled:
			return refusal.New(refusal.Conflict, "", "%s is cancelled; submit it again", name)
		}
		again := set.Intersect(run.Done) // the rest is on its way already
		if !again.Empty() {
			reason := fmt.Sprintf("%s asked for %s to be rendered again", by.Name, triage.FramesText(again))
			if run.State.Closed() {
				t.Append(farm.RunMoved{Run: id, State: farm.RunQueued, Reason: "opened again by " + by.Name, At: t.Now})
			}
			t.Append(
				farm.FramesRedone{Run: id, Frames: again, Reason: reason, At: t.Now},
				farm.Audited{
					Actor: by.Name, Action: "redo frames", Subject: name, To: again.Brief(), Run: id,
					At: t.Now,
				},
			)
		}
		view = d.views.RunView(run, t.Now)
		return nil
	})
	return view, err
}

// isNot names frames for a sentence in which they are not.
func isNot(set frames.Set) string {
	if set.Len() == 1 {
		return triage.FramesText(set) + " is"
	}
	return triage.FramesText(set) + " are"
}

// reopened returns the state of a run that is released.
func reopened(run *farm.Run) farm.RunState {
	if run.StartedAt.IsZero() {
		return farm.RunQueued
	}
	return farm.RunRendering
}

func (t *transaction) endLeases(run *farm.Run, reason string) {
	for l := range run.OpenLeases {
		t.Append(farm.LeaseEnded{Lease: l.ID, Node: l.Node, Run: run.ID, Reason: reason, At: t.Now})
	}
}

// BundleBefore returns the bundle of the newest run of a job that has one; empty: none has.
func (d *Desk) BundleBefore(ctx context.Context, project, job string) (id string, err error) {
	err = d.do(ctx, func(t *transaction) error {
		newest := farm.RunID(0)
		for _, run := range t.State.RunsOf(project, job) {
			if run.Spec.Bundle != "" && run.ID > newest {
				newest, id = run.ID, run.Spec.Bundle
			}
		}
		return nil
	})
	return id, err
}

// Bundles returns the bundles that open runs need.
func (d *Desk) Bundles(ctx context.Context) (out []string, err error) {
	err = d.do(ctx, func(t *transaction) error {
		for _, run := range t.State.Queue() {
			if run.Spec.Bundle != "" && !slices.Contains(out, run.Spec.Bundle) {
				out = append(out, run.Spec.Bundle)
			}
		}
		return nil
	})
	return out, err
}
