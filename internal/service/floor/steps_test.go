package floor

import (
	"context"
	"strings"
	"testing"
	"testing/synctest"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/protocol/accept"
	"vexillum/internal/service/queue"
)

func (w *world) step(job, set string, after ...queue.Wait) queue.Submission {
	w.t.Helper()
	f, err := frames.Parse(set)
	w.ok(err)
	sub, err := w.Queue.CheckSubmission(queue.Submission{Actor: "admin", AtOnce: true, After: after, Spec: farm.Spec{
		Job: job, Project: "salt-clock", Scene: "a.practice", Recipe: "practice", Frames: f,
	}})
	w.ok(err)
	return sub
}

// does lets a node render the first frame that it gets of a run.
func (w *world) does(id farm.NodeID, run string) int {
	w.t.Helper()
	a := w.ask(id, 0)
	if len(a.Leases) != 1 || a.Leases[0].Spec.Name() != run {
		w.t.Fatalf("the node gets %v (%s), want frames of %s", a.Leases, a.Why, run)
	}
	l := a.Leases[0]
	for f := range l.Frames.All() {
		report := accept.Report{
			Outcome: accept.Good, Lease: l.ID, Launch: 1, Frame: f, Hash: strings.Repeat("a", 64),
			RenderSeconds: 1,
		}
		w.report(id, report)
		report.Outcome = accept.Delivered
		w.report(id, report)
	}
	w.report(id, accept.Report{Outcome: accept.Ended, Lease: l.ID, Message: "is over"})
	return l.Frames.Len()
}

func (w *world) state(name string) (state, why string) {
	w.t.Helper()
	found, err := w.Views.RunsNamed(context.Background(), name, farm.Sight{})
	w.ok(err)
	return found[0].State, found[0].Why
}

// TestRunsThatWait submits a chain in one go, and lets it be rendered, broken and mended.
func TestRunsThatWait(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t)
		defer w.close()
		ctx := context.Background()
		id := w.join("kiln-01")
		want := func(name, state, says string) {
			t.Helper()
			if is, why := w.state(name); is != state || !strings.Contains(why, says) {
				t.Errorf("%s is %s (%s), want %s (%s)", name, is, why, state, says)
			}
		}
		done, err := w.Queue.SubmitAll(ctx, []queue.Submission{
			w.step("sim", "1-2"),
			w.step("render", "1-4", queue.Wait{Of: 0}),
			w.step("comp", "1-4", queue.Wait{Of: 1, Frames: true}),
			w.step("movie", "1", queue.Wait{Of: 2}),
		})
		if err != nil || len(done) != 4 {
			t.Fatal(done, err)
		}
		want("sim", "queued", "")
		want("render", "waiting", "waits for sim/final-1, which is queued")
		want("movie", "waiting", "waits for comp/final-1, which is waiting")
		w.does(id, "sim/final-1")
		want("sim", "done", "")
		want("render", "queued", "")
		want("comp", "waiting", "waits for render/final-1")

		// Each of them tells of all, also of what is done; another run has no other steps.
		w.submit("alone", "practice", "1")
		for _, d := range done {
			steps, err := w.Views.Steps(ctx, farm.RunID(d.Run.ID), farm.Sight{})
			w.ok(err)
			if len(steps) != 4 || steps[0].Name != "sim/final-1" || steps[3].Name != "movie/final-1" {
				t.Errorf("the steps of %s are %d runs", d.Run.Name, len(steps))
			}
		}
		if steps, err := w.Views.Steps(ctx, farm.RunID(done[3].Run.ID+1), farm.Sight{}); err != nil || len(steps) != 1 {
			t.Errorf("a run alone has %d steps: %v", len(steps), err)
		}
		if _, err := w.Views.Steps(ctx, 99, farm.Sight{}); err == nil {
			t.Error("a run that is not there has steps")
		}

		// A step that is cancelled holds what waits for it, and nothing else moves.
		render, comp := farm.RunID(done[1].Run.ID), farm.RunID(done[2].Run.ID)
		_, err = w.Queue.Steer(ctx, render, queue.Cancel, queue.How{}, admin)
		w.ok(err)
		want("comp", "held", "it waits for render/final-1, which is cancelled")
		want("movie", "waiting", "waits for comp/final-1, which is held")
		_, err = w.Queue.Steer(ctx, farm.RunID(done[3].Run.ID), queue.Release, queue.How{}, admin)
		if err == nil || !strings.Contains(err.Error(), "release it with --now") {
			t.Errorf("a run that waits is released: %v", err)
		}
		_, err = w.Queue.Steer(ctx, comp, queue.Release, queue.How{}, admin)
		w.ok(err)
		want("comp", "queued", "")
		w.does(id, "comp/final-1")
		want("movie", "queued", "")

		// Nothing is submitted of several where one cannot be.
		before := len(w.memory.records)
		_, err = w.Queue.SubmitAll(ctx, []queue.Submission{
			w.step("other", "1-2"), w.step("late", "1-9", queue.Wait{Of: 0, Frames: true}),
		})
		if err == nil || !strings.Contains(err.Error(), "frames 3-9 wait for frames that other/final-1 does not have") {
			t.Errorf("frames that never come are waited for: %v", err)
		}
		for _, wait := range []struct{ name, says string }{
			{"nobody", "there is no run of that name"}, {"render", "is cancelled and brings nothing"},
		} {
			_, err = w.Queue.SubmitAll(ctx, []queue.Submission{w.step("x", "1-2", queue.Wait{Of: -1, Name: wait.name})})
			if err == nil || !strings.Contains(err.Error(), wait.says) {
				t.Errorf("waiting for %s: %v", wait.name, err)
			}
		}
		if len(w.memory.records) != before {
			t.Error("something was submitted of what was refused")
		}
	})
}

// TestFramesWaitForFrames lets the frames of a run follow those of another.
func TestFramesWaitForFrames(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t)
		defer w.close()
		ctx := context.Background()
		first, second := w.join("kiln-01"), w.join("kiln-02")
		render := w.step("render", "1-4")
		render.Spec.Chunk = 2
		comp := w.step("comp", "1-4", queue.Wait{Of: 0, Frames: true})
		_, err := w.Queue.SubmitAll(ctx, []queue.Submission{render, comp})
		w.ok(err)
		if n := w.does(first, "render/final-1"); n != 2 {
			t.Fatalf("%d frames of the render are done", n)
		}
		if state, why := w.state("comp"); state != "queued" {
			t.Errorf("the comp is %s: %s", state, why)
		}
		held := w.ask(first, 0)
		if len(held.Leases) != 1 || held.Leases[0].Spec.Name() != "render/final-1" {
			t.Fatal(held)
		}
		if n := w.does(second, "comp/final-1"); n != 2 {
			t.Errorf("%d frames of the comp could be begun, want 2", n)
		}
		if state, why := w.state("comp"); state != "rendering" ||
			!strings.Contains(why, "waits for frames 3-4 of render/final-1") {
			t.Errorf("the comp is %s: %s", state, why)
		}
	})
}
