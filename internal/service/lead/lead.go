// Package lead decides which of the services that share a database is the
// active one. The others stand by: they watch its sign of life and take over
// when it stays away.
//
// It knows nothing of the farm; the right to commit is all it deals in.
package lead

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"vexillum/internal/store"
)

// Times of standing by. An active service beats every BeatEvery and trusts a
// beat for FreshFor; one that has given no sign for DeadAfter, by the clock of
// the one that watches, is taken over.
const (
	BeatEvery  = time.Second
	FreshFor   = 2 * time.Second
	DeadAfter  = 3 * time.Second
	watchEvery = 250 * time.Millisecond
	// stoppedFor reports that the watcher itself did not run: what it has not
	// seen means nothing then.
	stoppedFor = 2 * time.Second
	callLimit  = 2500 * time.Millisecond
)

// Store is what a Keeper needs of the database.
type Store interface {
	Leader(ctx context.Context) (store.Leader, error)
	Claim(ctx context.Context, seen store.Leader, holder string) (store.Lead, error)
	Announce(ctx context.Context, epoch int64, address, socket, reason string) error
	Release(ctx context.Context, epoch int64) error
	Migrate(ctx context.Context) error
}

// Keeper keeps, or waits for, the right to be the active service.
type Keeper struct {
	store         Store
	name, address string
	socket        string
	alone         bool
	log           *slog.Logger

	mu     sync.Mutex
	epoch  int64 // that this process claimed last; 0 before
	before int64 // that it claimed before that
	seen   store.Leader
	seenOK bool // the database answered when last asked
}

// Options says who a Keeper stands for.
type Options struct {
	Store   Store
	Name    string // of this service, unlike any other on the database
	Address string // where it is reached
	Socket  string // machine and port that this process listens on; empty when not known
	Alone   bool   // nobody else can use the database: nobody needs to be waited for
	Log     *slog.Logger
}

// New returns a Keeper.
func New(o Options) *Keeper {
	return &Keeper{store: o.Store, name: o.Name, address: o.Address, socket: o.Socket, alone: o.Alone, log: o.Log}
}

// Claim is a right to be the active service, and how it came about.
type Claim struct {
	store.Lead
	Before string // name of the service that was active before; empty when none
	Reason string // a sentence
	Since  string // last sign of life of the service before, as [store.Leader] has it; empty: there was none
	Outage string // why no service was active since then
}

// Other returns where another service is active, as far as is known.
func (k *Keeper) Other() (name, address string, known bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if !k.seenOK || k.seen.Released() || k.seen.Epoch == k.epoch || k.seen.Socket != "" && k.seen.Socket == k.socket {
		return "", "", false
	}
	return k.seen.Holder, k.seen.Address, k.seen.Address != ""
}

// Reached reports whether the database answered when it was last asked.
func (k *Keeper) Reached() bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.seenOK
}

// Stand watches until this service may be the active one, and claims that.
// The database is brought to the newest form by the active one alone. An
// error other than the context's means that this program cannot work on the
// database.
func (k *Keeper) Stand(ctx context.Context) (Claim, error) {
	var last store.Leader
	var since, looked time.Time // last changed; when we last looked
	told := false
	for {
		seen, err := k.look(ctx)
		now := time.Now()
		switch {
		case ctx.Err() != nil:
			return Claim{}, ctx.Err()
		case errors.Is(err, store.ErrNoLeader):
			if err := k.store.Migrate(ctx); err != nil {
				return Claim{}, err
			}
			continue
		case err != nil:
			if !looked.IsZero() || !told {
				k.log.Warn("the database is away; still trying", "error", err)
				told = true
			}
			looked = time.Time{} // what happens meanwhile is not seen
		default:
			if looked.IsZero() || seen != last || now.Sub(looked) > stoppedFor {
				last, since = seen, now
			}
			looked = now
			if reason, free := k.free(seen, now.Sub(since)); free {
				c, err := k.claim(ctx, seen, reason)
				if err == nil {
					return c, nil
				}
				var newer *store.NewerError
				if errors.As(err, &newer) {
					return Claim{}, err
				}
				if !errors.Is(err, store.ErrDeposed) { // another was quicker
					k.log.Warn("taking over failed", "error", err)
				}
			} else if !told {
				k.log.Info("standing by", "active", seen.Holder, "address", seen.Address)
				told = true
			}
		}
		select {
		case <-ctx.Done():
			return Claim{}, ctx.Err()
		case <-time.After(watchEvery):
		}
	}
}

