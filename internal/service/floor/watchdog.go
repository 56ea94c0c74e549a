package floor

import (
	"fmt"
	"runtime"
	"strings"
	"time"
)

// Nothing may hold the loop up: what takes longer than this is told in the log,
// with what it was.
const decisionMost = 50 * time.Millisecond

// step is a part of the loop's work that is no command.
type step string

// String names it.
func (s step) String() string { return string(s) }

// watch reports a decision that took too long.
func (f *Floor) watch(what fmt.Stringer, began time.Time) {
	took := time.Since(began)
	if f.took != nil {
		f.took(what, took)
	}
	if took > decisionMost {
		f.log.Warn(
			"a decision took long", "what", what.String(), "took", took.Round(time.Millisecond), "runs", len(f.s.Runs),
			"nodes", len(f.s.Nodes),
		)
	}
}

// origin is where in the program a command comes from. It is looked up only for
// one that took long.
type origin [1]uintptr

func here() (o origin) {
	runtime.Callers(3, o[:]) // who called do
	return o
}

// String names the method of the floor that sent the command.
func (o origin) String() string {
	frame, _ := runtime.CallersFrames(o[:]).Next()
	_, name, ok := strings.Cut(frame.Function, "(*Floor).")
	if !ok {
		return "a command"
	}
	return name
}
