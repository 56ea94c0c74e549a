package queue

import (
	"cmp"
	"math"
	"path"
	"path/filepath"
	"strings"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/paths"
	"vexillum/internal/core/trait"
	"vexillum/internal/recipe"
	"vexillum/internal/service/refusal"
)

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

// checkFailing fills in how often frames are tried, and looks when they have failed.
func checkFailing(spec *farm.Spec) error {
	if spec.Tries == 0 {
		spec.Tries = 3
	}
	if spec.Tries < 1 || spec.Tries > maxTries {
		return refusal.New(refusal.Invalid, "tries", "tries a frame must be 1 to %d, not %d", maxTries, spec.Tries)
	}
	if spec.HoldAfter < 0 {
		return refusal.New(
			refusal.Invalid,
			"hold_after",
			"a run is held after 1 failed frame or more, or as the farm judges",
		)
	}
	if spec.Stall < 0 || spec.Stall > mostStall || spec.Stall > 0 && spec.Stall < 1 {
		return refusal.New(
			refusal.Invalid, "stall_seconds",
			"a renderer may be silent for 1 second to 30 days, or as long as its frames are expected to take",
		)
	}
	return nil
}

// CheckSubmission returns the submission with all that is left out filled in,
// or a *refusal.Refusal. It looks at the request alone, not at the farm.
func (d *Desk) CheckSubmission(sub Submission) (Submission, error) {
	spec := &sub.Spec
	if spec.Job != "" {
		if err := farm.CheckJobName(spec.Job); err != nil {
			return sub, refusal.New(refusal.Invalid, "job", "%v", err)
		}
	}
	if err := checkVariant(sub.Variant); err != nil {
		return sub, err
	}
	if spec.Kind == "" {
		spec.Kind = farm.Final
	}
	if spec.Kind != farm.Proof && spec.Kind != farm.Final && spec.Kind != farm.Correction {
		return sub, refusal.New(refusal.Invalid, "kind", "a run is a proof, a final or a correction, not %q", spec.Kind)
	}
	sub.sized = spec.Width != 0 || spec.Height != 0
	if !sub.sized {
		spec.Width, spec.Height = 1920, 1080
	}
	if err := CheckSize(*spec); err != nil {
		return sub, err
	}
	if err := pastDue(spec.Terms.Due, d.w.Now()); err != nil {
		return sub, err
	}
	if err := checkFailing(spec); err != nil {
		return sub, err
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
	if err := checkParts(sub); err != nil {
		return sub, err
	}
	if spec.Frames.Empty() && !sub.Whole {
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
	if err := checkPaths(spec, sub.reads() >= 0); err != nil {
		return sub, err
	}
	if err := paths.Check(spec.Output); spec.Output != "" && err != nil { // any machine may have to make it
		return sub, refusal.New(refusal.Invalid, "output", "the output folder cannot be made everywhere: %v", err)
	}
	if spec.Output == "" && len(sub.Variant) == 0 { // else NameJobs fills it in
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
	r, err := d.chooseRecipe(spec, sub.Role)
	if err != nil {
		return sub, err
	}
	return sub, sub.checkReads(r)
}

// Most that pictures are larger than somebody says, and the least part of that.
const (
	mostScale  = 16
	leastScale = 0.001
)

// checkParts looks at which part of frames and of the size is asked for.
func checkParts(sub Submission) error {
	if sub.Every < 0 {
		return refusal.New(refusal.Invalid, "every", "one frame in %d cannot be rendered; give 1 or more", sub.Every)
	}
	if s := sub.Scale; s != 0 && !(s >= leastScale && s <= mostScale) {
		return refusal.New(
			refusal.Invalid, "scale", "pictures may be from %g to %d times the size, not %g", leastScale, mostScale, s,
		)
	}
	return nil
}

// Choose chooses the frames and the size of a checked submission, once its scene is known:
// the whole shot where no frames are said, and then the part that is asked for. earlier is
// the shot range of the job's newest run; nil: there is none.
func (sub *Submission) Choose(earlier *frames.Span) error {
	spec := &sub.Spec
	if spec.Frames.Empty() {
		whole := cmp.Or(sub.Shot, sub.Scene.Range, earlier)
		if whole == nil {
			return refusal.New(
				refusal.Invalid,
				"frames",
				"neither the scene nor a run of the job before says how long the shot is; say which frames, such as 1-180",
			)
		}
		spec.Frames = frames.Of(*whole)
	}
	if n := spec.Frames.Len(); sub.Every > 1 {
		spec.Frames = spec.Frames.Spread(max(min(n, leastSpread), (n+sub.Every-1)/sub.Every))
	}
	if sub.Scale != 0 {
		spec.Width, spec.Height = scaled(spec.Width, sub.Scale), scaled(spec.Height, sub.Scale)
	}
	return CheckSize(*spec)
}

// leastSpread is how many frames at least are spread over a shot, so that its ends and
// its middle are seen.
const leastSpread = 3

// scaled returns a part of a side, even where the side was: movies need that.
func scaled(side int, scale float64) int {
	out := max(1, int(math.Round(float64(side)*scale)))
	if side%2 == 0 && out%2 == 1 {
		out++
	}
	return out
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
func checkPaths(spec *farm.Spec, reads bool) error {
	for _, p := range []struct{ field, text, what string }{
		{"scene", spec.Scene, "scene"}, {"output", spec.Output, "output folder"},
	} {
		if p.text == "" && (p.field == "output" || reads) {
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
func (d *Desk) chooseRecipe(spec *farm.Spec, by farm.Role) (r *recipe.Recipe, err error) {
	book := d.recipes.Book()
	if spec.Recipe == "" && spec.Scene == "" {
		return nil, refusal.New(
			refusal.Invalid, "recipe", "without a scene its recipe has to be named, such as movie",
		)
	}
	if spec.Recipe == "" {
		fitting := book.ForScene(path.Ext(spec.Scene))
		if len(fitting) == 0 {
			return nil, refusal.New(
				refusal.Invalid, "scene", "no recipe reads scenes that end in %q; the recipes are: %s",
				path.Ext(spec.Scene),
				strings.Join(book.Names(), ", "),
			)
		}
		r = fitting[0]
	} else if r = book[spec.Recipe]; r == nil {
		return nil, refusal.New(
			refusal.Invalid, "recipe", "there is no recipe %q; the recipes are: %s", spec.Recipe,
			strings.Join(book.Names(), ", "),
		)
	}
	if r.Role != "" && !by.Allows(farm.Role(r.Role)) {
		return nil, refusal.New(
			refusal.Forbidden, "recipe", "only a %s may submit runs of the recipe %s; ask one", r.Role, r.Name,
		)
	}
	if err := r.CanRead(spec.Scene); err != nil && spec.Scene != "" {
		return nil, refusal.New(refusal.Invalid, "scene", "%v", err)
	}
	if spec.Takes == (farm.Amounts{}) {
		if spec.Takes, err = r.Takes.Amounts(); err != nil {
			return nil, refusal.New(refusal.Invalid, "recipe", "%v", err)
		}
	}
	values, err := r.Complete(spec.Values)
	if err != nil {
		return nil, refusal.New(refusal.Invalid, "values", "%v", err)
	}
	if spec.Passes, err = r.ChoosePasses(spec.PassNames()); err != nil {
		return nil, refusal.New(refusal.Invalid, "passes", "%v", err)
	}
	if spec.Stall == 0 {
		spec.Stall = time.Duration(r.Stall).Seconds()
	}
	spec.Licence, spec.Once = r.Licence, !r.Repeatable
	spec.RecipeVersion = d.recipes.Newest(r.Name)
	spec.Recipe, spec.Mode, spec.Values = r.Name, r.Mode, values
	spec.Picture, spec.Ending = r.Picture, r.FrameEnding(values)
	return r, nil
}
