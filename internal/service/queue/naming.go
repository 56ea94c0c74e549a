package queue

import (
	"cmp"
	"context"
	"path"
	"slices"
	"strings"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/refusal"
)

// Named is a submission whose job has a name.
type Named struct {
	Submission
	Remark string // why it is not called as its scene, in a sentence; empty: it is
}

// NameJobs names the jobs of submissions that come together, and their output folders where
// nobody has chosen them; their settings must be complete. A name that somebody has chosen must
// not be that of a job that renders something else. The error is a *[BatchError] of the first
// that cannot be named.
func (d *Desk) NameJobs(ctx context.Context, subs []Submission) (out []Named, err error) {
	out = make([]Named, 0, len(subs))
	naming := map[string]*farm.Naming{}
	for len(out) < len(subs) { // a few at a time, so that they do not hold the loop
		err := d.do(ctx, func(t *transaction) error {
			from := len(out)
			for i := from; i < min(len(subs), from+preparedAtOnce); i++ {
				project := subs[i].Spec.Project
				if naming[project] == nil {
					naming[project] = &farm.Naming{State: t.State, Project: project}
				}
				named, err := t.name(subs[i], naming[project], out)
				if err != nil {
					return &BatchError{i, err}
				}
				out = append(out, named)
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// name names one submission that comes behind others.
func (t *transaction) name(sub Submission, naming *farm.Naming, before []Named) (out Named, err error) {
	spec := &sub.Spec
	subject, read := spec.Subject(), ""
	if at := sub.reads(); at >= 0 && subject.Scene == "" {
		w := sub.After[at]
		if w.Of >= 0 && w.Of < len(before) {
			subject.Of = before[w.Of].Spec.Job
		} else {
			from, err := t.waitedFor(w, spec.Project, sub.sight(t.State), &together{})
			if err != nil {
				return out, err
			}
			subject.Of = from.Spec.Job
		}
		read = subject.Of + "_" + cmp.Or(spec.Recipe, "from")
	}
	ending := ""
	for _, part := range sub.Variant {
		ending += "_" + part
	}
	plain := spec.Job
	if plain == "" {
		var other *farm.HolderError
		base := read
		if base == "" {
			base = farm.JobNameOf(subject.Scene)
		}
		chosen := slices.Contains(sub.Given, "camera") || slices.Contains(sub.Given, "layer")
		plain, spec.Job, other = naming.Choose(base, ending, chosen, subject)
		if other != nil && plain != base {
			out.Remark = "It is called " + spec.Job + ", as " + other.Name + " renders " + other.Holder.String() + "."
		}
	} else {
		spec.Job = plain + ending
		if err := naming.Take(spec.Job, subject); err != nil {
			return out, refusal.New(refusal.Conflict, "job", "%v", err)
		}
	}
	if err := farm.CheckJobName(spec.Job); err != nil {
		return out, refusal.New(refusal.Invalid, "job", "%v", err)
	}
	spec.Output = cmp.Or(spec.Output, plain)
	if len(sub.Variant) > 0 {
		spec.Output = path.Join(append([]string{spec.Output}, sub.Variant...)...)
	}
	sub.Variant, sub.Subject = nil, subject
	out.Submission = sub
	return out, nil
}

// mostVariants bounds what tells runs apart that are asked for as one.
const mostVariants = 16

// checkVariant refuses what cannot stand in a name and be a folder.
func checkVariant(parts []string) error {
	if len(parts) > mostVariants {
		return refusal.New(refusal.Invalid, "variant", "a variant has at most %d parts", mostVariants)
	}
	for _, part := range parts {
		if err := farm.CheckJobName("x" + part); err != nil || strings.Trim(part, ".") == "" {
			return refusal.New(
				refusal.Invalid, "variant", "a part of a variant cannot be %.80q: use letters, digits, dots, hyphens and "+
					"underscores", part,
			)
		}
	}
	return nil
}
