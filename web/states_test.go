package web

import (
	"os"
	"regexp"
	"slices"
	"testing"

	"vexillum/internal/wire"
)

// TestTheWorstStateIsTheSameEverywhere compares the order of states in the console
// with that of service and command line.
func TestTheWorstStateIsTheSameEverywhere(t *testing.T) {
	code, err := os.ReadFile("src/parts/states.ts")
	if err != nil {
		t.Fatal(err)
	}
	list := regexp.MustCompile(`(?s)worstFirst: FrameState\[\] = \[(.*?)\]`).FindSubmatch(code)
	if list == nil {
		t.Fatal("the console has no list of states any more")
	}
	var got []wire.FrameState
	for _, word := range regexp.MustCompile(`"([^"]+)"`).FindAllSubmatch(list[1], -1) {
		got = append(got, wire.FrameState(word[1]))
	}
	if want := wire.FrameStates(); !slices.Equal(got, want) {
		t.Errorf("the console says %q, the service %q", got, want)
	}
}
