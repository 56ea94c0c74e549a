package floor

import (
	"fmt"
	"slices"
	"testing"
	"testing/synctest"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/hands"
	"vexillum/internal/service/writer"
	"vexillum/internal/wire"
)

// TestManyRunsNeedAHand parks a frame of each of many runs: all of them are listed and kept,
// those that somebody has done with leave the list for good, and come again with what is new.
func TestManyRunsNeedAHand(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t)
		defer w.stop()
		var ledger hands.Ledger
		do := func(records func(t *writer.Tx) []farm.Record) {
			t.Helper()
			if err := w.w.Do(t.Context(), func(tx *writer.Tx) error {
				tx.Append(records(tx)...)
				return nil
			}); err != nil {
				t.Fatal(err)
			}
		}
		look := func() []wire.NeedHand {
			t.Helper()
			for range 3 { // what is gone is over after a while
				if err := w.Views.Alerts(t.Context(), ledger.Compare); err != nil {
					t.Fatal(err)
				}
				time.Sleep(8 * time.Second)
			}
			list, err := w.Views.Hands(t.Context(), farm.Sight{})
			if err != nil {
				t.Fatal(err)
			}
			return list
		}
		const runs = 60
		do(func(tx *writer.Tx) (out []farm.Record) {
			for id := farm.RunID(1); id <= runs; id++ {
				out = append(out, farm.RunSubmitted{
					Run: id, State: farm.RunHeld, Order: int64(id), At: tx.Now, Spec: farm.Spec{
						Job: fmt.Sprint(
							"salt_",
							id,
						), Project: "salt-clock", Kind: farm.Final, Number: 1, Recipe: "practice",
						Frames: frames.Of(frames.Span{First: 1, Last: 9}), Tries: 3,
					},
				}, farm.FrameParked{Run: id, Frame: 1, At: tx.Now})
			}
			return out
		})
		list := look()
		if len(list) != runs {
			t.Fatalf("%d are listed", len(list))
		}
		var all []int64
		for _, h := range list {
			if h.ID == 0 {
				t.Fatalf("%s has no number", h.Sentence)
			}
			all = append(all, h.ID)
		}
		if _, err := w.Hands.Act(t.Context(), wire.HandAct{Do: "resolve", Hands: all}, admin); err == nil &&
			runs > 200 {
			t.Error("any number of them can be acted on at once")
		}
		for some := range slices.Chunk(all, 200) {
			if _, err := w.Hands.Act(t.Context(), wire.HandAct{Do: "resolve", Hands: some}, admin); err != nil {
				t.Fatal(err)
			}
		}
		if list := look(); len(list) != 0 {
			t.Errorf("%d are listed that somebody has done with", len(list))
		}
		time.Sleep(time.Hour) // they are not remembered any more
		if list := look(); len(list) != 0 {
			t.Errorf("an hour later %d are listed", len(list))
		}
		if n := len(w.o.State.Hands); n > runs {
			t.Errorf("%d are kept in memory", n)
		}
		do(func(tx *writer.Tx) []farm.Record {
			return []farm.Record{
				farm.FramesRetried{
					Run:    7,
					Frames: frames.One(1),
					At:     tx.Now,
				}, farm.FrameParked{Run: 7, Frame: 1, At: tx.Now},
			}
		})
		if list := look(); len(list) != 1 || list[0].Run != 7 || list[0].ID == 0 || list[0].Count != 1 {
			t.Errorf("with what is new %+v are listed", list)
		}
	})
}

// TestVeryManyRunsThatNobodyCanTake submits 130 runs that no node can take: the first 100 of the queue
// are reported, and the others once those have gone.
func TestVeryManyRunsThatNobodyCanTake(t *testing.T) {
	bubble(t, func(t *testing.T, w *world) {
		w.join("kiln-01")
		w.ok(w.w.Do(t.Context(), func(tx *writer.Tx) error {
			for id := farm.RunID(1); id <= 130; id++ {
				tx.Append(farm.RunSubmitted{
					Run: id, State: farm.RunQueued, Order: int64(id), At: tx.Now, Spec: farm.Spec{
						Job: fmt.Sprint("salt_", id), Project: "salt-clock", Kind: farm.Final, Number: 1, Recipe: "povray",
						Frames: frames.Of(frames.Span{First: 1, Last: 9}), Tries: 3,
					},
				})
			}
			return nil
		}))
		reported := func() (runs []int64) {
			list, err := w.Views.Hands(t.Context(), farm.Sight{})
			w.ok(err)
			for _, h := range list {
				if h.Kind == farm.HandNobody {
					runs = append(runs, h.Run)
				}
			}
			slices.Sort(runs)
			return runs
		}
		first := reported()
		if len(first) != 100 || first[0] != 1 || first[99] != 100 {
			t.Fatalf("%d runs are reported: %v", len(first), first)
		}
		w.ok(w.w.Do(t.Context(), func(tx *writer.Tx) error {
			for _, id := range first {
				tx.Append(farm.RunMoved{Run: farm.RunID(id), State: farm.RunCancelled, At: tx.Now})
			}
			return nil
		}))
		if then := reported(); len(then) != 30 || then[0] != 101 {
			t.Errorf("then %d runs are reported: %v", len(then), then)
		}
	})
}
