package errands

import (
	"context"
	"errors"
	"testing"
	"testing/synctest"

	"vexillum/internal/wire"
)

// TestErrands gives a node errands: it hears of each until it knows it, who waits hears
// how far it is, and nobody is waited for who has gone.
func TestErrands(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := New()
		roused, heard := 0, 0
		ctx, leave := context.WithCancel(t.Context())
		done := make(chan wire.ErrandTold, 1)
		go func() {
			told, err := d.Do(
				t.Context(), 7, wire.Errand{}, func() error { roused++; return nil }, func(wire.ErrandTold) { heard++ },
			)
			if err != nil {
				t.Error(err)
			}
			done <- told
		}()
		synctest.Wait()
		open := d.Open(7, nil)
		if len(open) != 1 || roused != 1 || len(d.Open(8, nil)) != 0 || len(d.Open(7, []int64{open[0].ID})) != 0 {
			t.Fatalf("open for the node: %+v; it was roused %d times", open, roused)
		}
		id := open[0].ID
		if d.Told(8, wire.ErrandTold{ID: id, Done: true}) {
			t.Error("another node's answer was taken")
		}
		if !d.Told(7, wire.ErrandTold{ID: id}) {
			t.Error("nobody waits")
		}
		synctest.Wait()
		d.Told(7, wire.ErrandTold{ID: id, Done: true, Error: "no"})
		d.Told(7, wire.ErrandTold{ID: id}) // late, after the end
		synctest.Wait()
		if told := <-done; told.Error != "no" || heard != 1 {
			t.Errorf("told %+v, heard %d times", told, heard)
		}
		if d.Told(7, wire.ErrandTold{ID: id}) || len(d.Open(7, nil)) != 0 {
			t.Error("it is wanted after its end")
		}
		gone := make(chan error, Most)
		for range Most {
			go func() {
				_, err := d.Do(ctx, 7, wire.Errand{}, func() error { return nil }, nil)
				gone <- err
			}()
		}
		synctest.Wait()
		if _, err := d.Do(ctx, 7, wire.Errand{}, func() error { return nil }, nil); !errors.Is(err, ErrTooMany) {
			t.Errorf("one too many: %v", err)
		}
		leave()
		for range Most {
			if err := <-gone; !errors.Is(err, context.Canceled) {
				t.Error(err)
			}
		}
		synctest.Wait()
		if len(d.open) != 0 {
			t.Errorf("%d nodes have errands that nobody waits for", len(d.open))
		}
	})
}

// TestNumbersOfErrandsDoNotComeAgain starts the service again: nodes whose sessions go on
// must not take its errands for those of the service before.
func TestNumbersOfErrandsDoNotComeAgain(t *testing.T) {
	seen := map[int64]bool{}
	for range 100 {
		e, err := New().add(7, wire.Errand{})
		if err != nil {
			t.Fatal(err)
		}
		if id := e.what.ID; seen[id] || id <= 0 || id > 1<<53 {
			t.Errorf("the number %d comes again, or is none that JSON can hold", id)
		}
		seen[e.what.ID] = true
	}
}
