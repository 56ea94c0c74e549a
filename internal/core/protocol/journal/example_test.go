package journal_test

import (
	"fmt"

	"vexillum/internal/core/protocol/journal"
)

// A node process reads what the one before it has written down.
func Example() {
	l := journal.New()
	for _, e := range []journal.Entry{
		{Do: journal.Launched, Launch: 1, First: 1, Last: 9},
		{Do: journal.Began, Launch: 1, Frame: 1},
		{Do: journal.Finished, Launch: 1, Frame: 1, Path: "launch-1/frame.0001.png"},
		{Do: journal.Began, Launch: 1, Frame: 2},
	} {
		l.Note(e)
	}
	frame, _ := l.Running().InFlight()
	fmt.Println("frame", frame, "is in flight")
	for _, p := range l.Unsettled() {
		fmt.Println("frame", p.Frame, "is to be offered:", p.Path)
	}
	// Output:
	// frame 2 is in flight
	// frame 1 is to be offered: launch-1/frame.0001.png
}
