package engine

import (
	"fmt"
	"slices"

	"vexillum/internal/core/farm"
)

// follow lets runs go on that wait for those of the batch, and holds them where what
// they wait for does not come any more.
func (e *Engine) follow() {
	if e.err != nil {
		return
	}
	for i := 0; i < len(e.touched); i++ { // those that are moved here have followers, too
		followers := e.s.Followers(e.touched[i])
		if len(followers) == 0 || slices.Contains(e.touched[:i], e.touched[i]) {
			continue
		}
		for _, id := range followers {
			e.pass(e.s.Runs[id])
		}
	}
}

// pass moves a run as the gate before it says.
func (e *Engine) pass(run *farm.Run) {
	if run.State.Closed() || run.State == farm.RunHeld && run.Held != farm.HeldStep {
		return
	}
	gate, other := e.s.Gate(run)
	moved := farm.RunMoved{Run: run.ID, At: e.now}
	switch {
	case gate == farm.GateBroken && run.State != farm.RunHeld:
		moved.State, moved.Held, moved.Reason = farm.RunHeld, farm.HeldStep, BrokenReason(other)
	case gate == farm.GateShut && run.State == farm.RunHeld:
		moved.State, moved.Reason = farm.RunWaiting, fmt.Sprintf("%s goes on", other.Spec.Name())
	case gate == farm.GateOpen && (run.State == farm.RunWaiting || run.State == farm.RunHeld):
		moved.State, moved.Reason = run.Resumes(), "what it waited for is done"
		if !run.Later.Empty() {
			moved.Reason = "the first frames that it waited for are done"
		}
	default:
		return
	}
	e.Append(moved)
}

// BrokenReason says why a run is held that waits for one which has ended.
func BrokenReason(other *farm.Run) string {
	name := other.Spec.Name()
	if other.State != farm.RunGaps {
		return fmt.Sprintf("it waits for %s, which is %s", name, other.State)
	}
	missing := other.Spec.Frames.Minus(other.Done)
	return fmt.Sprintf("it waits for %s, which is done without frames %s", name, missing.Brief())
}
