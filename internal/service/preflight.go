package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/dustin/go-humanize/english"
	"github.com/maruel/natural"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/publish"
	"vexillum/internal/recipe"
	"vexillum/internal/service/fleet"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/queue"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// Bounds of a preflight.
const (
	mostPreflight  = 500              // nodes that are asked
	preflightTime  = 8 * time.Second  // for all answers; with a frame on each node it is more
	preflightFrame = 60 * time.Second // for one small frame
	clockOff       = 30 * time.Second
	smallSide      = 160     // pixels of the longer side of a small frame
	leastDisk      = 1 << 30 // bytes that have to be free besides what is staged
)

// Preflight asks each node that may take part in something whether it really can: side by
// side, also those that are at work.
func (s *Service) Preflight(ctx context.Context, in wire.Preflighting, by farm.Person) (out wire.Preflight, err error) {
	began := time.Now()
	f, err := s.Floor()
	if err != nil {
		return out, err
	}
	done, err := s.preflighting.take(ctx, by.Name, preflightFrame)
	if err != nil {
		return out, err
	}
	if done == nil {
		return out, refusal.New(refusal.Conflict, "", "your preflight before this one is not over; try again")
	}
	defer done()
	spec, err := s.preflown(ctx, f, in, by)
	if err != nil {
		return out, err
	}
	candidates, err := f.Fleet.Candidates(ctx, spec, in.Nodes)
	if err != nil {
		return out, err
	}
	out.Left = max(0, len(candidates)-mostPreflight)
	rows, err := s.askAll(ctx, candidates, spec, in.Frame)
	if err != nil {
		return out, err
	}
	name := spec.Job
	if spec.Number > 0 {
		name = spec.Name()
	}
	out.Name, out.Nodes, out.Seconds = name, rows, time.Since(began).Seconds()
	out.Questions = asQuestions(rows)
	for i := range rows {
		rows[i].Answers = inOrder(rows[i].Answers, out.Questions)
		if rows[i].Passes {
			out.Passing++
		} else {
			out.Failing++
		}
	}
	slices.SortFunc(rows, func(a, b wire.PreflightNode) int {
		if a.Passes != b.Passes {
			return cmp.Compare(boolInt(a.Passes), boolInt(b.Passes))
		}
		return natural.Compare(a.Name, b.Name)
	})
	return out, nil
}

// askAll asks nodes side by side about a run, the first of them where there are very many;
// with a frame each renders a small one.
func (s *Service) askAll(
	ctx context.Context, candidates []fleet.Candidate, spec farm.Spec, frame bool,
) ([]wire.PreflightNode, error) {
	f, err := s.Floor()
	if err != nil {
		return nil, err
	}
	r := f.Recipes.At(spec.Recipe, spec.RecipeVersion)
	if r == nil {
		return nil, refusal.New(refusal.Conflict, "recipe", "the recipe %s is not there any more", spec.Recipe)
	}
	candidates = candidates[:min(len(candidates), mostPreflight)]
	limit := preflightTime
	if frame {
		limit = preflightFrame
	}
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	rows := make([]wire.PreflightNode, len(candidates))
	var asked sync.WaitGroup
	for i, c := range candidates {
		asked.Go(func() { rows[i] = s.preflightNode(ctx, c, spec, r, frame) })
	}
	asked.Wait()
	return rows, nil
}

func boolInt(b bool) int {
	if b {
		return 1
	}
	return 0
}

