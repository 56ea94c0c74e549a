package service

import (
	"context"
	"crypto/ed25519"
	"fmt"
	"net"
	"sync"
	"time"

	"vexillum/internal/bundle"
	"vexillum/internal/core/farm"
	"vexillum/internal/permit"
	"vexillum/internal/service/refusal"
)

// sharing lets nodes pass the pieces of bundles on to one another.
type sharing struct {
	key ed25519.PrivateKey

	mu        sync.Mutex
	tracker   *bundle.Tracker
	addresses map[string]string // machine and port, by the name of a node
}

// permitLives is how long a permit is good; nodes ask for new ones far more often.
const permitLives = 2 * time.Minute

func newSharing() *sharing {
	_, key, err := ed25519.GenerateKey(nil)
	if err != nil { // the system gives no randomness: nothing would be safe
		panic(err)
	}
	return &sharing{key: key, tracker: bundle.NewTracker(), addresses: map[string]string{}}
}

// PeerKey is what nodes know permits by.
func (s *Service) PeerKey() string { return permit.PublicKey(s.sharing.key) }

// Peer is a node that has some of a bundle, as another is told of it.
type Peer struct {
	Name, Address, Permit string
	Have                  []bool
}

// Share notes what a node has of a bundle, and says where it gets what it lacks. host is
// the machine that it calls from.
func (s *Service) Share(
	ctx context.Context, node farm.NodeID, session int64, id, host string, port int, at bundle.Standing,
) (seeds []int, peers []Peer, err error) {
	m, err := s.BundleForNode(ctx, node, id)
	if err != nil {
		return nil, nil, err
	}
	if want := m.PieceCount(); len(at.Have) != want {
		return nil, nil, refusal.New(
			refusal.Invalid, "have", "the bundle %.12s has %d pieces, not %d", id, want, len(at.Have),
		)
	}
	f, err := s.Floor()
	if err != nil {
		return nil, nil, err
	}
	name, alone, err := f.Fleet.NameOf(ctx, node, session)
	if err != nil {
		return nil, nil, err
	}
	h, now := s.sharing, s.o.Now()
	h.mu.Lock()
	defer h.mu.Unlock()
	if port > 0 {
		h.addresses[name] = net.JoinHostPort(host, fmt.Sprint(port))
	}
	seeds, names := h.tracker.Share(id, bundle.Holding{Node: name, Standing: at, Alone: alone || port == 0}, now)
	for _, other := range names {
		p := permit.Permit{To: name, From: other, What: id, Until: now.Add(permitLives)}
		peers = append(peers, Peer{other, h.addresses[other], permit.Sign(h.key, p), h.tracker.Have(id, other)})
	}
	return seeds, peers, nil
}
