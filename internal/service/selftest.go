package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/publish"
	"vexillum/internal/selftest"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/queue"
	"vexillum/internal/service/refusal"
	"vexillum/internal/store"
	"vexillum/internal/wire"
)

// Test lets nodes render the small known frames of self-tests through the
// normal path, one for each of their renderers. A test that is under way is
// not begun again.
func (s *Service) Test(ctx context.Context, sel wire.Selection, by farm.Person) ([]wire.NodeTest, error) {
	f, err := s.Floor()
	if err != nil {
		return nil, err
	}
	nodes, err := f.Fleet.Chosen(ctx, sel)
	if err != nil {
		return nil, err
	}
	if err := s.prepareTests(ctx, f); err != nil {
		return nil, err
	}
	out := []wire.NodeTest{}
	for _, n := range nodes {
		tested := false
		for _, test := range selftest.Tests {
			fit := func(r wire.Renderer) bool { return r.Recipe == test.Recipe && r.Unfit == "" }
			if !slices.ContainsFunc(n.Renderers, fit) {
				continue
			}
			tested = true
			run, err := s.beginTest(ctx, f, n, test, by)
			if err != nil {
				return nil, err
			}
			result, err := s.testResult(ctx, n, test, run)
			if err != nil {
				return nil, err
			}
			out = append(out, result)
		}
		if !tested {
			out = append(
				out,
				wire.NodeTest{
					Node: n.ID, Name: n.Name, State: "failed",
					Sentence: "it has neither the practice renderer nor POV-Ray, so nothing can be tested",
				},
			)
		}
	}
	return out, nil
}

// prepareTests makes the farm's own project for tests, in a folder of the
// service. Nodes need not see it: scenes go with the leases, and frames come
// back through the service.
func (s *Service) prepareTests(ctx context.Context, f *floor.Floor) error {
	if s.o.Folder == "" {
		return refusal.New(refusal.Conflict, "", "this service has no folder in which it could keep self-tests")
	}
	scenes, pictures := filepath.Join(s.o.Folder, "self-test", "scenes"), filepath.Join(
		s.o.Folder, "self-test", "frames",
	)
	for _, dir := range []string{scenes, pictures} {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return fmt.Errorf("making the folder of self-tests: %w", err)
		}
	}
	for _, t := range selftest.Tests {
		if err := os.WriteFile(filepath.Join(scenes, t.Scene), []byte(t.Text), 0o644); err != nil {
			return fmt.Errorf("writing the scene of a self-test: %w", err)
		}
	}
	if roots, err := f.Setup.Roots(
		ctx, selftest.Project, runtime.GOOS,
	); err == nil && roots.Scenes == scenes && roots.Frames == pictures &&
		publish.Marked(pictures, s.Life()) == nil {
		return nil
	}
	self := farm.Person{Name: farm.OwnActor}
	for name, dir := range map[string]string{"self-test-scenes": scenes, "self-test-frames": pictures} {
		if _, err := s.SetPlace(
			ctx, name, wire.PlaceChange{Paths: map[string]string{runtime.GOOS: dir}}, "", self,
		); err != nil {
			return err
		}
	}
	title := "Self-tests of nodes"
	_, err := f.Setup.SetProject(
		ctx, selftest.Project,
		wire.ProjectChange{Title: &title, Scenes: "self-test-scenes", Frames: "self-test-frames"}, "", farm.OwnActor,
	)
	return err
}

func (s *Service) beginTest(
	ctx context.Context, f *floor.Floor, n wire.Node, test selftest.Test, by farm.Person,
) (wire.Run, error) {
	job := selftest.Job(n.Name, test.Recipe)
	runs, err := f.Views.RunsOf(ctx, selftest.Project, job)
	if err != nil {
		return wire.Run{}, err
	}
	for _, r := range runs {
		if r.EndedAt == nil {
			return r, nil
		}
	}
	done, err := s.Submit(ctx, queue.Submission{First: true, Own: true, Actor: by.Name, Spec: farm.Spec{
		Job: job, Project: selftest.Project, Kind: farm.Proof, Recipe: test.Recipe,
		Scene: test.Scene, SceneText: test.Text, Frames: frames.One(test.Frame), Width: test.Width,
		Height: test.Height, Needs: "name==" + n.Name, Takes: farm.Amounts{Cores: 1, MemoryBytes: 256 << 20},
		Tries: 1,
	}})
	return done.Run, err
}

