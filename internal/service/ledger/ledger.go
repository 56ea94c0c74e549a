// Package ledger commits Records: many decisions in one transaction, numbered
// without gaps, by the active service alone. It decides nothing and keeps no
// State.
package ledger

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/lead"
	"vexillum/internal/store"
)

// commitTimeout bounds one transaction. A commit that takes longer counts as
// one whose outcome is unknown.
const commitTimeout = 5 * time.Second

// Store is what the ledger needs of the database.
type Store interface {
	Commit(ctx context.Context, lead *store.Lead, records []farm.Record) error
	Beat(ctx context.Context, epoch int64) error
}

// Ledger is the right to commit, and its use. It belongs to one goroutine;
// Beat alone may be called by another.
type Ledger struct {
	store Store
	epoch int64
	lead  store.Lead
	spent bool

	mu    sync.Mutex
	fresh time.Time // when the last sign of life that was kept was begun
}

// New returns a Ledger for a claim that was made just now.
func New(s Store, l store.Lead) *Ledger { return &Ledger{store: s, epoch: l.Epoch, lead: l} }

// ErrSpent says that an earlier commit failed and nothing more may be
// committed before the State has been loaded again.
var ErrSpent = errors.New("an earlier batch has an unknown outcome")

// Commit makes Records durable. After any error the Ledger is spent: the one who
// holds State that was built on these Records must drop it.
func (l *Ledger) Commit(records []farm.Record) error {
	if l.spent {
		return ErrSpent
	}
	// Not the caller's context: a batch holds the requests of many.
	ctx, cancel := context.WithTimeout(context.Background(), commitTimeout)
	defer cancel()
	began := time.Now()
	if err := l.store.Commit(ctx, &l.lead, records); err != nil {
		l.spent = true
		return fmt.Errorf("committing %d records: %w", len(records), err)
	}
	l.alive(began)
	return nil
}

// Confirm makes sure that this service is still the active one, so that an
// answer which commits nothing is no answer of the past. It costs nothing
// while the last sign of life is fresh.
func (l *Ledger) Confirm() error {
	if l.spent {
		return ErrSpent
	}
	l.mu.Lock()
	fresh := l.fresh
	l.mu.Unlock()
	// By both clocks: one stands still while the machine sleeps, the other
	// may be set.
	now := time.Now()
	if age, wall := now.Sub(fresh), now.Round(0).
		Sub(fresh.Round(0)); age < lead.FreshFor && wall < lead.FreshFor &&
		wall >= 0 {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), commitTimeout)
	defer cancel()
	if err := l.Beat(ctx); err != nil {
		l.spent = true
		return fmt.Errorf("confirming that this service is active: %w", err)
	}
	return nil
}

// Beat writes the sign of life of the active service.
func (l *Ledger) Beat(ctx context.Context) error {
	began := time.Now()
	if err := l.store.Beat(ctx, l.epoch); err != nil {
		return err
	}
	l.alive(began)
	return nil
}

func (l *Ledger) alive(began time.Time) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if began.After(l.fresh) {
		l.fresh = began
	}
}
