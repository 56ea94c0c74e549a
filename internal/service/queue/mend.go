package queue

import (
	"context"
	"fmt"
	"strings"

	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/triage"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// Mend says that the scene of a run was mended, and as what it was found.
type Mend struct {
	Scene string   // as in farm.Run.Scene
	Files []string // that have changed since the run was submitted, as far as it is known
	Redo  bool     // render again what is done, too
	Dry   bool
}

// ToMend returns what a run was submitted with, and since when its scene is the one that it is
// rendered from, to somebody who may say that it was mended.
func (d *Desk) ToMend(ctx context.Context, id farm.RunID, by farm.Person) (spec farm.Spec, scene string, err error) {
	err = d.do(ctx, func(t *transaction) error {
		run := t.State.Runs[id]
		if run == nil {
			return refusal.New(refusal.NotFound, "run", "there is no run %d", id)
		}
		spec, scene = run.Spec, run.Scene()
		switch {
		case spec.Bundle != "" || spec.SceneText != "":
			return refusal.New(
				refusal.Conflict, "run", "the scene of %s was sent with it, and what is changed elsewhere does not count; "+
					"submit the mended scene again, with --missing to keep the frames that are done", spec.Name(),
			)
		case spec.Scene == "":
			return refusal.New(refusal.Conflict, "run", "%s has no scene; it reads the frames of another run", spec.Name())
		case run.State == farm.RunCancelled:
			return refusal.New(refusal.Conflict, "", "%s is cancelled; submit it again", spec.Name())
		}
		return t.maySteer(run, by, "say that its scene was mended")
	})
	return spec, scene, err
}

// Mend lets a run go on with its scene as it is now: what is in flight begins again, parked
// frames are tried again, and a run that the farm holds is released. One that a person holds
// stays held.
func (d *Desk) Mend(ctx context.Context, id farm.RunID, m Mend, by farm.Person) (out wire.Mended, err error) {
	err = d.do(ctx, func(t *transaction) error {
		run := t.State.Runs[id]
		if run == nil {
			return refusal.New(refusal.NotFound, "run", "there is no run %d", id)
		}
		if err := t.maySteer(run, by, "say that its scene was mended"); err != nil {
			return err
		}
		name, changed := run.Spec.Name(), m.Scene != run.Scene()
		parked, old := run.NeedsHand(), run.Done
		held := run.State == farm.RunHeld
		// One that is held for something else, such as a step that does not come, is not mended by this.
		release := held && (run.Held == farm.HeldChanged || run.Held == farm.HeldFailing)
		switch {
		case run.State == farm.RunCancelled:
			return refusal.New(refusal.Conflict, "", "%s is cancelled; submit it again", name)
		case !changed && parked.Empty() && !release && !m.Redo:
			return refusal.New(
				refusal.Conflict, "", "nothing of the scene of %s has changed, no frame of it is parked, and it is not held",
				name,
			)
		case run.State.Closed() && parked.Empty() && !m.Redo:
			return refusal.New(
				refusal.Conflict, "", "all frames of %s are done; to render them again with the scene as it is now, say so: "+
					"--redo", name,
			)
		}
		out = wire.Mended{
			DryRun: m.Dry, Changed: wire.List(m.Files), Old: old.String(), OldCount: old.Len(),
			Again: parked.String(), AgainCount: parked.Len(), Redone: m.Redo,
		}
		out.Sentences = mendSentences(run, m, changed, release)
		if !m.Dry {
			t.mend(run, m, changed, release, by.Name)
		}
		out.Run = d.views.RunView(run, t.Now)
		return nil
	})
	return out, err
}

// mend appends what follows from a mended scene.
func (t *transaction) mend(run *farm.Run, m Mend, changed, release bool, by string) {
	old, parked := run.Done, run.NeedsHand()
	if changed {
		t.endLeases(run, by+" has mended the scene")
	}
	if !parked.Empty() {
		t.retry(run, parked, by)
	}
	if m.Redo && !old.Empty() {
		if run.State.Closed() {
			t.Append(farm.RunMoved{Run: run.ID, State: farm.RunQueued, Reason: "opened again by " + by, At: t.Now})
		}
		t.Append(farm.FramesRedone{
			Run: run.ID, Frames: old, At: t.Now,
			Reason: fmt.Sprintf("%s has mended the scene and asked for %s to be rendered again", by, triage.FramesText(old)),
		})
	}
	moved := farm.RunMoved{Run: run.ID, State: run.State, Held: run.Held, Reason: run.Reason, At: t.Now}
	if release {
		moved.State, moved.Held, moved.Reason = t.reopened(run), "", by+" has mended the scene"
	}
	if changed || run.FoundScene != "" { // also where the scene is again as it was
		moved.Scene = m.Scene
	}
	if changed {
		moved.Reason = fmt.Sprintf("%s has mended the scene: it goes on with it as it is now", by)
		if run.State == farm.RunHeld && !release {
			moved.Reason = run.Reason + "; " + by + " has mended the scene meanwhile"
		}
		if !old.Empty() && !m.Redo {
			moved.Reason += "; " + triage.OfOldState(old)
		}
	}
	t.Append(moved, farm.Audited{
		Actor: by, Action: "mend scene", Subject: run.Spec.Name(), To: brief(m.Files), Run: run.ID, At: t.Now,
	})
}

// mostFiles bounds the files that a sentence names.
const mostFiles = 5

func brief(files []string) string {
	if n := len(files); n > mostFiles {
		files = append(files[:mostFiles:mostFiles], english.Plural(n-mostFiles, "other file", ""))
	}
	return english.WordSeries(files, "and")
}

// mendSentences says what follows from a mended scene.
func mendSentences(run *farm.Run, m Mend, changed, release bool) (out []string) {
	say := func(text string, args ...any) { out = append(out, fmt.Sprintf(text, args...)) }
	parked, old := run.NeedsHand(), run.Done
	switch {
	case !changed:
		say("Nothing of the scene has changed since it was last taken.")
	case len(m.Files) == 0:
		say("The scene, or a file that it needs, has changed; it is not known which.")
	default:
		say("Changed: %s.", brief(m.Files))
	}
	flying := 0
	for l := range run.OpenLeases {
		flying += l.Left.Len()
	}
	if changed && flying > 0 {
		say("Begun again: %s that nodes hold.", english.Plural(flying, "frame", ""))
	}
	if !parked.Empty() {
		say("Tried again: %s.", triage.FramesText(parked))
	}
	switch {
	case old.Empty():
	case m.Redo:
		say("Rendered again: %s; the old pictures stay until the new ones are verified.", triage.FramesText(old))
	case changed:
		text := triage.OfOldState(old)
		say("%s. To render that again, too: vexillum mended %s --redo.", upperFirst(text), run.Spec.Name())
	}
	switch {
	case release:
		say("Released, as it was held by the farm.")
	case run.State == farm.RunHeld:
		say("It stays held.")
	}
	return out
}

func upperFirst(text string) string { return strings.ToUpper(text[:1]) + text[1:] }

// HeldAsChanged returns what a run was submitted with, and its scene, that is held as that has
// changed; false for any other.
func (d *Desk) HeldAsChanged(ctx context.Context, id farm.RunID) (spec farm.Spec, scene string, found bool) {
	err := d.do(ctx, func(t *transaction) error {
		if run := t.State.Runs[id]; run != nil && run.FoundScene != "" {
			spec, scene, found = run.Spec, run.Scene(), true
		}
		return nil
	})
	return spec, scene, found && err == nil
}
