package triage

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
)

// troubled is a farm on which two nodes have failed frames of two runs.
func troubled(t *testing.T) *farm.State {
	t.Helper()
	s := farm.NewState()
	now := time.Date(2031, 3, 4, 20, 0, 0, 0, time.UTC)
	for i := range 3 {
		s.PutNode(&farm.Node{ID: farm.NodeID(i + 1), Name: fmt.Sprintf("kiln-%02d", i+1)})
	}
	must := func(r farm.Record) {
		t.Helper()
		if err := s.Apply(r); err != nil {
			t.Fatal(err)
		}
	}
	must(farm.PlaceSet{Name: "p"})
	for i, project := range []string{"salt-clock", "gannet"} {
		must(farm.ProjectSet{Name: project, Scenes: "p", Frames: "p"})
		must(farm.RunSubmitted{Run: farm.RunID(i + 1), State: farm.RunQueued, Order: int64(i), At: now, Spec: farm.Spec{
			Job: "job", Project: project, Kind: farm.Final, Number: i + 1, Recipe: "practice", Tries: 3,
			Frames: frames.Of(frames.Span{First: 1, Last: 9}),
		}})
	}
	fail := func(run farm.RunID, frame int, node farm.NodeID, cause string, minute int) {
		tr := s.Runs[run].Trouble[frame]
		if tr == nil {
			tr = &farm.Trouble{}
			if s.Runs[run].Trouble == nil {
				s.Runs[run].Trouble = map[int]*farm.Trouble{}
			}
			s.Runs[run].Trouble[frame] = tr
		}
		tr.Attempts = append(tr.Attempts, farm.Attempt{
			Node: node, Cause: cause, Message: cause + " it was", Counts: true, At: now.Add(time.Duration(minute) * time.Minute),
		})
	}
	fail(1, 1, 1, CauseMemory, 1)
	fail(1, 2, 1, CauseMemory, 2)
	fail(1, 2, 2, CauseCrash, 3)
	fail(1, 3, 2, CauseCrash, 4)
	fail(2, 7, 1, CauseMemory, 5)
	s.Runs[1].Done = frames.Of(frames.Span{First: 1, Last: 1})
	s.Runs[1].Parked = frames.Of(frames.Span{First: 2, Last: 2})
	return s
}

// TestFailuresArePutTogether groups failures in all ways, and narrows them.
func TestFailuresArePutTogether(t *testing.T) {
	s := troubled(t)
	since := time.Date(2031, 3, 4, 20, 3, 0, 0, time.UTC)
	for _, c := range []struct {
		wanted Wanted
		keys   string // with tries, frames, done and parked
		says   string // of the first
	}{
		{
			Wanted{By: ByCause}, "out of memory 3 3 1 1, crash 2 2 0 1",
			"3 frames of 2 runs failed on kiln-01 with out of memory; 1 is done since, 1 is parked, 1 is still to be tried",
		},
		{
			Wanted{By: ByNode}, "kiln-01 3 3 1 1, kiln-02 2 2 0 1",
			"3 frames of 2 runs failed on kiln-01 with out of memory",
		},
		{
			Wanted{By: ByRecipe}, "practice 5 4 1 1",
			"4 frames of 2 runs failed on kiln-01 and kiln-02 with out of memory and crash; 1 is done since, 1 is parked, 2 are still to be tried",
		},
		{Wanted{By: ByRun}, "job/final-1 4 3 1 1, job/final-2 1 1 0 0", "3 frames of job/final-1 failed"},
		{Wanted{By: ByCause, Cause: CauseCrash}, "crash 2 2 0 1", "2 frames of job/final-1 failed on kiln-02 with crash; "},
		{Wanted{By: ByCause, Node: 3}, "", ""},
		{Wanted{By: ByNode, Run: 2}, "kiln-01 1 1 0 0", "1 frame of job/final-2 failed on kiln-01"},
		{Wanted{By: ByNode, Since: since}, "kiln-02 2 2 0 1, kiln-01 1 1 0 0", ""},
		{
			Wanted{By: ByNode, Sees: func(project string) bool { return project == "gannet" }}, "kiln-01 1 1 0 0",
			"1 frame of job/final-2 failed on kiln-01 with out of memory; 1 is still to be tried",
		},
	} {
		groups := Groups(Rule(s), c.wanted)
		var keys []string
		for i := range groups {
			failed, done, parked := groups[i].Counts()
			keys = append(keys, fmt.Sprint(groups[i].Key, " ", groups[i].Tries, " ", failed, " ", done, " ", parked))
		}
		if got := strings.Join(keys, ", "); got != c.keys {
			t.Errorf("%+v gives %s, want %s", c.wanted, got, c.keys)
		}
		if len(groups) > 0 && !strings.HasPrefix(groups[0].Sentence(s), c.says) {
			t.Errorf("%+v says %q, want %q", c.wanted, groups[0].Sentence(s), c.says)
		}
	}
	if last := Groups(Rule(s), Wanted{By: ByCause})[0]; last.LastOf != 2 || last.Last.Message != "out of memory it was" {
		t.Errorf("the newest is %+v of run %d", last.Last, last.LastOf)
	}
}

// TestEveryCauseHasARemedy looks that somebody knows what to do.
func TestEveryCauseHasARemedy(t *testing.T) {
	all := Causes()
	for _, cause := range all {
		if Remedy(cause) == "" {
			t.Errorf("nobody knows what to do about %s", cause)
		}
	}
	if len(remedies) != len(all) || len(slices.Compact(slices.Sorted(slices.Values(all)))) != len(all) {
		t.Errorf("%d causes, %d remedies", len(all), len(remedies))
	}
	if Remedy("rain") != "" {
		t.Error("there is a remedy for rain")
	}
}

// TestTheDocsNameEveryCause compares the table of docs/trouble.md with the causes.
func TestTheDocsNameEveryCause(t *testing.T) {
	text, err := os.ReadFile("../../../docs/trouble.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, cause := range Causes() {
		at := strings.Index(string(text), "| `"+cause+"` |")
		if at < 0 {
			t.Errorf("docs/trouble.md says nothing of %s", cause)
			continue
		}
		row, _, _ := strings.Cut(string(text)[at:], "\n")
		cells := strings.Split(row, " | ")
		if uses := strings.HasPrefix(cells[2], "yes"); uses != Counts(cause) {
			t.Errorf("docs/trouble.md says of %s that it uses up a try: %s", cause, cells[2])
		}
		if !strings.Contains(row, Remedy(cause)) {
			t.Errorf("docs/trouble.md has another remedy for %s than %q", cause, Remedy(cause))
		}
	}
}
