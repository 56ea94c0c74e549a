package lead_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/lead"
	"vexillum/internal/service/ledger"
	"vexillum/internal/store"
)

// table is the leader's row, with a line to it that can be cut.
type table struct {
	mu     sync.Mutex
	row    store.Leader
	none   bool
	newer  bool
	claims int
}

func (t *table) count() int {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.claims
}

// line is one service's connection to the table.
type line struct {
	*table
	cut bool
}

var errCut = errors.New("the line is cut")

func (l *line) with(do func() error) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.cut {
		return errCut
	}
	return do()
}

func (l *line) Leader(context.Context) (row store.Leader, err error) {
	err = l.with(func() error {
		if l.none {
			return store.ErrNoLeader
		}
		row = l.row
		return nil
	})
	return row, err
}

func (l *line) Claim(_ context.Context, seen store.Leader, holder string) (lead store.Lead, err error) {
	err = l.with(func() error {
		if l.row.Epoch != seen.Epoch || l.row.Batch != seen.Batch || l.row.Beat != seen.Beat {
			return store.ErrDeposed
		}
		l.claims++
		l.row = store.Leader{Epoch: l.row.Epoch + 1, Holder: holder, Beat: time.Now().String()}
		lead = store.Lead{Epoch: l.row.Epoch}
		return nil
	})
	return lead, err
}

func (l *line) as(epoch int64, do func()) error {
	return l.with(func() error {
		if l.row.Epoch != epoch {
			return store.ErrDeposed
		}
		do()
		return nil
	})
}

func (l *line) Announce(_ context.Context, epoch int64, address, socket, _ string) error {
	return l.as(epoch, func() { l.row.Address, l.row.Socket = address, socket })
}
func (l *line) Beat(_ context.Context, epoch int64) error {
	return l.as(epoch, func() { l.row.Beat = time.Now().String() })
}
func (l *line) Release(_ context.Context, epoch int64) error {
	return l.as(epoch, func() { l.row.Holder = "" })
}
func (l *line) Migrate(context.Context) error {
	return l.with(func() error {
		l.none = false
		if l.newer {
			return &store.NewerError{Have: 9, Know: 2}
		}
		return nil
	})
}

func keeper(l *line, name string) *lead.Keeper {
	return lead.New(lead.Options{Store: l, Name: name, Address: "http://" + name, Log: slog.New(slog.DiscardHandler)})
}

// active claims for a service and beats until the returned function stops it.
func active(t *testing.T, l *line, name string) (k *lead.Keeper, lost chan error, stop func()) {
	t.Helper()
	k = keeper(l, name)
	claim, err := k.Stand(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	lost = make(chan error, 1)
	go k.Beat(ctx, func(ctx context.Context) error { return l.Beat(ctx, claim.Epoch) }, func(err error) { lost <- err })
	return k, lost, cancel
}

func TestTheFirstServiceIsActiveAtOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := &line{table: &table{none: true}}
		began := time.Now()
		k, _, stop := active(t, l, "kestrel")
		defer stop()
		if time.Since(began) > time.Second {
			t.Errorf("it waited %v for nobody", time.Since(began))
		}
		if _, _, known := k.Other(); known {
			t.Error("it takes itself for another")
		}
	})
}

// TestAStandByTakesOver measures, by the clock of the bubble, how long a farm
// has no active service after each way to lose it.
func TestAStandByTakesOver(t *testing.T) {
	for name, lose := range map[string]func(first *line, stop func()){
		"killed or stopped": func(_ *line, stop func()) { stop() },
		//nolint:errcheck // it is not cut yet
		"line cut": func(first *line, _ func()) { first.with(func() error { first.cut = true; return nil }) },
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				shared := &table{}
				first, second := &line{table: shared}, &line{table: shared}
				_, lost, stop := active(t, first, "kestrel")
				defer stop()
				b := keeper(second, "merlin")
				claims := make(chan lead.Claim, 1)
				go func() {
					c, err := b.Stand(t.Context())
					if err == nil {
						claims <- c
					}
				}()
				time.Sleep(time.Minute)
				if shared.count() != 1 {
					t.Fatal("the stand-by took over from a service that lives")
				}
				if name, address, known := b.Other(); !known || name != "kestrel" || address != "http://kestrel" {
					t.Errorf("the stand-by knows %q at %q", name, address)
				}
				began := time.Now()
				lose(first, stop)
				c := <-claims
				if took := time.Since(began); took > 5*time.Second {
					t.Errorf("it took %v", took)
				}
				if c.Before != "kestrel" || !strings.Contains(c.Reason, "kestrel gave no sign of life for 3 s") {
					t.Errorf("claimed %+v", c)
				}
				if err := first.Beat(t.Context(), 1); err == nil {
					t.Error("the deposed service still beats")
				}
				if name == "line cut" {
					if err := <-lost; !errors.Is(err, errCut) {
						t.Errorf("the first service learned %v", err)
					}
				}
			})
		})
	}
}

func TestAReleasedFarmIsTakenAtOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := &line{table: &table{}}
		k, _, stop := active(t, l, "kestrel")
		stop()
		k.Release()
		began := time.Now()
		c, err := keeper(l, "merlin").Stand(t.Context())
		if err != nil || time.Since(began) > time.Second/2 {
			t.Errorf("claimed %+v after %v, %v", c, time.Since(began), err)
		}
		k.Release() // of somebody else's: nothing happens
		if l.row.Holder != "merlin" {
			t.Error("a deposed service gave the farm back")
		}
	})
}

// TestWhoListensInItsPlaceNeedNotWait: a port has one living process.
func TestWhoListensInItsPlaceNeedNotWait(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := &line{table: &table{}}
		start := func(socket string) time.Duration {
			began := time.Now()
			k := lead.New(lead.Options{Store: l, Name: "kestrel", Socket: socket, Log: slog.New(slog.DiscardHandler)})
			if _, err := k.Stand(t.Context()); err != nil {
				t.Fatal(err)
			}
			return time.Since(began)
		}
		start("machine 1, port 7420")
		if took := start("machine 1, port 7420"); took > time.Second/2 {
			t.Errorf("a service that was started again waited %v for itself", took)
		}
		if took := start("machine 2, port 7420"); took < lead.DeadAfter {
			t.Errorf("a service of another machine waited only %v", took)
		}
		if took := start(""); took < lead.DeadAfter {
			t.Errorf("a service that does not know where it listens waited only %v", took)
		}
	})
}

// TestWhatAStandByDidNotSeeMeansNothing: while its own line is cut the active
// service may well have lived.
func TestWhatAStandByDidNotSeeMeansNothing(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		shared := &table{}
		first, second := &line{table: shared}, &line{table: shared}
		_, _, stop := active(t, first, "kestrel")
		b := keeper(second, "merlin")
		ctx, cancel := context.WithCancel(t.Context())
		ended := make(chan error, 1)
		var claim lead.Claim
		go func() {
			var err error
			claim, err = b.Stand(ctx)
			ended <- err
		}()
		time.Sleep(5 * time.Second)
		_ = second.with(func() error { second.cut = true; return nil })
		time.Sleep(time.Minute)
		if b.Reached() {
			t.Error("a cut line counts as reached")
		}
		stop()                  // the first is gone in between
		time.Sleep(time.Minute) // and nobody sees it
		shared.mu.Lock()
		second.cut = false
		shared.mu.Unlock()
		began := time.Now()
		if err := <-ended; err != nil || time.Since(began) < lead.DeadAfter {
			t.Errorf("took over %v after its line came back, %v", time.Since(began), err)
		}
		if claim.Epoch != 2 {
			t.Errorf("claimed %+v", claim)
		}
		cancel()
	})
}

func TestANewerFarmIsRefused(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var newer *store.NewerError
		if _, err := keeper(&line{table: &table{newer: true}}, "kestrel").Stand(t.Context()); !errors.As(err, &newer) {
			t.Errorf("got %v", err)
		}
	})
}

// TestAtMostOneServiceIsTrusted lets three services live and die at random.
// At no moment may two of them confirm that they are active.
func TestAtMostOneServiceIsTrusted(t *testing.T) {
	for seed := range uint64(40) {
		t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) { rivals(t, seed) })
		})
	}
}

// commits makes a line a ledger's store.
type commits struct{ *line }

func (commits) Commit(context.Context, *store.Lead, []farm.Record) error { return nil }

var _ ledger.Store = commits{}

// rivals runs three services whose lines are cut and mended at random, and
// asks all of them again and again.
func rivals(t *testing.T, seed uint64) {
	r := rand.New(rand.NewPCG(seed, 1))
	shared := &table{}
	ctx, stop := context.WithCancel(t.Context())
	var mu sync.Mutex
	trusted := map[string]*ledger.Ledger{}
	var lines []*line
	var wg sync.WaitGroup
	for _, name := range []string{"kestrel", "merlin", "hobby"} {
		l := &line{table: shared}
		lines = append(lines, l)
		k := keeper(l, name)
		wg.Go(func() {
			for ctx.Err() == nil {
				claim, err := k.Stand(ctx)
				if err != nil {
					return
				}
				book := ledger.New(commits{l}, claim.Lead)
				beating, end := context.WithCancel(ctx)
				mu.Lock()
				trusted[name] = book
				mu.Unlock()
				k.Beat(beating, book.Beat, func(error) {})
				end()
			}
		})
	}
	takeovers := 0
	for range 400 {
		time.Sleep(time.Duration(r.IntN(1500)) * time.Millisecond)
		l := lines[r.IntN(len(lines))]
		shared.mu.Lock()
		l.cut = !l.cut && r.IntN(2) == 0
		shared.mu.Unlock()
		var sure []string
		mu.Lock()
		for name, book := range trusted {
			if book.Confirm() == nil {
				sure = append(sure, name)
			}
		}
		mu.Unlock()
		if len(sure) > 1 {
			t.Fatalf("%v are all sure to be active", sure)
		}
		shared.mu.Lock()
		takeovers = shared.claims
		shared.mu.Unlock()
	}
	stop()
	wg.Wait()
	if takeovers < 2 {
		t.Errorf("only %d services were ever active: nothing was tried", takeovers)
	}
}