// preflown returns what is to be rendered: of a run, or of what would be submitted.
func (s *Service) preflown(
	ctx context.Context, f *floor.Floor, in wire.Preflighting, by farm.Person,
) (spec farm.Spec, err error) {
	asked := Asked{}
	switch {
	case boolInt(in.Submit != nil)+boolInt(in.Text != "")+boolInt(in.Run != 0) != 1:
		return spec, refusal.New(refusal.Invalid, "submit", "give either a run, or what would be submitted")
	case in.Run != 0:
		if _, err := f.Views.OneRun(ctx, farm.RunID(in.Run), f.People.Access().Sight(by)); err != nil {
			return spec, err
		}
		return f.Queue.SpecToAct(ctx, farm.RunID(in.Run), by, "ask nodes about it")
	case in.Submit != nil:
		asked.Submit = *in.Submit
	default:
		if asked, err = onlyOne(in); err != nil {
			return spec, err
		}
	}
	stills, err := oneByOne(asked, 0)
	if err != nil {
		return spec, err
	}
	asked = stills[0] // the others ask the same of nodes
	asked.DryRun = true
	subs, err := s.submissions(ctx, f, []Asked{asked}, by, "", "")
	if err == nil {
		p := preparing{s: s, f: f, looks: map[lookKey]*looked{}, roots: map[string]*rooted{}}
		var ready []prepared
		if ready, err = p.all(ctx, subs); err == nil {
			return ready[0].sub.Spec, nil
		}
	}
	var one *queue.BatchError
	if errors.As(err, &one) {
		err = one.Err
	}
	return spec, err
}

// onlyOne returns what a job file asks nodes for: one thing, or a preflight of it would say
// little.
func onlyOne(in wire.Preflighting) (Asked, error) {
	_, _, all, err := readJobs(wire.SubmitJobs{Text: in.Text, Proof: in.Proof})
	if err != nil {
		return Asked{}, err
	}
	for _, a := range all[1:] {
		first := all[0]
		if a.Project != first.Project || a.Scene != first.Scene || a.Recipe != first.Recipe || a.Needs != first.Needs {
			return Asked{}, refusal.New(
				refusal.Invalid, "text",
				"its runs do not all need the same of nodes; ask for one scene and recipe at a time",
			)
		}
	}
	return all[0], nil
}

// preflightNode asks one node.
func (s *Service) preflightNode(
	ctx context.Context, c fleet.Candidate, spec farm.Spec, r *recipe.Recipe, frame bool,
) wire.PreflightNode {
	row := wire.PreflightNode{ID: int64(c.ID), Name: c.Name, Answers: c.Answers}
	if c.Online {
		task := wire.CheckTask{
			Recipe: r.Text(), SceneRoot: c.Roots.Scenes, Scene: spec.Scene, With: spec.With, SHA: spec.SceneSHA,
			Pin: spec.Pin, OutputRoot: c.Roots.Frames, Mark: publish.Mark(s.Life()), LaunchSettings: c.Settings,
			DiskBytes: leastDisk + spec.BundleBytes + 32*int64(spec.Width)*int64(spec.Height),
		}
		if spec.Bundle != "" || spec.SceneText != "" { // it comes along
			task.Scene, task.SceneRoot = "", ""
		}
		if frame && spec.Scene != "" && spec.Bundle == "" {
			task.Frame = smallFrame(spec, c, r)
		}
		sent := time.Now()
		told, err := s.errand(ctx, c.ID, c.Name, wire.Errand{Check: &task}, nil)
		row.Answers = append(row.Answers, s.heard(told, err, sent)...)
	}
	row.Passes = !slices.ContainsFunc(row.Answers, func(a wire.PreflightAnswer) bool { return !a.Passes })
	return row
}

// heard returns what a node has answered, with how its clock compares.
func (s *Service) heard(told wire.ErrandTold, err error, sent time.Time) []wire.PreflightAnswer {
	fails := func(why string) []wire.PreflightAnswer {
		return []wire.PreflightAnswer{{
			Question: wire.AskReach, Says: why,
			Remedy: "look whether its node process runs, and is as new as the service",
		}}
	}
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		return fails("it did not answer in time")
	case err != nil:
		return fails(err.Error())
	case told.Error != "" || told.Checked == nil:
		return fails(cmp.Or(told.Error, "it has no answer"))
	}
	out := told.Checked.Answers
	// It was asked and has answered between two moments of the service's clock.
	now := s.o.Now()
	middle := now.Add(-time.Since(sent) / 2)
	off := told.Checked.Now.Sub(middle)
	if off.Abs() > clockOff {
		way := "ahead of"
		if off < 0 {
			way = "behind"
		}
		return append(out, wire.PreflightAnswer{
			Question: wire.AskClock, Says: fmt.Sprintf("it is %v %s that of the service", off.Abs().Round(time.Second), way),
			Remedy: "let it take the time from the same source",
		})
	}
	return append(out, wire.PreflightAnswer{Question: wire.AskClock, Passes: true, Says: "agrees"})
}

