package system

import (
	"fmt"
	"slices"
	"strings"
	"syscall"
	"testing"

	"vexillum/internal/wire"
)

// TestABudgetIsTold lets a project use up its budget: that needs a hand, is told through a
// channel, holds nothing, and is known after a restart.
func TestABudgetIsTold(t *testing.T) {
	t.Parallel()
	f, r := newFarmThatTells(t, "--mail-from", "farm@pellmarsh.example", "--hurry-notices", "200")
	for _, c := range [][2]string{
		{"-1", "a budget is a number of machine hours"}, {"many", "it takes a number"}, {"1e12",
			"a budget is a number"},
	} {
		if _, stderr, code := f.vexillum("project", "set", "salt-clock", "--budget", c[0]); code == 0 ||
			!strings.Contains(stderr, c[1]) {
			t.Errorf("--budget %s: %d %s", c[0], code, stderr)
		}
	}
	if out := f.must("project", "set", "salt-clock", "--budget", "400"); !strings.Contains(
		out, "0.0 of 400 machine hours used",
	) {
		t.Error(out)
	}
	out := f.must("notices", "set", "purse", "--webhook", r.Hook(), "--events", "budget")
	_, secret, _ := strings.Cut(out, "whsec_")
	r.Expect("whsec_" + strings.Fields(secret)[0])
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 300ms\n")
	f.join("kiln-01", "--renderers", "practice-single")
	f.must("project", "set", "salt-clock", "--budget", "0.0005") // 1.8 s
	id := f.submit(wire.Submit{Job: "salt", Recipe: "practice-single", Scene: "salt.practice", Frames: "1-20"})
	if run := f.ended(id); run.State != "done" {
		t.Fatalf("the run is %s", run.State)
	}
	spent := func() bool {
		return slices.ContainsFunc(f.hands(), func(h wire.NeedHand) bool {
			return h.Kind == "spent" && h.Sentence == "The project salt-clock has used up its budget."
		})
	}
	f.wait("it needs a hand", spent)
	f.wait(
		"it is told",
		func() bool { return slices.Contains(told(t, r), "The project salt-clock has used up its budget.") },
	)
	var before []wire.Project
	if err := f.admin.Do(t.Context(), "GET", "/api/v1/projects", nil, &before); err != nil {
		t.Fatal(err)
	}
	f.service.end(syscall.SIGKILL)
	f.serve()
	f.wait("it is known after a restart", spent)
	if n := strings.Count(fmt.Sprint(told(t, r)), "used up"); n != 1 {
		t.Errorf("it is told %d times", n)
	}
	f.must("project", "set", "salt-clock", "--budget", "0")
	f.wait("nothing needs a hand", func() bool { return len(f.hands()) == 0 })
}
