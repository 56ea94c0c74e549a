// Package ledger commits Records: many decisions in one transaction, numbered
// without gaps, by the active service alone. It decides nothing and keeps no
// State.
package ledger

import (
	"context"
	"errors"
	"fmt"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/store"
)

// commitTimeout bounds one transaction. A commit that takes longer counts as
// one whose outcome is unknown.
const commitTimeout = 20 * time.Second

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
}

// New returns a Ledger for a claim.
func New(s Store, lead store.Lead) *Ledger { return &Ledger{store: s, epoch: lead.Epoch, lead: lead} }

// ErrSpent says that an earlier commit failed and nothing more may be
// committed before the State has been loaded again.
var ErrSpent = errors.New("an earlier batch has an unknown outcome")

// Commit makes Records durable. After any error the Ledger is spent: whoever
// holds State that was built on these Records must drop it.
func (l *Ledger) Commit(records []farm.Record) error {
	if l.spent {
		return ErrSpent
	}
	// Not the caller's context: a batch holds the requests of many.
	ctx, cancel := context.WithTimeout(context.Background(), commitTimeout)
	defer cancel()
	if err := l.store.Commit(ctx, &l.lead, records); err != nil {
		l.spent = true
		return fmt.Errorf("committing %d records: %w", len(records), err)
	}
	return nil
}

// Beat writes the sign of life of the active service.
func (l *Ledger) Beat(ctx context.Context) error { return l.store.Beat(ctx, l.epoch) }
