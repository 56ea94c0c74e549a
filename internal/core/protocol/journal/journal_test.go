package journal

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"vexillum/internal/core/frames"
)

func set(first, last int) frames.Set { return frames.Of(frames.Span{First: first, Last: last}) }

// told returns a lease after the given steps.
func told(steps ...Entry) *Lease {
	l := New()
	for _, e := range steps {
		l.Note(e)
	}
	return l
}

func TestWhatMayBeGivenBack(t *testing.T) {
	mine := set(1, 10)
	rendering := []Entry{
		{Do: Launched, Launch: 1, First: 1, Last: 10}, {Do: Began, Launch: 1, Frame: 1},
		{Do: Finished, Launch: 1, Frame: 1}, {Do: Began, Launch: 1, Frame: 2},
	}
	with := func(more ...Entry) []Entry { return append(slices.Clone(rendering), more...) }
	for _, c := range []struct {
		name         string
		steps        []Entry
		back, unseen frames.Set
		want         string
	}{
		{"nothing has begun", nil, set(6, 10), frames.Set{}, "6-10"},
		{"what is begun stays", rendering, set(1, 10), frames.Set{}, "3-10"},
		{"what nobody can see stays", rendering, set(1, 10), set(1, 4), "5-10"},
		{"frames of others are not ours to give", rendering, set(8, 20), frames.Set{}, "8-10"},
		{"what was given is gone", with(Entry{Do: Trimmed, Trim: 4, Frames: "7-10"}), set(5, 10), frames.Set{}, "5,6"},
		{"what came back can be given again", with(Entry{Do: Trimmed, Trim: 4, Frames: "7-10"}, Entry{Do: Extended, Frames: "9"}), set(5, 10), frames.Set{}, "5,6,9"},
		{"what failed can be given", with(Entry{Do: Failed, Launch: 1, Frame: 2}), set(1, 10), frames.Set{}, "2-10"},
		{"what was stopped can be given", with(Entry{Do: Undone, Launch: 1, Frame: 2}), set(1, 10), frames.Set{}, "2-10"},
		{"what a renderer left that is gone can be given", with(Entry{Do: Over, Launch: 1}), set(1, 10), frames.Set{}, "2-10"},
		{"what another launch has finished stays", with(Entry{Do: Over, Launch: 1}, Entry{Do: Launched, Launch: 2, First: 1, Last: 2}, Entry{Do: Began, Launch: 2, Frame: 1}, Entry{Do: Over, Launch: 2}), set(1, 10), frames.Set{}, "2-10"},
	} {
		answer, again := told(c.steps...).Give(9, c.back, mine, c.unseen)
		var want frames.Set
		if err := want.UnmarshalText([]byte(c.want)); err != nil {
			t.Fatal(err)
		}
		if again || !answer.Equal(want) {
			t.Errorf("%s: gives %v, want %s", c.name, answer, c.want)
		}
	}
	l := told(with(Entry{Do: Trimmed, Trim: 4, Frames: "7-10"})...)
	if answer, again := l.Give(4, set(1, 10), mine, frames.Set{}); !again || answer.String() != set(7, 10).String() {
		t.Errorf("asked again it gives %v", answer)
	}
}

