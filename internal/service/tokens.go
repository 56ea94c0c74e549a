package service

import (
	"context"
	"maps"
	"sync"
	"time"
)

// uses notes when tokens were last used. It is news, not truth: nothing is
// decided by it, and what a crash takes is a minute of it.
type uses struct {
	mu    sync.Mutex
	fresh map[string]time.Time // by the token's hash; not kept yet
}

// mostUses bounds what is noted between two times of keeping it.
const mostUses = 100_000

// keepUsesEvery is how often it is kept.
const keepUsesEvery = time.Minute

// TokenUsed notes that a token is used now.
func (s *Service) TokenUsed(hash string) {
	u := &s.uses
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.fresh == nil {
		u.fresh = map[string]time.Time{}
	}
	if _, noted := u.fresh[hash]; noted || len(u.fresh) < mostUses {
		u.fresh[hash] = s.o.Now()
	}
}

// TokensUsed returns when tokens were last used, by their hash.
func (s *Service) TokensUsed(ctx context.Context) (map[string]time.Time, error) {
	out, err := s.o.Store.TokensUsed(ctx)
	if err != nil {
		return nil, err
	}
	s.uses.mu.Lock()
	defer s.uses.mu.Unlock()
	maps.Copy(out, s.uses.fresh)
	return out, nil
}

// keepUses keeps what was noted, until the context ends.
func (s *Service) keepUses(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(keepUsesEvery):
		}
		s.uses.mu.Lock()
		fresh := s.uses.fresh
		s.uses.fresh = nil
		s.uses.mu.Unlock()
		if err := s.o.Store.KeepTokensUsed(ctx, fresh); err != nil && ctx.Err() == nil {
			s.o.Log.Warn("when tokens were used is not kept", "error", err)
		}
	}
}

// Secret returns what the services of the farm know, and nobody else.
func (s *Service) Secret(ctx context.Context) (string, error) {
	if known := s.secret.Load(); known != nil {
		return *known, nil
	}
	found, err := s.o.Store.Secret(ctx)
	if err == nil {
		s.secret.Store(&found)
	}
	return found, err
}
