package writer

import (
	"fmt"
	"path"
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
func (w *Writer) watch(what fmt.Stringer, began time.Time) {
	took := time.Since(began)
	if w.o.Took != nil {
		w.o.Took(what, took)
	}
	if took > decisionMost {
		w.o.Log.Warn(
			"a decision took long", "what", what.String(), "took", took.Round(time.Millisecond), "runs",
			len(w.o.State.Runs), "nodes", len(w.o.State.Nodes),
		)
	}
}

// origin is where in the program a command comes from. It is looked up only for
// one that took long.
type origin [2]uintptr

func here() (o origin) {
	runtime.Callers(3, o[:]) // the caller of Do, and its own
	return o
}

// String names the method that sent the command, as room.Method.
func (o origin) String() string {
	callers := runtime.CallersFrames(o[:])
	for {
		frame, more := callers.Next()
		name := strings.NewReplacer("(*Desk).", "", "(*Board).", "").Replace(path.Base(frame.Function))
		if !strings.HasSuffix(name, ".do") || !more { // a room's own way to Do
			return name
		}
	}
}