func (k *Keeper) look(ctx context.Context) (store.Leader, error) {
	ctx, cancel := context.WithTimeout(ctx, callLimit)
	defer cancel()
	seen, err := k.store.Leader(ctx)
	k.mu.Lock()
	k.seenOK = err == nil
	if err == nil {
		k.seen = seen
	}
	k.mu.Unlock()
	return seen, err
}

// free reports whether the right may be claimed, and why.
func (k *Keeper) free(seen store.Leader, quiet time.Duration) (reason string, free bool) {
	switch {
	case seen.Epoch == 0:
		return "it is the first service of this farm", true
	case seen.Released():
		return "the service that was active before has stopped", true
	case seen.Epoch == k.epoch:
		return "it was active before and has read its records again", true
	case seen.Socket != "" && seen.Socket == k.socket: // which it could not if the other lived
		if seen.Holder == k.name {
			return "it was started again", true
		}
		return "it listens where " + seen.Holder + " did, which has ended", true
	case k.alone:
		return "it was started again", true
	case quiet >= DeadAfter:
		return fmt.Sprintf("%s gave no sign of life for %.0f s", seen.Holder, quiet.Seconds()), true
	}
	return "", false
}

// outage says why no service was active when this one claimed the right of another.
func (k *Keeper) outage(seen store.Leader) string {
	switch {
	case seen.Released():
		return "the service was stopped"
	case seen.Epoch == k.before:
		return "the service did not reach the database in time"
	}
	return "the service ended without being stopped"
}

func (k *Keeper) claim(ctx context.Context, seen store.Leader, reason string) (Claim, error) {
	calling, cancel := context.WithTimeout(ctx, callLimit)
	defer cancel()
	lead, err := k.store.Claim(calling, seen, k.name)
	if err != nil {
		return Claim{}, err
	}
	k.mu.Lock()
	k.before, k.epoch = k.epoch, lead.Epoch
	k.mu.Unlock()
	if err := k.store.Migrate(ctx); err != nil {
		return Claim{}, err
	}
	if err := k.store.Announce(calling, lead.Epoch, k.address, k.socket, reason); err != nil {
		return Claim{}, err
	}
	c := Claim{Lead: lead, Before: seen.Holder, Reason: reason}
	if seen.Epoch > 0 {
		c.Since, c.Outage = seen.Beat, k.outage(seen)
	}
	return c, nil
}

// Beat tells every second that this service is the active one, until the
// context ends, and calls lost when it no longer is or cannot tell.
func (k *Keeper) Beat(ctx context.Context, beat func(context.Context) error, lost func(error)) {
	tick := time.NewTicker(BeatEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		beating, cancel := context.WithTimeout(ctx, callLimit)
		err := beat(beating)
		cancel()
		if err != nil && ctx.Err() == nil {
			lost(err)
			return
		}
	}
}

// Release gives the right back. It does nothing when another has it.
func (k *Keeper) Release() {
	k.mu.Lock()
	epoch := k.epoch
	k.mu.Unlock()
	if epoch == 0 {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), callLimit)
	defer cancel()
	if err := k.store.Release(ctx, epoch); err != nil && !errors.Is(err, store.ErrDeposed) {
		k.log.Warn("giving the database back", "error", err)
	}
}
