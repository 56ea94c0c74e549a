package system

import (
	"strings"
	"syscall"
	"testing"

	"vexillum/internal/wire"
)

// TestASceneThatChangesUnderWay writes to a scene while it is rendered: the run is held,
// says since when and which frames are of the old state, also after the service was
// killed, and goes on when somebody says so.
func TestASceneThatChangesUnderWay(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 200ms\n")
	f.join("kiln-01", "--renderers", "practice-single")
	id := f.submit(wire.Submit{Job: "salt_010", Recipe: "practice-single", Scene: "salt.practice", Frames: "1-30"})
	f.done(id, 4)
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 201ms\n")
	f.wait("the run is held", func() bool { return f.run(id).State == "held" })
	f.service.end(syscall.SIGKILL)
	f.serve()
	run := f.run(id)
	if run.State != "held" ||
		!strings.Contains(run.Why, "the scene salt.practice has changed since the run was submitted, at 20") ||
		!strings.Contains(run.Why, "are of the old state") || len(run.Troubles) != 1 || run.Troubles[0].Tried != 0 {
		t.Errorf("the run is %s: %q, troubles %+v", run.State, run.Why, run.Troubles)
	}
	var all wire.Farm
	if err := f.admin.Do(t.Context(), "GET", "/api/v1/farm", nil, &all); err != nil {
		t.Fatal(err)
	}
	if len(all.Hands) == 0 ||
		!strings.Contains(all.Hands[0].Sentence, "salt_010/final-1 is held: its scene has changed") {
		t.Errorf("what needs a hand: %+v", all.Hands)
	}
	f.must("release", "salt_010")
	if run = f.ended(id); run.State != "done" || run.DoneCount != 30 {
		t.Errorf("the run is %s with %d frames: %s", run.State, run.DoneCount, run.Why)
	}
	other := f.submit(wire.Submit{Job: "salt_010", Recipe: "practice-single", Scene: "salt.practice", Frames: "1-2"})
	if run = f.ended(other); run.State != "done" {
		t.Errorf("a new run is %s: %s", run.State, run.Why)
	}
}