func TestWhatANewProcessFinds(t *testing.T) {
	l := told(
		Entry{
			Do: Launched, Launch: 1, First: 1, Last: 9,
		},
		Entry{Do: Began, Launch: 1, Frame: 1}, Entry{Do: Finished, Launch: 1, Frame: 1, Path: "launch-1/a"},
		Entry{Do: Accepted, Launch: 1, Frame: 1, Hash: "h"}, Entry{Do: Settled, Launch: 1, Frame: 1},
		Entry{Do: Began, Launch: 1, Frame: 2}, Entry{Do: Failed, Launch: 1, Frame: 2}, Entry{Do: Over, Launch: 1},
		Entry{
			Do: Launched, Launch: 2, First: 3, Last: 9,
		},
		Entry{Do: Began, Launch: 2, Frame: 3}, Entry{Do: Finished, Launch: 2, Frame: 3, Path: "launch-2/b"},
		Entry{Do: Accepted, Launch: 2, Frame: 3, Hash: "k"}, Entry{Do: Began, Launch: 2, Frame: 4},
		Entry{Do: Finished, Launch: 7, Frame: 5}, // its launch was never written down
	)
	running := l.Running()
	if running == nil || running.Number != 2 || l.LastLaunch() != 2 {
		t.Fatalf("running is %+v", running)
	}
	if f, ok := running.InFlight(); !ok || f != 4 {
		t.Errorf("in flight is %d, %v", f, ok)
	}
	if got := l.Unsettled(); len(got) != 1 || got[0].Frame != 3 || got[0].Path != "launch-2/b" {
		t.Errorf("unsettled are %+v", got)
	}
	if got := l.Left(set(1, 9)).
		String(); got != frames.Of(frames.Span{First: 2, Last: 2}, frames.Span{First: 5, Last: 9}).
		String() {
		t.Errorf("left are %s", got)
	}
	if !l.Spoiled(1, 2) || l.Spoiled(2, 3) || l.WasAccepted(Shot{2, 3}) != "k" || l.WasAccepted(Shot{1, 3}) != "" {
		t.Error("failures and acceptances are of launches")
	}
	running.Begun[0].Frame = 99
	running.Done[77] = Picture{}
	if again := l.Running(); again.Begun[0].Frame == 99 || len(again.Done) != 1 {
		t.Error("a copy is no copy")
	}
	l.Note(Entry{Do: Over, Launch: 2})
	if l.Running() != nil || !l.Left(set(1, 9)).Has(4) {
		t.Error("a frame in flight is left when its renderer is gone")
	}
}

// TestAJournalThatIsCutOffPromisesNothing plays random steps and reads every
// beginning of the journal: a frame that was given back is never left, what
// was answered stays answered, and nothing panics.
func TestAJournalThatIsCutOffPromisesNothing(t *testing.T) {
	for seed := range uint64(500) {
		r := rand.New(rand.NewPCG(seed, 1))
		live := New()
		var journal []Entry
		note := func(e Entry) {
			journal = append(journal, e)
			live.Note(e)
		}
		answers := map[int64]string{}
		mine, launch := set(1, 12), 0
		for range 60 {
			switch left := live.Left(mine); r.IntN(8) {
			case 0:
				if live.Running() == nil && !left.Empty() {
					launch++
					note(Entry{Do: Launched, Launch: launch, First: left.First(), Last: left.Last()})
				}
			case 1, 2:
				running := live.Running()
				if running == nil || left.Empty() {
					break
				}
				if f, flying := running.InFlight(); flying {
					note(
						Entry{
							Do: []Step{Finished, Finished, Failed, Undone}[r.IntN(4)], Launch: running.Number,
							Frame: f, Path: "p",
						},
					)
				} else {
					note(Entry{Do: Began, Launch: running.Number, Frame: left.First()})
				}
			case 3:
				if running := live.Running(); running != nil && r.IntN(3) == 0 {
					note(Entry{Do: Over, Launch: running.Number})
				}
			case 4:
				for _, p := range live.Unsettled() {
					note(Entry{Do: Settled, Launch: p.Launch, Frame: p.Frame})
				}
			default:
				question := int64(r.IntN(6))
				answer, again := live.Give(question, set(1+r.IntN(12), 12), mine, frames.Set{})
				if before, known := answers[question]; known != again || known && before != answer.String() {
					t.Fatalf("seed %d: question %d is answered %v, and was %q", seed, question, answer, before)
				}
				if !again {
					answers[question] = answer.String()
					note(Entry{Do: Trimmed, Trim: question, Frames: answer.String()})
				}
			}
		}
		for cut := range journal {
			read := told(journal[:cut]...)
			for _, e := range journal[:cut] {
				if e.Do == Trimmed {
					var back frames.Set
					_ = back.UnmarshalText([]byte(e.Frames))
					if !read.Left(back).Empty() {
						t.Fatalf("seed %d: after %d steps %v are left, and were given back", seed, cut, read.Left(back))
					}
				}
			}
		}
		if a, b := fmt.Sprint(told(journal...).Unsettled(), told(journal...).Left(mine)), fmt.Sprint(
			live.Unsettled(), live.Left(mine),
		); a != b {
			t.Fatalf("seed %d: read again it is %s, was %s", seed, a, b)
		}
	}
}
