package service

import (
	"context"
	"errors"
	"testing"
	"testing/synctest"
	"time"

	"vexillum/internal/service/refusal"
)

// TestNobodyTakesTwoTurns lets one person ask again and again beside another.
func TestNobodyTakesTwoTurns(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		turns := newTurns(2)
		done, err := turns.take(t.Context(), "nadia", time.Minute)
		if err != nil || done == nil {
			t.Fatal(err)
		}
		if second, err := turns.take(t.Context(), "nadia", time.Second); second != nil || err != nil {
			t.Errorf("a second turn at once: %v", err)
		}
		other, err := turns.take(t.Context(), "tobin", time.Second)
		if other == nil || err != nil {
			t.Fatalf("another person waits for her: %v", err)
		}
		if third, err := turns.take(t.Context(), "ines", time.Second); third != nil || err != nil {
			t.Errorf("a third at once: %v", err)
		}
		gone, leave := context.WithCancel(t.Context())
		for range mostAsked - 1 {
			go func() { _, _ = turns.take(gone, "nadia", time.Hour) }()
		}
		synctest.Wait()
		var no *refusal.Refusal
		if _, err := turns.take(t.Context(), "nadia", time.Minute); !errors.As(err, &no) {
			t.Errorf("too many wait: %v", err)
		}
		leave()
		synctest.Wait()
		done()
		other()
		for _, person := range []string{"tobin", "nadia"} {
			done, err := turns.take(t.Context(), person, time.Minute)
			if err != nil || done == nil {
				t.Fatalf("%s afterwards: %v", person, err)
			}
			done()
		}
		if len(turns.mine) != 0 {
			t.Errorf("%d are remembered", len(turns.mine))
		}
	})
}