// smallFrame is the first frame of a run as a small picture.
func smallFrame(spec farm.Spec, c fleet.Candidate, r *recipe.Recipe) *wire.RecipeTask {
	first := spec.Frames.First()
	if spec.Tiles != nil {
		first = spec.Tiles.Frame
	}
	width, height := spec.Width, spec.Height
	if side := max(width, height); side > smallSide {
		width, height = max(1, width*smallSide/side), max(1, height*smallSide/side)
	}
	return &wire.RecipeTask{
		Recipe: r.Text(), SceneRoot: c.Roots.Scenes, Scene: spec.Scene, Frames: fmt.Sprint(first),
		Shot: frames.Of(spec.ShotRange().Span()).String(), Width: width, Height: height, Values: spec.Values,
		Passes: spec.PassNames(), LaunchSettings: c.Settings,
	}
}

// asQuestions returns the questions that some node has an answer to.
func asQuestions(rows []wire.PreflightNode) (out []string) {
	for _, q := range wire.PreflightQuestions() {
		if slices.ContainsFunc(rows, func(r wire.PreflightNode) bool {
			return slices.ContainsFunc(r.Answers, func(a wire.PreflightAnswer) bool { return a.Question == q })
		}) {
			out = append(out, q)
		}
	}
	return out
}

// inOrder puts answers in the order of the questions: of several to one, what fails; of
// none, that it was not asked.
func inOrder(answers []wire.PreflightAnswer, questions []string) []wire.PreflightAnswer {
	out := make([]wire.PreflightAnswer, 0, len(questions))
	for _, q := range questions {
		found := wire.PreflightAnswer{Question: q, Passes: true, Skipped: true}
		known := false
		for _, a := range answers {
			if a.Question == q && (!known || !a.Passes) {
				found, known = a, true
			}
		}
		out = append(out, found)
	}
	return out
}

// exclude lets a submission go to the nodes that passed a preflight alone, or returns why it
// goes to none.
func exclude(in *wire.Submit, seen wire.Preflight, least int) error {
	if seen.Passing < max(1, least) {
		why := ""
		for _, n := range seen.Nodes {
			for _, a := range n.Answers {
				if !a.Passes && why == "" {
					why = fmt.Sprintf("; %s: %s", n.Name, a.Says)
				}
			}
		}
		return refusal.New(
			refusal.Conflict,
			"preflight",
			"%d of %d nodes pass the preflight, and at least %d have to%s; nothing was submitted",
			seen.Passing,
			len(seen.Nodes),
			max(1, least),
			why,
		)
	}
	var parts []string
	if in.Needs != "" {
		parts = append(parts, "("+in.Needs+")")
	}
	for _, n := range seen.Nodes {
		if !n.Passes {
			parts = append(parts, "!(name=="+n.Name+")")
		}
	}
	in.Needs = strings.Join(parts, " && ")
	return nil
}

// SubmitPassing submits what somebody asks for to the nodes that pass a preflight, or not at
// all where fewer than least do.
func (s *Service) SubmitPassing(
	ctx context.Context, in wire.Submit, least int, by farm.Person, key, digest string,
) (Submitted, wire.Preflight, error) {
	asked := in
	seen, err := s.Preflight(ctx, wire.Preflighting{Submit: &asked}, by)
	if err != nil {
		return Submitted{}, seen, err
	}
	if err := exclude(&in, seen, least); err != nil {
		return Submitted{}, seen, err
	}
	done, err := s.SubmitOne(ctx, in, by, key, digest)
	if err != nil {
		return Submitted{}, seen, err
	}
	if seen.Failing > 0 {
		done.Remarks = append(done.Remarks, fmt.Sprintf(
			"%d of %s %s not pass the preflight, and %s nothing of it.", seen.Failing,
			english.Plural(len(seen.Nodes), "node", ""), english.PluralWord(seen.Failing, "does", "do"),
			english.PluralWord(seen.Failing, "gets", "get"),
		))
	}
	return done, seen, nil
}
