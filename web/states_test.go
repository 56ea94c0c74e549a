package web

import (
	"os"
	"regexp"
	"slices"
	"testing"

	"vexillum/internal/core/farm"
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

// TestRolesAreInTheSameOrderEverywhere compares the roles in the console with those of
// the farm.
func TestRolesAreInTheSameOrderEverywhere(t *testing.T) {
	code, err := os.ReadFile("src/api/client.ts")
	if err != nil {
		t.Fatal(err)
	}
	list := regexp.MustCompile(`const ranks = \[(.*?)\]`).FindSubmatch(code)
	if list == nil {
		t.Fatal("the console has no list of roles any more")
	}
	words := regexp.MustCompile(`"([^"]+)"`).FindAllSubmatch(list[1], -1)
	for i, word := range words {
		for k, other := range words {
			if a, b := farm.Role(word[1]), farm.Role(other[1]); a.Allows(b) != (i >= k) {
				t.Errorf("the farm and the console disagree about %s and %s", a, b)
			}
		}
	}
	if len(words) != 4 {
		t.Errorf("the console has %d roles", len(words))
	}
}