// Tests returns the newest self-test of a node for each renderer.
func (s *Service) Tests(ctx context.Context, node farm.NodeID) ([]wire.NodeTest, error) {
	f, err := s.Floor()
	if err != nil {
		return nil, err
	}
	n, err := f.Views.Node(ctx, node, farm.Sight{})
	if err != nil {
		return nil, err
	}
	out := []wire.NodeTest{}
	for _, test := range selftest.Tests {
		runs, err := f.Views.RunsOf(ctx, selftest.Project, selftest.Job(n.Name, test.Recipe))
		if err != nil {
			return nil, err
		}
		if len(runs) == 0 {
			continue
		}
		newest := slices.MaxFunc(runs, func(a, b wire.Run) int { return a.Number - b.Number })
		result, err := s.testResult(ctx, n, test, newest)
		if err != nil {
			return nil, err
		}
		out = append(out, result)
	}
	return out, nil
}

// testResult says what came of a test. Of a frame that is done the pixels are
// compared with the known ones.
func (s *Service) testResult(
	ctx context.Context, n wire.Node, test selftest.Test, run wire.Run,
) (wire.NodeTest, error) {
	out := wire.NodeTest{
		Node: n.ID, Name: n.Name, Recipe: test.Recipe, Run: run.ID, State: "rendering",
		At: run.EndedAt, Sentence: "it renders",
	}
	if run.EndedAt == nil {
		if len(run.Nodes) == 0 && run.DoneCount == 0 {
			out.State, out.Sentence = "waiting", run.Why
		}
		return out, nil
	}
	if run.State != "done" {
		out.State, out.Sentence = "failed", "the test ended: "+run.Why
		if len(run.Troubles) > 0 && len(run.Troubles[0].Failed) > 0 {
			a := run.Troubles[0].Failed[0]
			out.Sentence = a.Cause + ": " + a.Message
		}
		return out, nil
	}
	results, err := s.o.Store.Results(ctx, run.ID, 0)
	if err != nil {
		return out, err
	}
	i := slices.IndexFunc(results, func(r store.Result) bool { return r.Frame == test.Frame })
	if i < 0 {
		return out, nil
	}
	r := results[i]
	out.StartupSeconds, out.RenderSeconds, out.CheckSeconds = r.StartupSeconds, r.RenderSeconds, r.CheckSeconds
	out.Speed = test.Speed(r.RenderSeconds, n.Cores)
	if r.DoneAt != nil {
		out.DeliverSeconds = r.DoneAt.Sub(r.AcceptedAt).Seconds()
	}
	f, err := s.Floor()
	if err != nil {
		return out, err
	}
	spec, err := f.Queue.Spec(ctx, farm.RunID(run.ID))
	if err != nil {
		return out, err
	}
	file, err := s.OpenFrame(ctx, spec, "", test.Frame)
	if err != nil {
		if errors.Is(err, os.ErrNotExist) || errors.Is(err, publish.ErrNoPlace) {
			out.State, out.Sentence = "failed", "its picture is no longer there"
			return out, nil
		}
		return out, err
	}
	defer file.Close()
	difference, ok, err := test.Compare(file)
	switch {
	case err != nil:
		out.State, out.Sentence = "failed", err.Error()
	case !ok:
		out.State, out.Sentence = "failed", "its picture is not the known one: it "+difference.String()
	default:
		out.State, out.Sentence = "passed", "its picture is "+difference.String()
		if difference.Most > 0 {
			out.Sentence = "its picture " + difference.String() + ", which is near enough"
		}
	}
	return out, nil
}
